package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/artifact"
	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/feed"
	"zygos/internal/plan"
	"zygos/internal/workspace"
)

var cmdBases = &command{
	name: "bases", group: "define", args: "[BASE…]", most: -1,
	summary: "list bases: where they come from, how far they have come, their digest",
	text: `States: ready (unpacked, builds start at once), downloaded (in the store), present (a file
at hand), remote (to be downloaded), missing, not asked. --fetch downloads and verifies now
what a build would fetch later. --refresh asks the feeds of bases that are found by rule, as
a build does; --accept then takes what a feed had listed otherwise before.`,
	example: "zygos bases\nzygos bases --fetch\nzygos bases --refresh",
	flags:   func() flags { return &basesFlags{} },
	run:     opened(app.Strict, runBases),
}

// basesFlags are those of bases.
type basesFlags struct {
	fetch, refresh, accept bool
}

func (f *basesFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.fetch, "fetch", false, "download and verify now")
	fs.BoolVar(&f.refresh, "refresh", false, "ask the feeds which release is the newest")
	fs.BoolVar(&f.accept, "accept", false, "with --refresh: take what went back, or has other bytes than before")
}

func runBases(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*basesFlags)
	if f.accept && !f.refresh {
		return wrongUse("--accept goes with --refresh: zygos bases --refresh --accept BASE")
	}
	l := in.follow(a)
	defer l.end()
	var answers []feed.Answer
	var failed error
	if f.refresh {
		answers, failed = a.Refresh(ctx, in.args, f.accept)
	}
	list, err := a.Bases(ctx, in.args, f.fetch)
	if err != nil {
		return cmp.Or(failed, err)
	}
	l.end()
	if in.json {
		return errors.Join(failed, in.writeJSON(list))
	}
	if err := in.writeBases(list); err != nil {
		return err
	}
	in.answered(answers)
	for _, b := range list {
		if b.State == base.Missing {
			in.note("base %s is nowhere to be had; correct [base.%s] from = […] in zygos.toml", b.Name, b.Name)
		}
	}
	switch {
	case slices.ContainsFunc(list, func(b app.Base) bool { return b.State == base.Unasked }) && !f.refresh:
		in.next("zygos bases --refresh")
	case len(a.Images) > 0 && failed == nil:
		in.next("zygos preview " + a.Images[0].Name)
	}
	return failed
}

func (in *invocation) writeBases(list []app.Base) error {
	var rows, found [][]string
	for _, b := range list {
		rows = append(rows, []string{b.Name, dash(b.Release), b.State, dash(short(b.Digest)), b.From,
			dash(strings.Join(b.Used, ", "))})
		if f := b.Found; f != nil {
			asked := "never"
			if !f.Asked.IsZero() {
				asked = age(f.Asked) + " ago"
			}
			found = append(found, []string{b.Name, f.Rule, dash(f.Newer), asked, f.Feed})
		}
	}
	err := in.columns([]string{"BASE", "RELEASE", "STATE", "SHA256", "FROM", "USED BY"}, rows)
	if err == nil && found != nil {
		fmt.Fprintln(in.out)
		err = in.columns([]string{"BASE", "WANTED", "NEWER", "ASKED", "FEED"}, found)
	}
	return err
}

// answered tells what feeds say that is new, or not as it should be.
func (in *invocation) answered(list []feed.Answer) {
	for _, a := range list {
		if a.Doubt != "" {
			in.note("note: %s", a.Doubt)
		}
		if a.Do != "" {
			in.note("      if the publisher says that this is right: %s", a.Do)
		}
		if a.Was != "" {
			in.note("Base %s is now %s, it was %s", a.Base, a.Release, a.Was)
		}
	}
}

// foundBy says how a base was found.
func foundBy(f *plan.Found) string {
	text := fmt.Sprintf("%s in %s, asked %s ago", f.Rule, f.Feed, age(f.Asked))
	if f.Newer != "" {
		text += "; newer is " + f.Newer
	}
	if f.Gone {
		text += "; it is not listed so any more"
	}
	return text
}

