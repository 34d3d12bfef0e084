package family

import (
	"context"
	"slices"

	"zygos/internal/catalog"
	"zygos/internal/plain"
	"zygos/internal/plan"
	"zygos/internal/session"
)

// Member is a version in a family.
type Member struct {
	catalog.Relative
	Tags   []string        `json:"tags"`
	Recall *catalog.Recall `json:"recall,omitempty"`
	Due    string          `json:"due,omitempty"` // why its image is due, if it is the newest
}

// State says in words whether a member is recalled, "" if not.
func (m *Member) State() string {
	word := m.Recall.Word()
	if m.Recall != nil && !m.Recall.InForce() {
		word += " from " + plain.Time(m.Recall.Since)
	}
	if word != "" {
		word += ": " + m.Recall.Why
	}
	return word
}

// Lineage lists a version's family, ancestors first, at most depth generations away; 0 for all.
func Lineage(ctx context.Context, s *session.Session, v *catalog.Version, depth int) ([]Member, error) {
	relatives, err := s.Catalog.Family(ctx, v.Image, v.Version, depth)
	if err != nil {
		return nil, err
	}
	tags, err := s.Catalog.Tags(ctx)
	if err != nil {
		return nil, err
	}
	recalled, err := s.Catalog.Recalled(ctx)
	if err != nil {
		return nil, err
	}
	list, images := []Member{}, []string{}
	for _, r := range relatives {
		list = append(list, Member{Relative: r, Tags: append([]string{}, tags[r.Ref()]...), Recall: recalled[r.Ref()]})
		if !slices.Contains(images, r.Image) {
			images = append(images, r.Image)
		}
	}
	heads, err := s.Catalog.Heads(ctx, images)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if m := &list[i]; heads.Newest(m.Image) != nil && heads.Newest(m.Image).Version == m.Version && m.Recall == nil {
			if m.Due, err = whyDue(ctx, s, m.Image, s.Glance(heads)); err != nil {
				return nil, err
			}
		}
	}
	return list, nil
}

// whyDue says why an image is due, "" if it is not or if that cannot be told.
func whyDue(ctx context.Context, s *session.Session, image string, known plan.Known) (string, error) {
	if !s.Sound(image) {
		return "", nil
	}
	made, err := s.Plan(ctx, image, known, plan.Options{Preview: true})
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err != nil || made.Unchanged != "" {
		return "", nil
	}
	return made.Why, nil
}
