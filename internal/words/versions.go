package words

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/family"
	"zygos/internal/plain"
	"zygos/internal/record"
	"zygos/internal/region"
	"zygos/internal/retention"
)

// Versions lists versions, and builds that made none before those of their image.
func Versions(pg *Page, versions []catalog.Version, builds []catalog.Build) {
	var rows [][]string
	before := func(image string) { // the builds of images up to this one
		for len(builds) > 0 && builds[0].Image <= image {
			b := builds[0]
			rows = append(rows, []string{b.Image, b.Version, "-", age(b.Started), "-", "-", b.Base, "-", "-", b.State})
			builds = builds[1:]
		}
	}
	for _, v := range versions {
		before(v.Image)
		var bytes int64
		var formats []string
		for _, a := range v.Artifacts {
			bytes += a.Bytes
			formats = append(formats, a.Key().String())
		}
		rows = append(rows, []string{v.Image, v.Version, dash(strings.Join(v.Tags, ", ")), age(v.Created), mib(bytes),
			strings.Join(formats, ", "), v.BaseName + "@" + v.BaseVersion, dash(strings.Join(v.Regions, ", ")), checksOf(&v),
			dash(v.Recall.Word())})
	}
	before("\xff")
	pg.Columns([]string{"IMAGE", "VERSION", "TAGS", "AGE", "SIZE", "ARTIFACTS", "BASE", "REGIONS", "CHECKS", "STATE"}, rows)
}

// Show says all that is known of a version.
func Show(pg *Page, a *app.Account) {
	pg.Values(slices.Concat(origin(pg, a), content(a), whereabouts(a)))
}

// origin says what a version is and where it is from.
func origin(pg *Page, a *app.Account) [][2]string {
	v, b := a.Version, a.Made
	rows := [][2]string{{"version", pg.Paint(Bold, v.Ref())}, {"tags", dash(strings.Join(v.Tags, ", "))},
		{"base", fmt.Sprintf("%s@%s  %s", v.BaseName, v.BaseVersion, v.BaseDigest)},
		{"created", when(v.Created) + ", " + age(v.Created) + " ago"}}
	if f := a.Found; f != nil {
		rows = slices.Insert(rows, 3, [2]string{"found", fmt.Sprintf("%s in %s, %s, asked %s", f.Rule, f.Feed, f.From, when(f.Asked))})
	}
	if r := v.Recall; r != nil {
		through := ""
		if r.Image != v.Image || r.Version != v.Version {
			through = fmt.Sprintf(" through %s@%s", r.Image, r.Version)
		}
		rows = append(rows, [2]string{"state", pg.Paint(Red, v.Recall.Word()) +
			fmt.Sprintf("%s: %s (by %s, from %s)", through, r.Why, r.Who, when(r.Since))})
	}
	by := fmt.Sprintf("%s by %s in %s", b.ID, b.Who, human(b.Ended.Sub(b.Started)))
	if b.Host != "" {
		by += " on " + b.Host
	}
	rows = append(rows, [2]string{"build", by})
	if j := v.Judged; j != nil {
		rows = append(rows, [2]string{"checks", fmt.Sprintf("%s (%s by %s, %s)", checksOf(v), j.How, j.Who, when(j.At))})
	}
	if a.Repeated != "" {
		rows = append(rows, [2]string{"repeated", a.Repeated})
	}
	for _, r := range [][2]string{{"why", b.Why}, {"commit", b.Commit}} {
		if r[1] != "" {
			rows = append(rows, r)
		}
	}
	return rows
}

// checksOf is what checks said of a version when it was last judged.
func checksOf(v *catalog.Version) string {
	if j := v.Judged; j != nil {
		return Counts(record.Counts{Passed: j.Passed, Failed: j.Failed, Warned: j.Warned, Skipped: j.Skipped})
	}
	return "-"
}