var cmdLint = &command{
	name: "lint", group: "define",
	summary: "check all definitions and say what is wrong, where, and what to do",
	text: `Reads zygos.toml, images/*.toml and the shared stages they use, and reports every problem
at once as file:line:column. Ends with 3 if there is any.`,
	example: "zygos lint\nzygos lint --json",
	run: func(_ context.Context, in *invocation) error {
		w, err := in.load()
		if err != nil {
			return err
		}
		stages := 0
		for _, img := range w.Images {
			stages += len(img.Stages)
		}
		warnings, err := w.Warnings()
		if err != nil {
			return err
		}
		if in.json {
			return in.writeJSON(map[string]any{"problems": []string{}, "warnings": append(definition.Problems{}, warnings...),
				"images": len(w.Images), "stages": stages,
				"bases": len(w.Org.Bases), "regions": len(w.Org.Regions)})
		}
		for _, p := range warnings {
			fmt.Fprintf(in.out, "%s: %s %s; %s\n", in.paint(bold, p.Pos.String()), in.paint(amber, "warning:"), p.What, p.Do)
		}
		_, err = fmt.Fprintf(in.out, "No problem in %s: %s, %s, %s, %s\n", w.Root, counted(len(w.Images), "image"),
			counted(stages, "stage"), counted(len(w.Org.Bases), "base"), counted(len(w.Org.Regions), "region"))
		in.next("zygos preview")
		return err
	},
}

var cmdScripts = &command{
	name: "scripts", group: "define", args: "[WORD…]", most: -1,
	summary: "list the script library: what each script does, needs, and who uses it",
	text: `Lists every file below scripts/, and scripts that stages name elsewhere: the first line of
comment, what a line "# needs: WORD, WORD" declares, and the images and stages that use it.
With words, those scripts in whose path, summary, needs or users each word occurs.`,
	example: "zygos scripts\nzygos scripts harden\nzygos scripts turbine-link --json",
	run: func(_ context.Context, in *invocation) error {
		w, err := in.load()
		var problems definition.Problems
		if err != nil && !errors.As(err, &problems) {
			return err
		}
		scripts, err := w.Scripts()
		if err != nil {
			return err
		}
		list := []workspace.Script{}
		for _, s := range scripts {
			if s.Matches(in.args) {
				list = append(list, s)
			}
		}
		if in.json {
			return in.writeJSON(list)
		}
		if len(list) == 0 {
			in.note("no script matches; 'zygos scripts' lists all %d", len(scripts))
			return nil
		}
		var rows [][]string
		for _, s := range list {
			rows = append(rows, []string{s.Path, dash(s.Summary), dash(strings.Join(s.Needs, ", ")), usersOf(s)})
		}
		return in.columns([]string{"SCRIPT", "WHAT IT DOES", "NEEDS", "USED BY"}, rows)
	},
}

// usersOf lists the stages that use a script, by image.
func usersOf(s workspace.Script) string {
	var parts []string
	for i, u := range s.Users {
		if i > 0 && s.Users[i-1].Image == u.Image {
			parts[len(parts)-1] += ", " + u.Stage
			continue
		}
		parts = append(parts, u.Image+": "+u.Stage)
	}
	return dash(strings.Join(parts, "; "))
}

var cmdPreview = &command{
	name: "preview", group: "define", args: "[IMAGE…]", most: -1,
	summary: "show what a build would do, and why, without doing it",
	text: `Shows in order: the base pinned to a digest, each stage with its steps and whether it would
be reused or run, and why, sealing, the version it would get, artifacts and regions. Without
IMAGE, all images. --against shows instead what differs between the definition and the one
that a version was built from: base, inputs, and every file that went in.`,
	example: "zygos preview turbine-link\nzygos preview turbine-link --set site=south\nzygos preview turbine-link --against " +
		"turbine-link@stable",
	flags: func() flags { return &previewFlags{} },
	run:   opened(app.Each, runPreview),
}

// previewFlags are those of preview.
type previewFlags struct {
	planFlags
	against string
}

func (f *previewFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.force, "force", false, "as for a build with --force")
	fs.StringVar(&f.against, "against", "", "compare with the version `REF`")
	f.planFlags.declare(fs)
}

