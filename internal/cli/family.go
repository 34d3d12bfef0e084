package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/plan"
)

var cmdRecall = &command{
	name: "recall", group: "keep", args: "REF --why TEXT", least: 1, most: 1,
	summary: "withdraw a version, with a reason, now or from a date, alone or with its descendants",
	text: `Shows first what it touches and asks, or takes --yes. From then on the version is refused with
the reason by locate, publish, tag and builds on it, and references that leave the choice pass
it over. --from plans it for a time. Regions learn of it in their index. 'zygos reinstate'
undoes it.`,
	example: "zygos recall turbine-link@2.3.0 --why 'drops packets'\nzygos recall ebb-base@1.4.0 --why 'weak key' --descendants --yes\nzygos recall tide-desk@1.0.0 --why 'end of life' --from 2027-01-01T00:00:00Z",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.StringVar(&in.set.why, "why", "", "the reason, `TEXT`")
		fs.StringVar(&in.set.from, "from", "", "in force from `TIME`, for instance 2027-01-01 or 2027-01-01T12:00:00Z; default now")
		fs.BoolVar(&in.set.descendants, "descendants", false, "with every version built on it")
		fs.BoolVar(&in.set.yes, "yes", false, "do not ask")
	},
	run: opened(false, runRecall),
}

// touched is what a recall touches.
type touched struct {
	Ref      string   `json:"ref"`
	Tags     []string `json:"tags"`
	Regions  []string `json:"regions"`
	Children int      `json:"children"`
	Back     []string `json:"back"` // commands that move its tags back
}

func runRecall(ctx context.Context, in *invocation, p *place) error {
	since := time.Now()
	if in.set.why == "" {
		return wrongUse("say why: zygos recall %s --why 'the reason'", in.args[0])
	}
	if in.set.from != "" {
		t, err := parseTime(in.set.from)
		if err != nil {
			return wrongUse("--from is %q; write a time as 2027-01-01 or 2027-01-01T12:00:00Z", in.set.from)
		}
		since = t
	}
	v, err := p.resolve(ctx, in.args[0])
	if err != nil {
		return err
	}
	list, err := p.touches(ctx, v, in.set.descendants)
	if err != nil {
		return err
	}
	if !in.json {
		var rows [][]string
		for _, t := range list {
			rows = append(rows, []string{t.Ref, dash(strings.Join(t.Tags, ", ")), dash(strings.Join(t.Regions, ", ")), fmt.Sprint(t.Children)})
		}
		if err := in.columns([]string{"RECALLS", "TAGS", "REGIONS", "BUILT ON IT"}, rows); err != nil {
			return err
		}
		if !in.set.descendants && list[0].Children > 0 {
			in.note("%s built on it stay as they are; --descendants recalls them too", counted(list[0].Children, "version"))
		}
	}
	if err := in.confirm(fmt.Sprintf("Recall %s?", counted(len(list), "version"))); err != nil {
		return err
	}
	r := catalog.Recall{Image: v.Image, Version: v.Version, Why: in.set.why, Who: who(), At: time.Now(), Since: since, Descendants: in.set.descendants}
	if err := p.catalog.Recall(ctx, r); err != nil {
		return err
	}
	failed := p.tell(ctx, list)
	if in.json {
		return errors.Join(in.writeJSON(map[string]any{"recall": r, "touches": list}), failed)
	}
	state := "Recalled"
	if !r.InForce() {
		state = "Planned from " + when(since) + ": recall of"
	}
	fmt.Fprintf(in.out, "%s %s: %s\n", state, v.Ref(), r.Why)
	for _, t := range list {
		for _, command := range t.Back {
			in.next(command)
		}
	}
	return failed
}

func parseTime(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return time.Parse(time.DateOnly, text)
}

// confirm asks whoever sits at the terminal; without one, --yes is needed.
func (in *invocation) confirm(question string) error {
	if in.set.yes {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) || in.json {
		return wrongUse("nothing was done: there is nobody to ask; add --yes")
	}
	fmt.Fprintf(in.err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n') // an end of input is a no
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return &ruleError{"nothing was done"}
	}
	return nil
}

