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
	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/feed"
	"zygos/internal/plan"
	"zygos/internal/words"
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
	pg := in.page()
	words.Bases(pg, list)
	if err := in.show(pg); err != nil {
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
			fmt.Fprintf(in.out, "%s: %s %s; %s\n", in.paint(words.Bold, p.Pos.String()), in.paint(words.Amber, "warning:"), p.What, p.Do)
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
		return in.answer(list, func(pg *words.Page) { words.Scripts(pg, list) })
	},
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
			fmt.Fprintf(in.out, "%s  cannot be planned yet: %s\n", in.paint(words.Bold, name), err)
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
			pg := in.page()
			words.Plan(pg, made)
			if err := in.show(pg); err != nil {
				return err
			}
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
	return in.answer(d, func(pg *words.Page) { words.Against(pg, d) })
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