func runPreview(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*previewFlags)
	names := in.args
	if len(names) == 0 {
		for _, img := range a.Images {
			names = append(names, img.Name)
		}
	}
	o, err := f.options(a, names)
	if err != nil {
		return err
	}
	if f.against != "" {
		return in.against(ctx, a, o)
	}
	plans := []*plan.Plan{}
	for i, name := range names {
		made, err := a.Preview(ctx, name, o)
		if err != nil && len(in.args) == 0 && !in.json {
			// One image whose parent is not built yet must not hide the others.
			if i > 0 {
				fmt.Fprintln(in.out)
			}
			fmt.Fprintf(in.out, "%s  cannot be planned yet: %s\n", in.paint(bold, name), err)
			continue
		}
		if err != nil {
			return err
		}
		plans = append(plans, made)
		if !in.json {
			if i > 0 {
				fmt.Fprintln(in.out)
			}
			in.writePlan(made)
		}
	}
	if in.json {
		return in.writeJSON(plans)
	}
	if len(in.args) == 1 {
		in.next("zygos build " + in.args[0])
	}
	return nil
}

func (in *invocation) writePlan(p *plan.Plan) {
	head := in.paint(bold, p.Image+" "+p.Version)
	if p.Unchanged != "" {
		fmt.Fprintf(in.out, "%s  is up to date: nothing changed since it was built\n", head)
	} else {
		fmt.Fprintf(in.out, "%s  would be built\n", head)
	}
	row := func(word, text string) {
		fmt.Fprintln(in.out, strings.TrimRight(fmt.Sprintf("  %-8s %s", word, text), " "))
	}
	row("base", fmt.Sprintf("%s@%s  sha256:%s", p.Base.Name, p.Base.Version, short(p.Base.Digest)))
	if p.Base.Found != nil {
		row("", foundBy(p.Base.Found))
	}
	for _, shape := range p.Shapes {
		if shape.Variant != "" {
			row("variant", in.paint(bold, shape.Variant))
		}
		in.writeShape(&shape, row)
	}
	if len(p.Keep) > 0 {
		row("seal", "all but "+strings.Join(p.Keep, ", "))
	} else {
		row("seal", "identity, keys, logs, caches and leftovers")
	}
	row("regions", dash(strings.Join(p.Regions, ", ")))
	if len(p.Assumed) > 0 {
		in.note("note: %s from a command, which only a build runs; taken as at the last build", areOrIs(p.Assumed))
	}
}

func (in *invocation) writeShape(shape *plan.Shape, row func(word, text string)) {
	for _, s := range shape.Stages {
		state := in.paint(amber, "will run") + ": " + s.Reason
		if s.Reuse != nil {
			state = in.paint(green, "reused") + fmt.Sprintf(" from %s, %s old", s.Reuse.Build, age(s.Reuse.Created))
		}
		row("stage", fmt.Sprintf("%-16s %s", s.Name, state))
		for _, step := range s.Steps {
			text := "run  " + step.Name
			switch {
			case step.Copy == nil:
			case len(step.Files) == 1:
				text = fmt.Sprintf("%s -> %s  %s %s", step.Name, step.To, step.Files[0].Mode, step.Owner)
			default:
				text = fmt.Sprintf("%s -> %s  %s, %s", step.Name, step.To, counted(len(step.Files), "entry"), step.Owner)
			}
			row("", "  "+text)
		}
		for _, m := range s.Secrets {
			row("", fmt.Sprintf("  with secret %s, as $%s and /run/zygos/secrets/%s", m.Name, m.Variable, m.Name))
		}
	}
	for _, c := range shape.Checks {
		what := counted(len(c.Expect), "expectation")
		if len(c.Steps) > 0 {
			what = c.Steps[0].Name
		}
		if c.Warn {
			what += ", only warns"
		}
		row("check", fmt.Sprintf("%-16s %s", c.Name+":", what))
	}
	for _, a := range shape.Artifacts {
		size := ""
		if f := artifact.Find(a.Format); f != nil && f.Takes("size") {
			size = "smallest size that holds the tree, and a margin"
			if a.Size > 0 {
				size = mib(a.Size)
			}
		}
		for _, p := range a.Says.Parts() {
			size += fmt.Sprintf(", %s %s", p.Name, mib(p.Bytes))
			if p.Mount != "" {
				size += " on /" + p.Mount
			}
		}
		row("artifact", fmt.Sprintf("%-16s %s", artifact.Key{Name: a.Name, Format: a.Format}, size))
	}
}