// touches lists a version, and with descendants all that was built on it.
func (p *place) touches(ctx context.Context, v *catalog.Version, descendants bool) ([]touched, error) {
	family, err := p.catalog.Family(ctx, v.Image, v.Version, 0)
	if err != nil {
		return nil, err
	}
	children := map[string]int{}
	for _, r := range family {
		children[r.BaseName+"@"+r.BaseVersion]++
	}
	list := []touched{}
	for _, r := range family {
		if r.Depth < 0 || (r.Depth > 0 && !descendants) {
			continue
		}
		member, err := p.catalog.Resolve(ctx, definition.Ref{Image: r.Image, Selector: r.Version})
		if err != nil {
			return nil, err
		}
		t := touched{Ref: r.Ref(), Tags: append([]string{}, member.Tags...), Regions: []string{}, Children: children[r.Ref()], Back: []string{}}
		placements, err := p.catalog.Placements(ctx, r.Image, r.Version, "")
		if err != nil {
			return nil, err
		}
		for _, pl := range placements {
			if !slices.Contains(t.Regions, pl.Region) {
				t.Regions = append(t.Regions, pl.Region)
			}
		}
		moves, err := p.catalog.Moves(ctx, r.Image)
		if err != nil {
			return nil, err
		}
		for _, tag := range member.Tags {
			command := fmt.Sprintf("zygos tag %s %s --remove", r.Image, tag)
			if i := slices.IndexFunc(moves, func(m catalog.Move) bool { return m.Tag == tag }); i >= 0 && moves[i].Was != "" {
				command = fmt.Sprintf("zygos tag %s %s --back   points it at %s again", r.Image, tag, moves[i].Was)
			}
			t.Back = append(t.Back, command)
		}
		list = append(list, t)
	}
	return list, nil
}

// tell writes the indexes of the regions that hold what was touched.
func (p *place) tell(ctx context.Context, list []touched) (failed error) {
	var images []string
	for _, t := range list {
		image, _, _ := strings.Cut(t.Ref, "@")
		if !slices.Contains(images, image) {
			images = append(images, image)
			failed = errors.Join(failed, p.refresh(ctx, image))
		}
	}
	return failed
}

var cmdReinstate = &command{
	name: "reinstate", group: "keep", args: "REF", least: 1, most: 1,
	summary: "undo the recall of a version",
	text:    "REF names the version that was recalled itself; its descendants come back with it.",
	example: "zygos reinstate turbine-link@2.3.0",
	run: opened(false, func(ctx context.Context, in *invocation, p *place) error {
		v, err := p.resolve(ctx, in.args[0])
		if err != nil {
			return err
		}
		list, err := p.touches(ctx, v, true)
		if err != nil {
			return err
		}
		was, err := p.catalog.Reinstate(ctx, v.Image, v.Version, who(), time.Now())
		if err != nil {
			return err
		}
		if !was && v.Recall != nil {
			return fmt.Errorf("%s is recalled through %s@%s; reinstate that one", v.Ref(), v.Recall.Image, v.Recall.Version)
		}
		if !was {
			return fmt.Errorf("%s is not recalled; 'zygos list' shows what is", v.Ref())
		}
		if err := p.tell(ctx, list); err != nil {
			return err
		}
		if in.json {
			return in.writeJSON(list)
		}
		_, err = fmt.Fprintf(in.out, "Reinstated %s\n", v.Ref())
		in.next("zygos show " + v.Ref())
		return err
	}),
}

// recallWord says in a word or two whether a version is recalled, "" if not.
func recallWord(v *catalog.Version) string {
	switch {
	case v.Recall == nil:
		return ""
	case v.Recall.InForce():
		return "recalled"
	}
	return "recall planned"
}

