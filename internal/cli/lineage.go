package cli

import (
	"context"
	"flag"
	"slices"

	"zygos/internal/app"
	"zygos/internal/family"
	"zygos/internal/words"
)

var cmdLineage = &command{
	name: "lineage", group: "keep", args: "REF", least: 1, most: 1,
	summary: "draw a version's family: what it was built on, what was built on it",
	text: `Ancestors above, descendants below, each with its tags, whether it is recalled and, if it is
the newest of its image, whether that is due. --depth limits how many generations. --svg writes
a picture, --html a page with the picture and a table.`,
	example: "zygos lineage ebb-base\nzygos lineage turbine-link@stable --depth 1\nzygos lineage ebb-base --html > family.html",
	flags:   func() flags { return &lineageFlags{} },
	run:     opened(app.Lenient, runLineage),
}

// lineageFlags are those of lineage.
type lineageFlags struct {
	depth int
	svg   bool
	html  bool
}

func (f *lineageFlags) declare(fs *flag.FlagSet) {
	fs.IntVar(&f.depth, "depth", 0, "at most `N` generations each way; default all")
	fs.BoolVar(&f.svg, "svg", false, "write a picture")
	fs.BoolVar(&f.html, "html", false, "write a page")
}

func runLineage(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*lineageFlags)
	if f.svg && f.html || in.json && (f.svg || f.html) {
		return wrongUse("choose one of --svg, --html and --json")
	}
	if f.depth < 0 {
		return wrongUse("--depth is %d; give 1 or more, or leave it out for all", f.depth)
	}
	v, list, err := a.Lineage(ctx, in.args[0], f.depth)
	if err != nil {
		return err
	}
	switch {
	case in.json:
		return in.writeJSON(list)
	case f.svg:
		return app.Picture(v, list).SVG(raw(in.out))
	case f.html:
		return app.Picture(v, list).HTML(raw(in.out))
	}
	pg := in.page()
	words.Lineage(pg, v.Ref(), list)
	if slices.ContainsFunc(list, func(r family.Member) bool { return r.Due != "" }) {
		pg.Next("zygos build --due")
	} else {
		pg.Next("zygos show " + v.Ref())
	}
	return in.show(pg)
}
