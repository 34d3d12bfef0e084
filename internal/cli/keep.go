package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/catalog"
)

var cmdShow = &command{
	name: "show", group: "keep", args: "REF", least: 1, most: 1,
	summary: "show a version: where from, what, where",
	text: `REF is IMAGE for its newest version, IMAGE@2.3.1 for exactly one, IMAGE@2.3 for the newest
of a series, or IMAGE@TAG.`,
	example: "zygos show turbine-link\nzygos show turbine-link@stable",
	run:     opened(false, runShow),
}

func runShow(ctx context.Context, in *invocation, p *place) error {
	v, err := p.resolve(ctx, in.args[0])
	if err != nil {
		return err
	}
	placements, err := p.catalog.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return err
	}
	builds, err := p.catalog.Builds(ctx, v.Image)
	if err != nil {
		return err
	}
	moves, err := p.catalog.Moves(ctx, v.Image)
	if err != nil {
		return err
	}
	moves = slices.DeleteFunc(moves, func(m catalog.Move) bool { return m.Version != v.Version && m.Was != v.Version })
	if in.json {
		return in.writeJSON(struct {
			*catalog.Version
			Placements []catalog.Placement `json:"placements"`
			Moves      []catalog.Move      `json:"tag_moves"`
		}{v, append([]catalog.Placement{}, placements...), append([]catalog.Move{}, moves...)})
	}
	rows := [][2]string{{"version", in.paint(bold, v.Ref())}, {"tags", dash(strings.Join(v.Tags, ", "))},
		{"base", fmt.Sprintf("%s@%s  %s", v.BaseName, v.BaseVersion, v.BaseDigest)}, {"created", when(v.Created) + ", " + age(v.Created) + " ago"}}
	if r := v.Recall; r != nil {
		through := ""
		if r.Image != v.Image || r.Version != v.Version {
			through = fmt.Sprintf(" through %s@%s", r.Image, r.Version)
		}
		rows = append(rows, [2]string{"state", in.paint(red, recallWord(v)) + fmt.Sprintf("%s: %s (by %s, from %s)", through, r.Why, r.Who, when(r.Since))})
	}
	for _, b := range builds {
		if b.ID == v.Build {
			text := fmt.Sprintf("%s by %s in %s", b.ID, b.Who, human(b.Ended.Sub(b.Started)))
			if b.Host != "" {
				text += " on " + b.Host
			}
			rows = append(rows, [2]string{"build", text})
			if b.Why != "" {
				rows = append(rows, [2]string{"why", b.Why})
			}
			if b.Commit != "" {
				rows = append(rows, [2]string{"commit", b.Commit})
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(v.Labels)) {
		rows = append(rows, [2]string{"label", name + " = " + v.Labels[name]})
	}
	width := 0
	for _, a := range v.Artifacts {
		width = max(width, len(shape(a.Variant, a.Format)))
	}
	for _, a := range v.Artifacts {
		rows = append(rows, [2]string{"artifact", fmt.Sprintf("%-*s %10s  %s", width, shape(a.Variant, a.Format), mib(a.Bytes), a.Digest)})
	}
	for _, t := range v.Trees {
		for _, name := range slices.Sorted(maps.Keys(t.Labels)) {
			rows = append(rows, [2]string{"label", fmt.Sprintf("%s = %s (variant %s)", name, t.Labels[name], t.Variant)})
		}
		text := counted(len(t.Layers), "layer")
		if t.Files > 0 {
			text = fmt.Sprintf("%s, %s, %s", mib(t.Bytes), counted(t.Files, "name"), text)
		}
		if t.Packages > 0 {
			text += ", " + counted(t.Packages, "package")
		}
		rows = append(rows, [2]string{"tree", strings.TrimSpace(t.Variant + " " + text)})
	}
	family, err := p.catalog.Family(ctx, v.Image, v.Version, 1)
	if err != nil {
		return err
	}
	for _, r := range family {
		if r.Depth == 1 {
			rows = append(rows, [2]string{"child", r.Ref()})
		}
	}
	for _, pl := range placements {
		rows = append(rows, [2]string{"region", fmt.Sprintf("%-12s %-*s  %s  verified %s", pl.Region, width, shape(pl.Variant, pl.Format), pl.ID, when(pl.Verified))})
	}
	for _, m := range moves {
		was := "was unset"
		if m.Was != "" {
			was = "was " + m.Was
		}
		to := m.Version
		if to == "" {
			to = "removed"
		}
		rows = append(rows, [2]string{"tag move", strings.TrimSuffix(fmt.Sprintf("%s -> %s (%s) by %s, %s: %s", m.Tag, to, was, m.Who, when(m.At), m.Why), ": ")})
	}
	in.pairs(rows)
	if len(placements) == 0 && p.publishes(v.Image) {
		in.next("zygos publish " + v.Ref())
	} else {
		in.next("zygos manifest " + v.Ref())
	}
	return nil
}

var cmdRegions = &command{
	name: "regions", group: "publish",
	summary: "list regions: kind, place, what they take and hold",
	text:    "Lists the regions of zygos.toml with the number of versions and the bytes placed in each.",
	example: "zygos regions",
	run: opened(false, func(ctx context.Context, in *invocation, p *place) error {
		placements, err := p.catalog.Placements(ctx, "", "", "")
		if err != nil {
			return err
		}
		return in.writeRegions(ctx, p, placements)
	}),
}

// regionLine is a region as regions writes it.
type regionLine struct {
	Region   string   `json:"region"`
	Kind     string   `json:"kind"`
	Path     string   `json:"path"`
	Formats  []string `json:"formats"`
	Versions int      `json:"versions"`
	Files    int      `json:"files"`
	Bytes    int64    `json:"bytes"`
}

func (in *invocation) writeRegions(ctx context.Context, p *place, placements []catalog.Placement) error {
	versions, err := p.catalog.Versions(ctx, "")
	if err != nil {
		return err
	}
	sizes := map[string]int64{}
	for _, v := range versions {
		for _, a := range v.Artifacts {
			sizes[a.Digest] = a.Bytes
		}
	}
	list := []regionLine{}
	var rows [][]string
	for _, r := range p.Org.Regions {
		line := regionLine{Region: r.Name, Kind: r.Kind, Path: r.Path, Formats: append([]string{}, r.Formats...)}
		held := map[string]bool{}
		for _, pl := range placements {
			if pl.Region == r.Name {
				held[pl.Image+"@"+pl.Version] = true
				line.Files++
				line.Bytes += sizes[pl.Artifact]
			}
		}
		line.Versions = len(held)
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
	run: opened(false, runLocate),
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
