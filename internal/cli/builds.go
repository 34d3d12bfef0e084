package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/record"
	"zygos/internal/words"
)

var cmdBuilds = &command{
	name: "builds", group: "build", args: "[IMAGE]", most: 1,
	summary: "list builds, newest first: state, duration, who, why",
	text:    "Lists the last 30 builds, of all images or of one; --all lists every one.",
	example: "zygos builds\nzygos builds turbine-link --all",
	flags:   func() flags { return &buildsFlags{} },
	run:     opened(app.Lenient, runBuilds),
}

// buildsFlags are those of builds.
type buildsFlags struct {
	all bool
}

func (f *buildsFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.all, "all", false, "list every build")
}

func runBuilds(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*buildsFlags)
	image := ""
	if len(in.args) > 0 {
		image = in.args[0]
	}
	most := 30
	if f.all {
		most = 0
	}
	list, total, err := a.Builds(ctx, image, most)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(append([]catalog.Build{}, list...))
	}
	if total == 0 {
		in.note("no builds yet")
		in.next("zygos build IMAGE")
		return nil
	}
	pg := in.page()
	words.Builds(pg, list)
	if err := in.show(pg); err != nil {
		return err
	}
	if total > len(list) {
		in.note("%d more; --all lists them", total-len(list))
	}
	if list[0].State == catalog.Running {
		in.next(fmt.Sprintf("zygos log %s --follow · zygos cancel %s", list[0].ID, list[0].ID))
	} else {
		in.next("zygos log " + list[0].ID)
	}
	return nil
}

var cmdLog = &command{
	lines: true,
	name:  "log", group: "build", args: "BUILD", least: 1, most: 1,
	summary: "show a build's log, by stage, step and stream, with times",
	text: `BUILD is a build's id, or an image for its newest build. Times count from the build's start.
--follow goes on until a running build ends. --steps shows a table of what each step was
given, how long it took and how much it printed. Of a step that prints more than 4 MiB, the
head and the tail are kept, and a line says how much lay between.`,
	example: "zygos log turbine-link\nzygos log turbine-link --stage link --stream err\nzygos log turbine-link --follow\nzygos log " +
		"turbine-link --steps",
	flags: func() flags { return &logFlags{} },
	run:   opened(app.Lenient, runLog),
}

// logFlags are those of log.
type logFlags struct {
	stage   string
	step    string
	stream  string
	variant string
	follow  bool
	steps   bool
}

func (f *logFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.stage, "stage", "", "only the stage `NAME`")
	fs.StringVar(&f.step, "step", "", "only the step `NAME`, for instance scripts/install.sh")
	fs.StringVar(&f.stream, "stream", "", "only what steps printed to `out or err`")
	fs.StringVar(&f.variant, "variant", "", "only the variant `NAME`")
	fs.BoolVar(&f.follow, "follow", false, "go on until the build ends")
	fs.BoolVar(&f.steps, "steps", false, "a table of the steps")
}

const clock = 11 // characters of a time in a log

func runLog(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*logFlags)
	if s := f.stream; s != "" && s != "out" && s != "err" {
		return wrongUse("--stream is %q; choose out or err", s)
	}
	b, err := a.FindBuild(ctx, in.args[0])
	if err != nil {
		return err
	}
	width := 0
	if img, err := a.Image(b.Image); err == nil {
		for _, variant := range img.VariantNames() {
			width = max(width, len(variant))
		}
	}
	shown, all := 0, 0
	var steps []record.Event
	digests := map[string]string{}
	err = a.Log(ctx, b, f.follow, func(e record.Event) error {
		all++
		stage, step := e.Place()
		for _, c := range [][2]string{{f.stage, stage}, {f.step, step}, {f.stream, streamOf(e.What)}, {f.variant, e.Variant}} {
			if c[0] != "" && c[0] != c[1] {
				return nil
			}
		}
		shown++
		switch {
		case f.steps:
			at := e.Variant + "\n" + stage + "\n" + step
			switch w := e.What.(type) {
			case record.StepBegan:
				digests[at] = w.Digest
			case record.StepDone:
				w.Digest = digests[at]
				e.What = w
				steps = append(steps, e)
			}
		case in.json:
			return in.jsonLine(e)
		default:
			who := words.Label(e, false)
			if who != "" {
				who = fmt.Sprintf("%-*s", width, who)
			}
			if text := in.page().Event(e, who); text != "" {
				text = strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", clock+1)) // below the time
				_, err := fmt.Fprintf(in.out, "%s %s\n", in.paint(words.Faint, fmt.Sprintf("%*s", clock, "+"+human(e.Time.Sub(b.Started)))), text)
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if f.steps {
		return in.steps(steps)
	}
	if shown == 0 && all > 0 {
		return fmt.Errorf("nothing in the log of %s is from there; 'zygos log %s --steps' lists its stages and steps", b.ID, b.ID)
	}
	if in.json || f.follow {
		return nil
	}
	switch b.State {
	case catalog.Running:
		in.next(fmt.Sprintf("zygos log %s --follow", b.ID))
	case catalog.Failed:
		in.next(fmt.Sprintf("zygos enter %s   a shell where it failed", b.ID))
	case catalog.Registered:
		in.next(fmt.Sprintf("zygos show %s@%s", b.Image, b.Version))
	}
	return nil
}

// streamOf is the stream that a step printed to, "" for what was not printed.
func streamOf(w record.What) string {
	switch w := w.(type) {
	case record.Output:
		return w.Stream
	case record.Cut:
		return w.Stream
	}
	return ""
}

// steps writes a table of steps, or a line of JSON for each.
func (in *invocation) steps(list []record.Event) error {
	if !in.json {
		pg := in.page()
		words.Steps(pg, list)
		return in.show(pg)
	}
	for _, e := range list {
		if err := in.jsonLine(e); err != nil {
			return err
		}
	}
	return nil
}