var cmdLineage = &command{
	name: "lineage", group: "keep", args: "REF", least: 1, most: 1,
	summary: "draw a version's family: what it was built on, what was built on it",
	text: `Ancestors above, descendants below, each with its tags and whether it is recalled. --depth
limits how many generations.`,
	example: "zygos lineage ebb-base\nzygos lineage turbine-link@stable --depth 1",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.IntVar(&in.set.depth, "depth", 0, "at most `N` generations each way; default all")
	},
	run: opened(false, runLineage),
}

// relative is a member of a family as lineage writes it.
type relative struct {
	catalog.Relative
	Tags   []string        `json:"tags"`
	Recall *catalog.Recall `json:"recall,omitempty"`
}

func runLineage(ctx context.Context, in *invocation, p *place) error {
	v, err := p.resolve(ctx, in.args[0])
	if err != nil {
		return err
	}
	family, err := p.catalog.Family(ctx, v.Image, v.Version, in.set.depth)
	if err != nil {
		return err
	}
	tags, err := p.catalog.Tags(ctx)
	if err != nil {
		return err
	}
	recalled, err := p.catalog.Recalled(ctx)
	if err != nil {
		return err
	}
	list := []relative{}
	below := map[string][]relative{}
	for _, r := range family {
		m := relative{r, append([]string{}, tags[r.Ref()]...), recalled[r.Ref()]}
		list = append(list, m)
		below[r.BaseName+"@"+r.BaseVersion] = append(below[r.BaseName+"@"+r.BaseVersion], m)
	}
	if in.json {
		return in.writeJSON(list)
	}
	// The oldest ancestor is drawn first; what is above it is a base from outside.
	root := list[0]
	fmt.Fprintln(in.out, in.paint(faint, root.BaseName+"@"+root.BaseVersion))
	in.draw(root, below, v.Ref(), "", true)
	in.next("zygos show " + v.Ref())
	return nil
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
	if word := recallWord(&catalog.Version{Recall: r.Recall}); word != "" {
		text += "  " + in.paint(red, word+": "+r.Recall.Why)
	}
	fmt.Fprintln(in.out, indent+branch+text)
	children := below[r.Ref()]
	for i, c := range children {
		in.draw(c, below, here, indent+trunk, i == len(children)-1)
	}
}

var cmdDue = &command{
	name: "due", group: "keep", args: "[IMAGE…]", most: -1,
	summary: "list images whose newest version no longer matches their definition, base or age",
	text: `Plans every image and lists those of which a build would make a new version, with the reason,
and the images that follow: those built on them without a tag between. Ends with 1 if any is
due. 'zygos build --due' builds them.`,
	example: "zygos due\nzygos build --due",
	run:     opened(true, runDue),
}

// dueImage is an image as due writes it.
type dueImage struct {
	Image   string   `json:"image"`
	Newest  string   `json:"newest,omitempty"`
	Why     string   `json:"why"`
	Follows []string `json:"follows"` // images that become due with it
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
	known := &glance{p, heads}
	for _, img := range p.Images {
		if len(images) > 0 && !slices.Contains(images, img.Name) {
			continue
		}
		made, err := p.plansWith(ctx, img.Name, known, o)
		if err == nil && made.Unchanged != "" {
			continue
		}
		d := dueImage{Image: img.Name, Follows: p.followers(img.Name)}
		if d.Why = "cannot be planned: " + fmt.Sprint(err); err == nil {
			d.Why = made.Why
		}
		newest, err := known.Newest(ctx, img.Name, "")
		if err != nil {
			return nil, err
		}
		if newest != nil {
			d.Newest = newest.Version
		}
		list = append(list, d)
	}
	return list, nil
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
			rows = append(rows, []string{d.Image, dash(d.Newest), dash(cut(strings.Join(d.Follows, ", "), 50)), d.Why})
		}
		err = in.columns([]string{"IMAGE", "NEWEST", "FOLLOWING IT", "WHY"}, rows)
		in.next("zygos build --due")
	}
	if err == nil && len(list) > 0 {
		err = &exitError{exitFailed}
	}
	return err
}