// content says what is in a version.
func content(a *app.Account) (rows [][2]string) {
	for _, name := range slices.Sorted(maps.Keys(a.Labels)) {
		rows = append(rows, [2]string{"label", name + " = " + a.Labels[name]})
	}
	width := widthOf(a)
	for _, f := range a.Artifacts {
		rows = append(rows, [2]string{"artifact", fmt.Sprintf("%-*s %10s  %s", width, f.Key().String(), mib(f.Bytes), f.Digest)})
	}
	for _, t := range a.Trees {
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
	return rows
}

// whereabouts says who is built on a version, where it is and what was done with it.
func whereabouts(a *app.Account) (rows [][2]string) {
	for _, child := range a.Children {
		rows = append(rows, [2]string{"child", child})
	}
	for _, pl := range a.Placements {
		rows = append(rows, [2]string{"region", fmt.Sprintf("%-12s %-*s  %s  verified %s", pl.Region, widthOf(a), pl.Key().String(), pl.ID,
			when(pl.Verified))})
	}
	for _, u := range a.Underway {
		text := fmt.Sprintf("%-12s %-*s  %s", u.Region, widthOf(a), u.Key().String(), u.State)
		switch {
		case u.Why != "":
			text += ": " + u.Why
		case u.State != region.Waiting:
			text += fmt.Sprintf(", %s of %s", mib(u.Done), mib(u.Bytes))
		}
		rows = append(rows, [2]string{"region", fmt.Sprintf("%s (%s, %s)", text, u.Host, when(u.Changed))})
	}
	for _, m := range a.Moves {
		was := "was unset"
		if m.Was != "" {
			was = "was " + m.Was
		}
		to := m.Version
		if to == "" {
			to = "removed"
		}
		rows = append(rows, [2]string{"tag move",
			strings.TrimSuffix(fmt.Sprintf("%s -> %s (%s) by %s, %s: %s", m.Tag, to, was, m.Who, when(m.At), m.Why), ": ")})
	}
	for _, r := range a.Recalls {
		rows = append(rows, [2]string{"recall", fmt.Sprintf("%s (by %s, from %s; ended by %s, %s)", r.Why, r.Who, when(r.Since), r.EndedBy,
			when(r.Ended))})
	}
	return rows
}

// width is that of the longest shape of an artifact.
func widthOf(a *app.Account) (width int) {
	for _, f := range a.Artifacts {
		width = max(width, len(f.Key().String()))
	}
	return width
}

// Prune says what prune would do, with what stays or without.
func Prune(pg *Page, p *app.Pruning, all bool) {
	var rows [][]string
	var total int64 // of those that go
	add := func(v *retention.Verdict, state string) {
		var bytes int64
		for _, a := range v.Artifacts {
			bytes += a.Bytes
		}
		if state == "goes" {
			total += bytes
		}
		rows = append(rows, []string{v.Image, v.Version.Version, age(v.Created), mib(bytes), state, dash(strings.Join(v.Why, "; "))})
	}
	for i := range p.Goes {
		add(&p.Goes[i], "goes")
	}
	if all {
		for i := range p.Stays {
			add(&p.Stays[i], "stays")
		}
	}
	if len(rows) > 0 {
		pg.Columns([]string{"IMAGE", "VERSION", "AGE", "SIZE", "STATE", "WHY IT STAYS"}, rows)
	}
	shared := ""
	if p.Bytes < total {
		shared = " that no other version has"
	}
	pg.Print("%s to remove, %s of artifacts%s; %s", counted(len(p.Goes), "version"), mib(p.Bytes), shared,
		staying(len(p.Stays)))
	if !all && len(p.Goes) == 0 {
		pg.Next("zygos prune --all   says why each stays")
	}
}

func staying(n int) string {
	if n == 1 {
		return "1 version stays"
	}
	return counted(n, "version") + " stay"
}

// Moves lists the moves of an image's tags, newest first.
func Moves(pg *Page, moves []catalog.Move) {
	seen := map[string]bool{}
	var rows [][]string
	for _, m := range moves {
		state := "moved on"
		if !seen[m.Tag] {
			state = "now"
			if m.Version == "" {
				state = "removed"
			}
		}
		seen[m.Tag] = true
		rows = append(rows, []string{m.Tag, dash(m.Version), dash(m.Was), state, when(m.At), m.Who, dash(m.Why)})
	}
	pg.Columns([]string{"TAG", "VERSION", "WAS", "STATE", "MOVED", "WHO", "WHY"}, rows)
}

// Touched lists what a recall touches.
func Touched(pg *Page, list []family.Touched) {
	var rows [][]string
	for _, t := range list {
		rows = append(rows, []string{t.Ref, dash(strings.Join(t.Tags, ", ")), dash(strings.Join(t.Regions, ", ")), fmt.Sprint(t.Children)})
	}
	pg.Columns([]string{"RECALLS", "TAGS", "REGIONS", "BUILT ON IT"}, rows)
}

// Move is a move in words.
func Move(m catalog.Move) string {
	text := fmt.Sprintf("%s@%s -> %s", m.Image, m.Tag, m.Version)
	switch {
	case m.Version == "":
		text = fmt.Sprintf("%s@%s removed (was %s)", m.Image, m.Tag, m.Was)
	case m.Was == m.Version:
		text += " (as before)"
	case m.Was != "":
		text += fmt.Sprintf(" (was %s)", m.Was)
	}
	return text
}

// Lineage draws a family, with the version that was asked for.
func Lineage(pg *Page, here string, list []family.Member) {
	below := map[string][]family.Member{}
	for _, r := range list {
		below[r.BaseName+"@"+r.BaseVersion] = append(below[r.BaseName+"@"+r.BaseVersion], r)
	}
	// The oldest ancestor is drawn first; what is above it is a base from outside.
	root := list[0]
	pg.Print("%s", pg.Paint(Faint, root.BaseName+"@"+root.BaseVersion))
	draw(pg, root, below, here, "", true)
}

// draw adds a member and what was built on it.
func draw(pg *Page, r family.Member, below map[string][]family.Member, here, indent string, last bool) {
	branch, trunk := "├── ", "│   "
	if last {
		branch, trunk = "└── ", "    "
	}
	name := r.Ref()
	if name == here {
		name = pg.Paint(Bold, name)
	}
	text := name + "  " + pg.Paint(Faint, age(r.Created)+" old")
	if len(r.Tags) > 0 {
		text += "  " + pg.Paint(Green, strings.Join(r.Tags, ", "))
	}
	if state := r.State(); state != "" {
		text += "  " + pg.Paint(Red, plain.Text(state))
	}
	if r.Due != "" {
		text += "  " + pg.Paint(Amber, "due: "+plain.Text(r.Due))
	}
	pg.Print("%s", indent+branch+text)
	children := below[r.Ref()]
	for i, c := range children {
		draw(pg, c, below, here, indent+trunk, i == len(children)-1)
	}
}
