package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/record"
	"zygos/internal/region"
)

var cmdShow = &command{
	name: "show", group: "keep", args: "REF", least: 1, most: 1,
	summary: "show a version: where from, what, where, who depends on it",
	text: `REF is IMAGE for its newest version, IMAGE@2.3.1 for exactly one, IMAGE@2.3 for the newest
of a series, or IMAGE@TAG.`,
	example: "zygos show turbine-link\nzygos show turbine-link@stable",
	run:     opened(app.Lenient, runShow),
}

func runShow(ctx context.Context, in *invocation, a *app.Session) error {
	t, err := a.Show(ctx, in.args[0])
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(t)
	}
	in.pairs(slices.Concat(in.origin(t), content(t), whereabouts(t)))
	if len(t.Placements) == 0 && a.Publishes(t.Image) {
		in.next("zygos publish " + t.Ref())
	} else {
		in.next("zygos manifest " + t.Ref())
	}
	return nil
}

// origin says what a version is and where it is from.
func (in *invocation) origin(a *app.Account) [][2]string {
	v, b := a.Version, a.Made
	rows := [][2]string{{"version", in.paint(bold, v.Ref())}, {"tags", dash(strings.Join(v.Tags, ", "))},
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
		rows = append(rows, [2]string{"state", in.paint(red, v.Recall.Word()) +
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
		return said(record.Counts{Passed: j.Passed, Failed: j.Failed, Warned: j.Warned, Skipped: j.Skipped})
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
