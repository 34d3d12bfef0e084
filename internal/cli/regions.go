package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
)

var cmdRegions = &command{
	name: "regions", group: "publish",
	summary: "list regions: kind, place, what they take and hold",
	text:    "Lists the regions of zygos.toml with the number of versions and the bytes placed in each.",
	example: "zygos regions",
	run:     opened(lenient, runRegions),
}

// regionLine is a region as regions writes it.
type regionLine struct {
	Region  string   `json:"region"`
	Kind    string   `json:"kind"`
	Path    string   `json:"path"`
	Formats []string `json:"formats"`
	catalog.Holding
}

func runRegions(ctx context.Context, in *invocation, p *place) error {
	held, err := p.catalog.Holdings(ctx)
	if err != nil {
		return err
	}
	list := []regionLine{}
	var rows [][]string
	for _, r := range p.Org.Regions {
		line := regionLine{r.Name, r.Kind, r.Path, append([]string{}, r.Formats...), held[r.Name]}
		list = append(list, line)
		takes := "all"
		if len(r.Formats) > 0 {
			takes = strings.Join(r.Formats, ", ")
		}
		rows = append(rows, []string{r.Name, r.Kind, r.Path, takes, fmt.Sprint(line.Versions), mib(line.Bytes)})
	}
	if in.json {
		return in.writeJSON(list)
	}
	if len(rows) == 0 {
		in.note("zygos.toml has no region; add [region.NAME] with kind = \"folder\" and path = \"…\"")
		return nil
	}
	return in.columns([]string{"REGION", "KIND", "PATH", "TAKES", "VERSIONS", "SIZE"}, rows)
}

var cmdLocate = &command{
	name: "locate", group: "publish", args: "REF --region REGION", least: 1, most: 1,
	summary: "print the id of a version in a region, for a deploy job",
	text: `Prints nothing but the id, so that a script can take it as it is; --json adds location and
digest. Where a region holds several formats of the version, --format chooses.`,
	example: "zygos locate turbine-link@stable --region north-sound\nID=$(zygos locate turbine-link@stable --region north-sound --quiet)",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.StringVar(&in.set.region, "region", "", "the region, `NAME`")
		fs.StringVar(&in.set.format, "format", "", "the artifact's `FORMAT`")
		fs.StringVar(&in.set.variant, "variant", "", "the artifact's variant, `NAME`")
	},
	run: opened(lenient, runLocate),
}

func runLocate(ctx context.Context, in *invocation, p *place) error {
	names := p.Org.RegionNames()
	if in.set.region == "" {
		return wrongUse("name the region: zygos locate %s --region NAME; regions are %s", in.args[0], strings.Join(names, ", "))
	}
	v, err := p.resolve(ctx, in.args[0])
	if err != nil {
		return err
	}
	if err := v.Usable(); err != nil {
		return err
	}
	list, err := p.catalog.Placements(ctx, v.Image, v.Version, in.set.region)
	if err != nil {
		return err
	}
	var formats []string
	for _, pl := range list {
		formats = append(formats, shape(pl.Variant, pl.Format))
	}
	list = slices.DeleteFunc(list, func(pl catalog.Placement) bool {
		return (in.set.format != "" && pl.Format != in.set.format) || (in.set.variant != "" && pl.Variant != in.set.variant)
	})
	switch {
	case len(list) == 1:
	case len(list) > 1:
		return wrongUse("%s holds %s as %s; choose one with --format or --variant", in.set.region, v.Ref(), strings.Join(formats, ", "))
	case len(formats) > 0:
		return fmt.Errorf("%s holds %s as %s, not as %s", in.set.region, v.Ref(), strings.Join(formats, ", "), strings.TrimSpace(in.set.variant+" "+in.set.format))
	case !slices.Contains(names, in.set.region):
		return fmt.Errorf("region %q is not in zygos.toml; regions are %s", in.set.region, strings.Join(names, ", "))
	default:
		return &incompleteError{fmt.Sprintf("%s is not in %s; place it there: zygos publish %s --region %s", v.Ref(), in.set.region, v.Ref(), in.set.region)}
	}
	if in.json {
		return in.writeJSON(list[0])
	}
	_, err = fmt.Fprintln(in.out, list[0].ID)
	in.note("%s %s in %s: %s", v.Ref(), shape(list[0].Variant, list[0].Format), list[0].Region, list[0].Location)
	return err
}
