package family

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/session"
)

// Touched is a version that a recall touches.
type Touched struct {
	Ref      string   `json:"ref"`
	Tags     []string `json:"tags"`
	Regions  []string `json:"regions"`
	Children int      `json:"children"`
	Back     []string `json:"back"` // commands that lead its tags away
}

// Touches lists a version, and with descendants all that was built on it.
func Touches(ctx context.Context, s *session.Session, v *catalog.Version, descendants bool) ([]Touched, error) {
	family, err := s.Catalog.Family(ctx, v.Image, v.Version, 0)
	if err != nil {
		return nil, err
	}
	children := map[string]int{}
	for _, r := range family {
		children[r.BaseName+"@"+r.BaseVersion]++
	}
	family = slices.DeleteFunc(family, func(r catalog.Relative) bool { return r.Depth < 0 || (r.Depth > 0 && !descendants) })
	recalled := map[string]bool{}
	for _, r := range family {
		recalled[r.Ref()] = true
	}
	list := []Touched{}
	for _, r := range family {
		member, err := s.Catalog.Resolve(ctx, definition.Ref{Image: r.Image, Selector: r.Version})
		if err != nil {
			return nil, err
		}
		t := Touched{Ref: r.Ref(), Tags: append([]string{}, member.Tags...), Regions: append([]string{}, member.Regions...),
			Children: children[r.Ref()], Back: []string{}}
		moves, err := s.Catalog.Moves(ctx, r.Image)
		if err != nil {
			return nil, err
		}
		for _, tag := range member.Tags {
			was := ""
			if i := slices.IndexFunc(moves, func(m catalog.Move) bool { return m.Tag == tag }); i >= 0 {
				was = moves[i].Was
			}
			back, err := leadAway(ctx, s, recalled, r.Image, tag, was)
			if err != nil {
				return nil, err
			}
			t.Back = append(t.Back, back)
		}
		list = append(list, t)
	}
	return list, nil
}

// leadAway proposes where to point a tag whose version is recalled: back where it was, else at the
// newest version that is usable, else at nothing. What is recalled with it is not proposed.
func leadAway(ctx context.Context, s *session.Session, recalled map[string]bool, image, tag, was string) (string, error) {
	versions, err := s.Catalog.Versions(ctx, image)
	if err != nil {
		return "", err
	}
	best := ""
	for i := range versions { // newest first
		v := &versions[i]
		if recalled[v.Ref()] || v.Usable() != nil {
			continue
		}
		if v.Version == was {
			return fmt.Sprintf("zygos tag %s %s --back   points it at %s again", image, tag, was), nil
		}
		if best == "" {
			best = fmt.Sprintf("zygos tag %s %s", v.Ref(), tag)
		}
	}
	return cmp.Or(best, fmt.Sprintf("zygos tag %s %s --remove", image, tag)), nil
}
