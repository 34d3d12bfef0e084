package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/plain"
	"zygos/internal/plan"
	"zygos/internal/report"
)

var cmdLineage = &command{
	name: "lineage", group: "keep", args: "REF", least: 1, most: 1,
	summary: "draw a version's family: what it was built on, what was built on it",
	text: `Ancestors above, descendants below, each with its tags, whether it is recalled and, if it is
the newest of its image, whether that is due. --depth limits how many generations. --svg writes
a picture, --html a page with the picture and a table.`,
	example: "zygos lineage ebb-base\nzygos lineage turbine-link@stable --depth 1\nzygos lineage ebb-base --html > family.html",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.IntVar(&in.set.depth, "depth", 0, "at most `N` generations each way; default all")
		fs.BoolVar(&in.set.svg, "svg", false, "write a picture")
		fs.BoolVar(&in.set.html, "html", false, "write a page")
	},
	run: opened(lenient, runLineage),
}

// relative is a member of a family as lineage writes it.
type relative struct {
	catalog.Relative
	Tags   []string        `json:"tags"`
	Recall *catalog.Recall `json:"recall,omitempty"`
	Due    string          `json:"due,omitempty"` // why its image is due, if it is the newest
}

// state says in words whether a member is recalled, "" if not.
func (r *relative) state() string {
	word := recallWord(&catalog.Version{Recall: r.Recall})
	if word == "recall planned" {
		word += " from " + when(r.Recall.Since)
	}
	if word != "" {
		word += ": " + r.Recall.Why
	}
	return word
}

func runLineage(ctx context.Context, in *invocation, p *place) error {
	if in.set.svg && in.set.html || in.json && (in.set.svg || in.set.html) {
		return wrongUse("choose one of --svg, --html and --json")
	}
	if in.set.depth < 0 {
		return wrongUse("--depth is %d; give 1 or more, or leave it out for all", in.set.depth)
	}
	v, err := p.look(ctx, in.args[0])
	if err != nil {
		return err
	}
	list, err := p.relatives(ctx, v, in.set.depth)
	if err != nil {
		return err
	}
	switch {
	case in.json:
		return in.writeJSON(list)
	case in.set.svg:
		return familyPicture(v, list).SVG(raw(in.out))
	case in.set.html:
		return familyPicture(v, list).HTML(raw(in.out))
	}
	below := map[string][]relative{}
	for _, r := range list {
		below[r.BaseName+"@"+r.BaseVersion] = append(below[r.BaseName+"@"+r.BaseVersion], r)
	}
	// The oldest ancestor is drawn first; what is above it is a base from outside.
	root := list[0]
	fmt.Fprintln(in.out, in.paint(faint, root.BaseName+"@"+root.BaseVersion))
	in.draw(root, below, v.Ref(), "", true)
	if slices.ContainsFunc(list, func(r relative) bool { return r.Due != "" }) {
		in.next("zygos build --due")
	} else {
		in.next("zygos show " + v.Ref())
	}
	return nil
}

// relatives lists a version's family, ancestors first.
func (p *place) relatives(ctx context.Context, v *catalog.Version, depth int) ([]relative, error) {
	family, err := p.catalog.Family(ctx, v.Image, v.Version, depth)
	if err != nil {
		return nil, err
	}
	tags, err := p.catalog.Tags(ctx)
	if err != nil {
		return nil, err
	}
	recalled, err := p.catalog.Recalled(ctx)
	if err != nil {
		return nil, err
	}
	list, images := []relative{}, []string{}
	for _, r := range family {
		list = append(list, relative{Relative: r, Tags: append([]string{}, tags[r.Ref()]...), Recall: recalled[r.Ref()]})
		if !slices.Contains(images, r.Image) {
			images = append(images, r.Image)
		}
	}
	heads, err := p.catalog.Heads(ctx, images)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if r := &list[i]; heads.Newest(r.Image) != nil && heads.Newest(r.Image).Version == r.Version && r.Recall == nil {
			if r.Due, err = p.whyDue(ctx, r.Image, &glance{looker{p}, heads}); err != nil {
				return nil, err
			}
		}
	}
	return list, nil
}

// whyDue says why an image is due, "" if it is not or if that cannot be told.
func (p *place) whyDue(ctx context.Context, image string, known plan.Known) (string, error) {
	if !p.Sound(image) {
		return "", nil
	}
	made, err := p.plansWith(ctx, image, known, plan.Options{Look: true})
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err != nil || made.Unchanged != "" {
		return "", nil
	}
	return made.Why, nil
}

// draw writes a member and what was built on it.
func (in *invocation) draw(r relative, below map[string][]relative, here, indent string, last bool) {
	branch, trunk := "├── ", "│   "
	if last {
		branch, trunk = "└── ", "    "
	}
	name := r.Ref()
	if name == here {
		name = in.paint(bold, name)
	}
	text := name + "  " + in.paint(faint, age(r.Created)+" old")
	if len(r.Tags) > 0 {
		text += "  " + in.paint(green, strings.Join(r.Tags, ", "))
	}
	if state := r.state(); state != "" {
		text += "  " + in.paint(red, plain.Text(state))
	}
	if r.Due != "" {
		text += "  " + in.paint(amber, "due: "+plain.Text(r.Due))
	}
	fmt.Fprintln(in.out, indent+branch+text)
	children := below[r.Ref()]
	for i, c := range children {
		in.draw(c, below, here, indent+trunk, i == len(children)-1)
	}
}

// familyPicture is a family as pictures show it.
func familyPicture(v *catalog.Version, list []relative) *report.Family {
	outside := list[0].BaseName + "@" + list[0].BaseVersion
	f := &report.Family{Title: v.Ref(), Made: time.Now(), Members: []report.Member{{Ref: outside}}}
	for _, r := range list {
		m := report.Member{Ref: r.Ref(), On: r.BaseName + "@" + r.BaseVersion, Age: age(r.Created), Tags: r.Tags, State: plain.Text(r.state()), Here: r.Ref() == v.Ref()}
		m.Planned = r.Recall != nil && !r.Recall.InForce()
		if r.Due != "" {
			m.Due = plain.Text("due: " + r.Due)
		}
		f.Members = append(f.Members, m)
	}
	return f
}
