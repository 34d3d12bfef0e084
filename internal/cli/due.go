package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/plan"
)

var cmdDue = &command{
	name: "due", group: "keep", args: "[IMAGE…]", most: -1,
	summary: "list images whose newest version no longer matches their definition, base or age",
	text: `Plans every image and lists those of which a build would make a new version, with the reason,
and the images that follow: those built on them without a tag between. Ends with 1 if any is
due. 'zygos build --due' builds them.`,
	example: "zygos due\nzygos build --due",
	run:     opened(strict, runDue),
}

// dueImage is an image as due writes it.
type dueImage struct {
	Image    string   `json:"image"`
	Newest   string   `json:"newest,omitempty"`
	Recalled bool     `json:"recalled,omitempty"` // the newest is
	Why      string   `json:"why"`
	Blocked  bool     `json:"blocked,omitempty"` // a build would be refused
	Follows  []string `json:"follows"`           // images that become due with it
	do       string   // a command that helps
}

// due lists the images of which a build would make a new version.
func (p *place) due(ctx context.Context, images []string, o plan.Options) ([]dueImage, error) {
	list := []dueImage{}
	var names []string
	for _, img := range p.Images {
		names = append(names, img.Name)
	}
	heads, err := p.catalog.Heads(ctx, names)
	if err != nil {
		return nil, err
	}
	known := &glance{looker{p}, heads}
	o.Look = true
	for _, img := range p.Images {
		if len(images) > 0 && !slices.Contains(images, img.Name) {
			continue
		}
		if wrong := p.Wrong(img.Name); wrong != nil {
			list = append(list, dueImage{Image: img.Name, Follows: []string{}, Blocked: true, Why: "cannot be planned: " + wrong[0].String()})
			continue
		}
		made, err := p.plansWith(ctx, img.Name, known, o)
		if err == nil && made.Unchanged != "" {
			continue
		}
		d := dueImage{Image: img.Name, Follows: p.followers(img.Name), Blocked: err != nil}
		var recalled *catalog.RecalledError
		switch {
		case errors.As(err, &recalled):
			d.Why = "cannot be built: its base " + recalled.Short()
			d.do = p.otherBase(ctx, img, recalled)
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
	return list, nil
}

// otherBase proposes how to lead an image away from a base that is recalled: to move the tag that it
// names to a version that is not, if there is one, or else to build one.
func (p *place) otherBase(ctx context.Context, img *definition.Image, recalled *catalog.RecalledError) string {
	usable, err := p.catalog.Resolve(ctx, definition.Ref{Image: recalled.Image})
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
func (p *place) followers(image string) []string {
	list := []string{}
	for _, img := range p.Images {
		ref, err := definition.ParseRef(img.Base)
		if err == nil && ref.Image == image && !ref.IsTag() && !ref.IsVersion() && p.Org.Base(img.Base) == nil {
			list = append(append(list, img.Name), p.followers(img.Name)...)
		}
	}
	return list
}

func runDue(ctx context.Context, in *invocation, p *place) error {
	for _, name := range in.args {
		if _, err := p.Image(name); err != nil {
			return err
		}
	}
	list, err := p.due(ctx, in.args, plan.Options{})
	if err != nil {
		return err
	}
	if in.json {
		err = in.writeJSON(list)
	} else if len(list) == 0 {
		_, err = fmt.Fprintln(in.out, "Nothing is due: every image's newest version is what a build would make")
	} else {
		var rows [][]string
		for _, d := range list {
			newest := dash(d.Newest)
			if d.Recalled {
				newest += ", recalled"
			}
			rows = append(rows, []string{d.Image, newest, dash(cut(strings.Join(d.Follows, ", "), 50)), d.Why})
		}
		err = in.columns([]string{"IMAGE", "NEWEST", "FOLLOWING IT", "WHY"}, rows)
		var todo []string
		for _, d := range list {
			do := d.do
			if !d.Blocked {
				do = "zygos build --due"
			}
			if do != "" && !slices.Contains(todo, do) {
				todo = append(todo, do)
				in.next(do)
			}
		}
	}
	if err == nil && len(list) > 0 {
		err = &exitError{exitFailed}
	}
	return err
}