// against shows what differs between a definition and the one that a version was built from.
func (in *invocation) against(ctx context.Context, a *app.Session, o plan.Options) error {
	f := in.flags.(*previewFlags)
	if len(in.args) > 1 {
		return wrongUse("--against compares one image; name one")
	}
	d, err := a.Against(ctx, f.against, strings.Join(in.args, ""), o)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(d)
	}
	if len(d.Changes)+len(d.Files) == 0 {
		_, err = fmt.Fprintf(in.out, "The definition of %s is the one that %s was built from\n", d.Image, d.Against)
		return err
	}
	fmt.Fprintf(in.out, "%s against the definition that %s was built from\n", in.paint(bold, d.Image), d.Against)
	for _, c := range d.Changes {
		fmt.Fprintf(in.out, "  %s\n", c)
	}
	for _, f := range d.Files {
		fmt.Fprintf(in.out, "  %-8s %s\n", f.State, f.Path)
	}
	for _, f := range d.Files {
		fmt.Fprintln(in.out)
		if f.Diff == "" {
			fmt.Fprintf(in.out, "%s: no text to compare\n", f.Path)
		}
		in.writeUnified(f.Diff)
	}
	in.next("zygos preview " + d.Image)
	return nil
}

// writeUnified writes a comparison line by line.
func (in *invocation) writeUnified(text string) {
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
			line = in.paint(bold, line)
		case strings.HasPrefix(line, "+"):
			line = in.paint(green, line)
		case strings.HasPrefix(line, "-"):
			line = in.paint(red, line)
		}
		fmt.Fprintln(in.out, line)
	}
}

var cmdNew = &command{
	name: "new", group: "start", args: "DIR, or image NAME --from OTHER", least: 1, most: 2,
	summary: "make a small workspace that builds at once; inside one, a new image from another",
	text: `'zygos new DIR' writes a workspace with a small base, one image and one region. To use your
own base, put a root archive (.tar, .tar.gz, .tar.zst or .tar.xz) into DIR/bases and name it
with its sha256sum in zygos.toml. 'zygos new image NAME --from OTHER' copies a definition.`,
	example: "zygos new golden\nzygos new image tide-desk-lite --from tide-desk",
	flags:   func() flags { return &newFlags{} },
	run: func(_ context.Context, in *invocation) error {
		if in.args[0] == "image" && len(in.args) == 2 {
			return in.newImage(in.args[1])
		}
		if len(in.args) != 1 || in.flags.(*newFlags).from != "" {
			return wrongUse("write 'zygos new DIR', or 'zygos new image NAME --from OTHER'")
		}
		return in.newWorkspace(in.args[0])
	},
}

// newFlags are those of new.
type newFlags struct {
	from string
}

func (f *newFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.from, "from", "", "copy the definition of image `OTHER`")
}

func (in *invocation) newImage(name string) error {
	f := in.flags.(*newFlags)
	w, err := in.load()
	if err != nil {
		return err
	}
	if f.from == "" {
		return wrongUse("name the image to start from: zygos new image %s --from OTHER", name)
	}
	to, err := app.NewImage(w, name, f.from)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]string{"image": name, "file": to, "from": f.from})
	}
	fmt.Fprintf(in.out, "Wrote %s, a copy of images/%s.toml\n", to, f.from)
	in.next(fmt.Sprintf("edit %s, then zygos preview %s", to, name))
	return nil
}

// areOrIs is "input a comes" or "inputs a, b come".
func areOrIs(inputs []string) string {
	if len(inputs) == 1 {
		return "input " + inputs[0] + " comes"
	}
	return "inputs " + strings.Join(inputs, ", ") + " come"
}
