// Package rules says what must hold before a tag may point at a version.
package rules

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/plain"
	"zygos/internal/session"
)

// Error refuses what a rule forbids.
type Error struct{ Text string }

func (e *Error) Error() string { return e.Text }

// Case is a version that a tag is to point at, as the catalog has it at that moment.
type Case struct {
	Session *session.Session
	Catalog *catalog.Catalog
	Version *catalog.Version
	Tag     string
	History []catalog.Move // of the image's tags, newest first
	Now     time.Time
}

// Rule is something that a tag may need: in a definition, NAME or NAME:VALUE.
type Rule struct {
	Name string
	// Form says what is wrong with a value and what to write instead, "" if nothing is.
	Form func(value string) (what, do string)
	// Unmet says what of a need is unmet, and how to meet it; "" if nothing is.
	Unmet func(ctx context.Context, c *Case, value string) (unmet string, err error)
}

// Table is the rules, in the order in which they are told.
var Table = []Rule{{"regions", isContent, regions}, {"age", isAge, age}, {"from", isTag, from},
	{"checks", maybeAge, checks}}

func find(name string) *Rule {
	if i := slices.IndexFunc(Table, func(r Rule) bool { return r.Name == name }); i >= 0 {
		return &Table[i]
	}
	return nil
}

// Forms are the rules as definitions are read with them.
func Forms() definition.Needs {
	needs := definition.Needs{Later: []string{"signed"},
		Check: func(name, value string) (what, do string) { return find(name).Form(value) }}
	for _, r := range Table {
		needs.Names = append(needs.Names, r.Name)
	}
	return needs
}

func isContent(value string) (what, do string) {
	if value != "" && value != "content" {
		return "says nothing that is known", `write "regions", or "regions:content"; those of the image's [publish] are meant`
	}
	return "", ""
}

func isAge(value string) (what, do string) {
	if age, err := definition.ParseAge(value); err != nil || age <= 0 {
		return "says no age", `write for instance "age:24h" or "age:7d"`
	}
	return "", ""
}

func maybeAge(value string) (what, do string) {
	if value == "" {
		return "", ""
	}
	if _, do = isAge(value); do != "" {
		return "says no age", `write "checks", or for instance "checks:7d"`
	}
	return "", ""
}

func isTag(value string) (what, do string) {
	if definition.CheckTag(value) != "" {
		return "names no tag", `write for instance "from:candidate"`
	}
	return "", ""
}

// Mover judges moves of tags, for catalog.MoveTags.
func Mover(s *session.Session, now func() time.Time) func(context.Context, *catalog.Catalog, *catalog.Move) error {
	return func(ctx context.Context, c *catalog.Catalog, m *catalog.Move) error {
		v, err := c.Resolve(ctx, definition.Ref{Image: m.Image, Selector: m.Version})
		if err != nil {
			return err
		}
		history, err := c.Moves(ctx, m.Image)
		if err != nil {
			return err
		}
		return judge(ctx, &Case{s, c, v, m.Tag, history, now()})
	}
}

// judge tells all that is unmet at once.
func judge(ctx context.Context, c *Case) error {
	var list []string
	for _, need := range c.Session.Org.TagNeeds(c.Tag) {
		kind, value, _ := strings.Cut(need, ":")
		rule := find(kind)
		if rule == nil {
			continue // lint refuses it
		}
		unmet, err := rule.Unmet(ctx, c, value)
		if err != nil {
			return err
		}
		if unmet != "" {
			list = append(list, need+": "+unmet)
		}
	}
	if len(list) == 0 {
		return nil
	}
	return &Error{fmt.Sprintf("%s may not become %s: [tag.%s] in zygos.toml needs more\n  %s", c.Version.Ref(), c.Tag, c.Tag,
		strings.Join(list, "\n  "))}
}

