// Package family says how versions hang together: what is due, who is built on whom, what a recall
// touches and where it leads.
package family

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/plan"
	"zygos/internal/session"
)

// Due is an image of which a build would make a new version.
type Due struct {
	Image    string   `json:"image"`
	Newest   string   `json:"newest,omitempty"`
	Recalled bool     `json:"recalled,omitempty"` // the newest is
	Why      string   `json:"why"`
	Blocked  bool     `json:"blocked,omitempty"` // a build would be refused
	Follows  []string `json:"follows"`           // images that become due with it
	Do       string   `json:"-"`                 // a command that helps where it is blocked
}

// DueOf lists the images, of those named or of all, of which a build would make a new version.
func DueOf(ctx context.Context, s *session.Session, images []string) ([]Due, error) {
	list := []Due{}
	var names []string
	for _, img := range s.Images {
		names = append(names, img.Name)
	}
	heads, err := s.Catalog.Heads(ctx, names)
	if err != nil {
		return nil, err
	}
	known := s.Glance(heads)
	for _, img := range s.Images {
		if len(images) > 0 && !slices.Contains(images, img.Name) {
			continue
		}
		if wrong := s.Wrong(img.Name); wrong != nil {
			list = append(list, Due{Image: img.Name, Follows: []string{}, Blocked: true, Why: "cannot be planned: " + wrong[0].String()})
			continue
		}
		made, err := s.Plan(ctx, img.Name, known, plan.Options{Preview: true})
		if err == nil && made.Unchanged != "" {
			continue
		}
		d := Due{Image: img.Name, Follows: followers(s, img.Name), Blocked: err != nil}
		var recalled *catalog.RecalledError
		var unasked *plan.UnaskedError
		switch {
		case errors.As(err, &recalled):
			d.Why = "cannot be built: its base " + recalled.Short()
			d.Do = otherBase(ctx, s, img, recalled)
		case errors.As(err, &unasked):
			d.Why, d.Do = "cannot be planned: "+unasked.Why(), "zygos bases --refresh"
		case err != nil:
			d.Why = "cannot be planned: " + err.Error()
		default:
			d.Why = made.Why
		}
		if newest := heads.Newest(img.Name); newest != nil {
			d.Newest, d.Recalled = newest.Version, newest.Usable() != nil
		}
		list = append(list, d)
	}
	return list, ctx.Err()
}

// otherBase proposes how to lead an image away from a base that is recalled: to move the tag that it
// names to a version that is not, if there is one, or else to build one.
func otherBase(ctx context.Context, s *session.Session, img *definition.Image, recalled *catalog.RecalledError) string {
	usable, err := s.Catalog.Resolve(ctx, definition.Ref{Image: recalled.Image})
	ref, refErr := definition.ParseRef(img.Base)
	switch {
	case err != nil:
		return "zygos build " + recalled.Image
	case refErr == nil && ref.IsTag():
		return fmt.Sprintf("zygos tag %s %s", usable.Ref(), ref.Selector)
	}
	return ""
}

// followers lists the images that are built on the newest version of one, and those built on them.
func followers(s *session.Session, image string) []string {
	list := []string{}
	for _, img := range s.Images {
		ref, err := definition.ParseRef(img.Base)
		if err == nil && ref.Image == image && !ref.IsTag() && !ref.IsVersion() && s.Org.Base(img.Base) == nil {
			list = append(append(list, img.Name), followers(s, img.Name)...)
		}
	}
	return list
}
