package words

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/record"
)

// Published says what became of versions in regions, an artifact a row.
func Published(pg *Page, list []app.Published) {
	var rows [][]string
	for _, one := range list {
		for _, d := range one.Placed {
			state := "already there, verified"
			switch {
			case d.Error != "":
				state = "FAILED"
			case d.By == artifact.BySize:
				state = map[bool]string{true: "copied, ", false: "already there, "}[d.Copied] + "size checked"
			case d.Copied:
				state = "copied and verified"
			case len(d.Changed) > 0:
				state = "brought into line: " + strings.Join(d.Changed, ", ")
			}
			rows = append(rows, []string{one.Version.Ref(), d.Region, dash(d.Key().String()), dash(d.ID), mib(d.Bytes), human(d.Took), state})
		}
	}
	byVersion(pg, len(list), []string{"VERSION", "REGION", "FORMAT", "ID", "SIZE", "TOOK", "STATE"}, rows)
}

// byVersion adds a table without its first column if there is but one version.
func byVersion(pg *Page, versions int, head []string, rows [][]string) {
	if versions == 1 {
		head = head[1:]
		for i := range rows {
			rows[i] = rows[i][1:]
		}
	}
	pg.Columns(head, rows)
}

// Planned says what a publication would do.
func Planned(pg *Page, list []app.Plan) {
	var rows [][]string
	var bytes int64
	more := false
	for _, plan := range list {
		for i := range plan.Would {
			p := &plan.Would[i]
			if p.Does == record.Copies {
				bytes += p.Bytes
			}
			more = more || p.Does == record.Captures || p.Does == record.Changes
			rows = append(rows, []string{plan.Version.Ref(), p.Region, dash(p.Key().String()), mib(p.Bytes), p.Does, p.Why})
		}
	}
	byVersion(pg, len(list), []string{"VERSION", "REGION", "FORMAT", "SIZE", "WOULD", "WHY"}, rows)
	switch {
	case bytes > 0:
		pg.Note("%s would be copied; nothing was done", mib(bytes))
	case more:
		pg.Note("nothing was done")
	default:
		pg.Note("nothing would be copied")
	}
}

// Removed says what became of the copies of a version that was taken out of regions.
func Removed(pg *Page, list []record.Delivery) {
	var rows [][]string
	for i := range list {
		d, state := &list[i], "removed"
		if d.Error != "" {
			state = "FAILED"
		}
		rows = append(rows, []string{d.Region, d.Key().String(), d.ID, state})
	}
	pg.Columns([]string{"REGION", "FORMAT", "ID", "STATE"}, rows)
}

// Found says what regions hold that is not as it should be, and how much is; how is how it was looked.
func Found(pg *Page, list []publish.Found, how string) {
	var rows [][]string
	for i := range list {
		if f := &list[i]; f.State != publish.Sound {
			rows = append(rows, []string{f.Region, dash(f.Ref()), dash(cmp.Or(f.Key().String(), f.Location)), f.State, f.What})
		}
	}
	if len(rows) > 0 {
		pg.Columns([]string{"REGION", "VERSION", "WHAT", "STATE", "WHY"}, rows)
	}
	n := publish.Count(list)
	pg.Print("%s in %s, %s", counted(n.Sound, "sound placement"), counted(n.Regions, "region"), how)
}

// Regions lists regions with what they take and hold.
func Regions(pg *Page, list []app.Region) {
	var rows [][]string
	for _, r := range list {
		takes := "all"
		if len(r.Formats) > 0 {
			takes = strings.Join(r.Formats, ", ")
		}
		rows = append(rows, []string{r.Region, r.Kind, r.Place, takes, fmt.Sprint(r.Versions), mib(r.Bytes)})
	}
	pg.Columns([]string{"REGION", "KIND", "PLACE", "TAKES", "VERSIONS", "SIZE"}, rows)
}

// Placements lists where a version is.
func Placements(pg *Page, list []catalog.Placement) {
	var rows [][]string
	for _, pl := range list {
		rows = append(rows, []string{pl.Region, pl.Key().String(), pl.ID, pl.Location})
	}
	pg.Columns([]string{"REGION", "ARTIFACT", "ID", "LOCATION"}, rows)
}

// Manifest says what a manifest says.
func Manifest(pg *Page, m *manifest.Manifest) {
	rows := [][2]string{{"manifest", pg.Paint(Bold, m.Image+"@"+m.Version)}, {"build", m.Build}, {"created", m.Created},
		{"base", fmt.Sprintf("%s@%s  %s", m.Base.Name, m.Base.Version, m.Base.Digest)}}
	for _, name := range slices.Sorted(maps.Keys(m.Labels)) {
		rows = append(rows, [2]string{"label", name + " = " + m.Labels[name]})
	}
	keys, width := map[[2]string]string{}, 0 // by variant and name
	for _, a := range m.Artifacts {
		key := artifact.Key{Variant: a.Variant, Name: a.Name, Format: a.Format}.String()
		keys[[2]string{a.Variant, a.Name}], width = key, max(width, len(key))
	}
	for _, a := range m.Artifacts {
		rows = append(rows, [2]string{"artifact",
			fmt.Sprintf("%-*s %10s  %s", width, keys[[2]string{a.Variant, a.Name}], mib(a.Bytes), a.Digest)})
	}
	ids := 0
	for _, list := range m.Regions {
		for _, pl := range list {
			ids = max(ids, len(pl.ID))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(m.Regions)) {
		for _, pl := range m.Regions[name] {
			rows = append(rows, [2]string{"region", fmt.Sprintf("%-12s %-*s  %-*s  verified %s", name, width,
				keys[[2]string{pl.Variant, pl.Name}], ids, pl.ID, pl.Verified)})
		}
	}
	pg.Values(rows)
}
