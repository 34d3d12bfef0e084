package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"zygos/internal/app"
)

var cmdRegions = &command{
	name: "regions", group: "publish",
	summary: "list regions: kind, place, what they take and hold",
	text:    "Lists the regions of zygos.toml with the number of versions and the bytes placed in each.",
	example: "zygos regions",
	run:     opened(app.Lenient, runRegions),
}

func runRegions(ctx context.Context, in *invocation, a *app.App) error {
	list, err := a.Regions(ctx)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(list)
	}
	if len(list) == 0 {
		in.note("zygos.toml has no region; add [region.NAME] with kind = \"folder\" and path = \"…\"")
		return nil
	}
	var rows [][]string
	for _, r := range list {
		takes := "all"
		if len(r.Formats) > 0 {
			takes = strings.Join(r.Formats, ", ")
		}
		rows = append(rows, []string{r.Region, r.Kind, r.Path, takes, fmt.Sprint(r.Versions), mib(r.Bytes)})
	}
	return in.columns([]string{"REGION", "KIND", "PATH", "TAKES", "VERSIONS", "SIZE"}, rows)
}

var cmdLocate = &command{
	name: "locate", group: "publish", args: "REF --region REGION", least: 1, most: 1,
	summary: "print the id of a version in a region, for a deploy job",
	text: `Prints nothing but the id, so that a script can take it as it is; --json adds location and
digest. Where a region holds several artifacts of the version, --variant, --name and --format choose.`,
	example: "zygos locate turbine-link@stable --region north-sound\nID=$(zygos locate turbine-link@stable --region north-sound --quiet)",
	flags:   func() flags { return &locateFlags{} },
	run:     opened(app.Lenient, runLocate),
}

// locateFlags are those of locate.
type locateFlags struct {
	region  string
	format  string
	name    string
	variant string
}

func (f *locateFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.region, "region", "", "the region, `NAME`")
	fs.StringVar(&f.format, "format", "", "the artifact's `FORMAT`")
	fs.StringVar(&f.name, "name", "", "the artifact called `NAME`")
	fs.StringVar(&f.variant, "variant", "", "the artifact's variant, `NAME`")
}

func (f *locateFlags) request(ref string) app.LocateRequest {
	return app.LocateRequest{Ref: ref, Region: f.region, Variant: f.variant, Name: f.name, Format: f.format}
}

func runLocate(ctx context.Context, in *invocation, a *app.App) error {
	f := in.flags.(*locateFlags)
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
