package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"zygos/internal/app"
	"zygos/internal/manifest"
	"zygos/internal/words"
)

var cmdRegions = &command{
	name: "regions", group: "publish",
	summary: "list regions: kind, place, what they take and hold",
	text: `Lists the regions of zygos.toml with the number of versions and the bytes placed in each. A
folder with mark = true is used only where a marker lies, so that the empty folder of a disk
that is not mounted is not filled; --mark writes it. Each region says in zygos-owner.json which
catalog it belongs to: another one writes nothing there, unless --claim takes the region over.`,
	example: "zygos regions\nzygos regions --mark far-skerry\nzygos regions --claim far-skerry",
	flags:   func() flags { return &regionsFlags{} },
	run:     opened(app.Lenient, runRegions),
}

// regionsFlags are those of regions.
type regionsFlags struct{ mark, claim string }

func (f *regionsFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.mark, "mark", "", "write the marker of the region `NAME`")
	fs.StringVar(&f.claim, "claim", "", "let the region `NAME` belong to this catalog from now on")
}

func runRegions(ctx context.Context, in *invocation, a *app.Session) error {
	if name := in.flags.(*regionsFlags).mark; name != "" {
		err := a.Mark(ctx, name)
		if err == nil {
			in.note("region %s is marked", name)
		}
		return err
	}
	if name := in.flags.(*regionsFlags).claim; name != "" {
		was, err := a.Claim(ctx, name)
		if err != nil {
			return err
		}
		if in.json {
			return in.writeJSON(map[string]any{"region": name, "was": was})
		}
		if was != nil {
			in.note("region %s belonged to the catalog %s of %s", name, was.Catalog, was.Organisation)
		}
		fmt.Fprintf(in.out, "Region %s belongs to this catalog\n", name)
		in.next("zygos verify --region " + name)
		return nil
	}
	list, err := a.Regions(ctx)
	if err != nil {
		return err
	}
	return in.answer(list, func(pg *words.Page) {
		if len(list) == 0 {
			pg.Note("zygos.toml has no region; add [region.NAME] with kind = \"folder\" and path = \"…\"")
			return
		}
		words.Regions(pg, list)
	})
}

var cmdLocate = &command{
	name: "locate", group: "publish", args: "REF --region REGION", least: 1, most: 1,
	summary: "print the id of a version in a region, for a deploy job",
	text: `Prints nothing but the id, so that a script can take it as it is; --json adds location and
digest. Where a region holds several artifacts of the version, --variant, --name and --format choose.
--index asks the index that lies in a region, and needs neither workspace nor catalog; --all
lists all regions, with --env as KEY=value lines. A version that is recalled ends with 5, one
that is not there with 6.`,
	example: "zygos locate turbine-link@stable --region north-sound\nID=$(zygos locate turbine-link@stable --region north-sound --quiet)\n" +
		"zygos locate turbine-link@stable --index regions/north-sound/index.json --variant edge\nzygos locate turbine-link@stable --all --env",
	flags: func() flags { return &locateFlags{} },
	run: func(ctx context.Context, in *invocation) error {
		if f := in.flags.(*locateFlags); f.index != "" {
			return in.locateIn(ctx, f)
		}
		return opened(app.Lenient, runLocate)(ctx, in)
	},
}

// locateFlags are those of locate.
type locateFlags struct {
	chosen
	index    string
	all, env bool
}

func (f *locateFlags) declare(fs *flag.FlagSet) {
	f.chosen.declare(fs)
	fs.StringVar(&f.index, "index", "", "ask a region's index, `FILE` or URL, and nothing else")
	fs.BoolVar(&f.all, "all", false, "list all regions")
	fs.BoolVar(&f.env, "env", false, "with --all: print KEY=value")
}

// chosen are flags that choose an artifact in a region.
type chosen struct{ region, format, name, variant string }

func (f *chosen) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.region, "region", "", "the region, `NAME`")
	fs.StringVar(&f.format, "format", "", "the artifact's `FORMAT`")
	fs.StringVar(&f.name, "name", "", "the artifact called `NAME`")
	fs.StringVar(&f.variant, "variant", "", "the artifact's variant, `NAME`")
}

func (f *chosen) request(ref string) app.LocateRequest {
	return app.LocateRequest{Ref: ref, Region: f.region, Variant: f.variant, Name: f.name, Format: f.format}
}

func runLocate(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*locateFlags)
	if f.all {
		return in.everywhere(ctx, a)
	}
	if f.region == "" {
		return wrongUse("name the region: zygos locate %s --region NAME; regions are %s", in.args[0], strings.Join(a.Org.RegionNames(), ", "))
	}
	v, found, err := a.Locate(ctx, f.request(in.args[0]))
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(found)
	}
	_, err = fmt.Fprintln(in.out, found.ID)
	in.note("%s %s in %s: %s", v.Ref(), found.Key().String(), found.Region, found.Location)
	return err
}

// locateIn asks an index alone.
func (in *invocation) locateIn(ctx context.Context, f *locateFlags) error {
	v, found, err := app.LocateIn(ctx, f.index, f.request(in.args[0]))
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(found)
	}
	_, err = fmt.Fprintln(in.out, found.ID)
	in.note("%s@%s: %s", v.Image, v.Version, found.Location)
	return err
}

// everywhere lists where a version is.
func (in *invocation) everywhere(ctx context.Context, a *app.Session) error {
	v, list, err := a.Everywhere(ctx, in.args[0])
	if err != nil {
		return err
	}
	if in.flags.(*locateFlags).env && in.json {
		return wrongUse("--env prints lines for a shell, and --json a document; give one of them")
	}
	if in.flags.(*locateFlags).env {
		for _, line := range manifest.For(v, list).Environment() {
			fmt.Fprintln(in.out, line)
		}
		return nil
	}
	return in.answer(list, func(pg *words.Page) { words.Placements(pg, list) })
}
