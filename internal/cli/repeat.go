package cli

import (
	"context"
	"fmt"
	"strings"

	"zygos/internal/app"
	"zygos/internal/plain"
	"zygos/internal/record"
	"zygos/internal/repeat"
)

var cmdRepeat = &command{
	name: "repeat", group: "judge", args: "REF", least: 1, most: 1,
	inside:  true,
	summary: "build a version again from its record and compare bits",
	text: `Builds again what the record of a version says, with its definition, scripts and files as they
were, in a state of its own and without reusing any stage, and compares all bits. If they differ
it names the first stage that does, the files, and in which way: times, order, random values, a
date, another version of a package. The result is kept with the version; a difference ends with
4. What the clock of one day hides, a date without a time say, shows only on another day.`,
	example: "zygos repeat turbine-link@2.3.0",
	run:     opened(app.Each, runRepeat),
}

func runRepeat(ctx context.Context, in *invocation, a *app.Session) error {
	l := in.live()
	a.Watch = func(e record.Event) {
		switch w := e.What.(type) {
		case record.StageBegan:
			stage, _ := w.Place()
			l.show("", strings.TrimSpace(e.Variant+" "+stage), 0, 0)
		case record.Progress:
			l.show("", w.Doing, w.Done, w.Total)
		}
	}
	v, o, err := a.Repeat(ctx, in.args[0])
	l.end()
	switch {
	case o == nil:
		return err
	case in.json:
		if e := in.writeJSON(o); e != nil {
			return e
		}
	case o.Identical:
		fmt.Fprintf(in.out, "%s comes out the same, bit for bit: %s, in %s\n", v.Ref(), counted(len(o.Artifacts), "artifact"), human(o.Took))
		if o.Stage != "" {
			in.note("stage %s came out different, in what no artifact holds: %s", o.Stage, someFiles(o))
		}
	default:
		in.differs(v.Ref(), o.Variant, o.Stage)
		for _, d := range o.Files {
			fmt.Fprintf(in.out, "  %-8s %s %s\n", d.State, plain.Text(d.Path), strings.Join(d.What, ", "))
			if d.How != "" {
				fmt.Fprintf(in.out, "           %s\n", d.How)
			}
		}
		if o.More > 0 {
			fmt.Fprintf(in.out, "  and %d names more\n", o.More)
		}
		if o.Times {
			fmt.Fprintf(in.out, "  times of files alone differ: a script sets them, with touch or a copy that keeps them\n")
		}
		for _, f := range o.Artifacts {
			if f.Was != f.Now {
				fmt.Fprintf(in.out, "  artifact %s was %.19s… and is %.19s…\n", f.Artifact, f.Was, dash(f.Now))
			}
		}
	}
	if err != nil {
		return err
	}
	if !o.Identical {
		return &exitError{exitScript}
	}
	in.next("zygos show " + v.Ref())
	return nil
}

// someFiles names the first files that differ.
func someFiles(o *repeat.Outcome) string {
	var names []string
	for _, d := range o.Files[:min(3, len(o.Files))] {
		names = append(names, plain.Text(d.Path))
	}
	if more := len(o.Files) - len(names) + o.More; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names, ", "), more)
	}
	return strings.Join(names, ", ")
}

// differs says where a version that was built again first differs.
func (in *invocation) differs(ref, variant, stage string) {
	where := "stage " + stage
	if stage == "capture" {
		where = "the capture: the trees are the same"
	}
	if variant != "" {
		where += " of variant " + variant
	}
	fmt.Fprintf(in.out, "%s comes out %s, first in %s\n", ref, in.paint(red, "different"), where)
}
