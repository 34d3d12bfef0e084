package cli

import (
	"context"
	"flag"
	"fmt"

	"zygos/internal/app"
	"zygos/internal/compare"
	"zygos/internal/words"
)

var cmdDiff = &command{
	name: "diff", group: "keep", args: "REF REF", least: 2, most: 2,
	inside:  true,
	summary: "what differs between two versions: files, packages, users, services, sizes",
	text: `Compares the trees of two versions, or of two builds, from their layers: files added, removed
and changed (content, mode, owner), packages (dpkg, apk, RPM), users, groups, services that start,
what configuration says about listening. --stage compares what a stage left. Shows the first
names of each; --all shows all, --path those below a folder, --file the text of one file.`,
	example: "zygos diff turbine-link@2.3.0 turbine-link\nzygos diff turbine-link@stable turbine-link --file /etc/ebbline/site\nzygos " +
		"diff ebb-base@1.4.0 ebb-base@1.4.1 --path /etc --all",
	flags: func() flags { return &diffFlags{} },
	run:   opened(app.Lenient, runDiff),
}

// diffFlags are those of diff.
type diffFlags struct {
	all     bool
	path    string
	file    string
	stage   string
	variant string
}

func (f *diffFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.all, "all", false, "every name")
	fs.StringVar(&f.path, "path", "", "only files at or below `PATH`")
	fs.StringVar(&f.file, "file", "", "the text of the file `PATH`, line by line")
	fs.StringVar(&f.stage, "stage", "", "the trees after the stage `NAME`")
	fs.StringVar(&f.variant, "variant", "", "of the variant `NAME`")
}

func runDiff(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*diffFlags)
	was, err := a.Side(ctx, in.args[0], f.variant, f.stage)
	if err != nil {
		return err
	}
	now, err := a.Side(ctx, in.args[1], f.variant, f.stage)
	if err != nil {
		return err
	}
	if f.file != "" {
		return in.diffText(was, now)
	}
	d := compare.TreesOf(was, now, f.path)
	return in.answer(d, func(pg *words.Page) { words.Diff(pg, d, f.all) })
}

// diffText shows what differs in one file.
func (in *invocation) diffText(was, now *compare.Side) error {
	f := in.flags.(*diffFlags)
	name, text, err := compare.File(was, now, f.file)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]string{"path": "/" + name, "diff": text})
	}
	if text == "" {
		_, err := fmt.Fprintf(in.out, "/%s is the same in %s and %s\n", name, was.Name, now.Name)
		return err
	}
	pg := in.page()
	words.Unified(pg, text)
	return in.show(pg)
}