func age(_ context.Context, c *Case, value string) (string, error) {
	least, err := definition.ParseAge(value)
	if future(c, c.Version.Created) {
		return fmt.Sprintf("%s was registered in the future (%s), by a wrong clock, so its age is not known; build a new version",
			c.Version.Ref(), plain.Time(c.Version.Created)), nil
	}
	if old := c.Now.Sub(c.Version.Created); err == nil && old < least {
		return fmt.Sprintf("%s is %s old; wait %s", c.Version.Ref(), plain.Duration(max(old, 0)), plain.Duration(least-old)), nil
	}
	return "", err
}

// future reports whether something is recorded to have happened later than it is.
func future(c *Case, at time.Time) bool { return at.After(c.Now.Add(catalog.Skew)) }

func from(_ context.Context, c *Case, value string) (string, error) {
	if slices.ContainsFunc(c.History, func(m catalog.Move) bool { return m.Tag == value && m.Version == c.Version.Version }) {
		return "", nil
	}
	return fmt.Sprintf("%s was never %s; zygos tag %s %s", c.Version.Ref(), value, c.Version.Ref(), value), nil
}

// checks are met if the version was judged, not longer ago than the need says, and nothing failed that must pass.
func checks(_ context.Context, c *Case, value string) (string, error) {
	j, ref := c.Version.Judged, c.Version.Ref()
	switch {
	case j == nil || j.Checks() == 0:
		return fmt.Sprintf("%s was never judged; zygos test %s", ref, ref), nil
	case j.Failed > 0:
		return fmt.Sprintf("%d of %d checks failed when %s was last judged; zygos test %s", j.Failed, j.Checks(), ref, ref), nil
	case j.Passed == 0:
		return fmt.Sprintf("no check passed when %s was last judged: %d warned and %d had nothing to judge", ref, j.Warned, j.Skipped), nil
	case value != "":
		most, err := definition.ParseAge(value)
		if future(c, j.At) {
			return fmt.Sprintf("%s was last judged in the future (%s), by a wrong clock; zygos test %s", ref, plain.Time(j.At), ref), nil
		}
		if old := c.Now.Sub(j.At); err == nil && old > most {
			return fmt.Sprintf("%s was last judged %s ago; zygos test %s", ref, plain.Duration(old), ref), nil
		}
		return "", err
	}
	return "", nil
}

// regions are met if the image names regions, and each of them takes an artifact of the version, holds every one that it takes, and
// misses no format that it asks for. With "content", the content of each placement must have been verified, and not its size alone.
func regions(ctx context.Context, c *Case, value string) (string, error) {
	v := c.Version
	img, err := c.Session.Image(v.Image)
	if err != nil {
		return "", err
	}
	placements, err := c.Catalog.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return "", err
	}
	if len(img.Regions) == 0 {
		return fmt.Sprintf("%s names no regions; add [publish] regions = […] to %s, or take the rule out", v.Image, img.File), nil
	}
	var missing, unread []string
	for _, name := range img.Regions {
		r := c.Session.Org.Region(name)
		if r == nil {
			return fmt.Sprintf("region %s is not in zygos.toml; 'zygos lint' says more", name), nil
		}
		r = r.For(img)
		lacks := slices.ContainsFunc(r.Formats, func(format string) bool {
			return !slices.ContainsFunc(v.Artifacts, func(a catalog.Artifact) bool { return a.Format == format })
		})
		takes := false
		for _, a := range v.Artifacts {
			takes = takes || r.Takes(a.Format)
			lacks = lacks || r.Takes(a.Format) && !slices.ContainsFunc(placements, func(pl catalog.Placement) bool {
				return pl.Region == name && pl.Variant == a.Variant && pl.Name == a.Name
			})
		}
		if lacks || !takes {
			missing = append(missing, name)
		} else if value != "" && slices.ContainsFunc(placements, func(pl catalog.Placement) bool { return pl.Region == name && !pl.Read() }) {
			unread = append(unread, name)
		}
	}
	switch {
	case len(missing) == 0 && len(unread) == 0:
		return "", nil
	case len(missing) == 0:
		return fmt.Sprintf("nothing but sizes was verified in %s; zygos verify %s --deep --repair", strings.Join(unread, ", "), v.Ref()), nil
	}
	return fmt.Sprintf("it is not complete in %s; zygos publish %s", strings.Join(missing, ", "), v.Ref()), nil
}
