package cli

import (
	"bufio"
	"cmp"
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
	run: opened(lenient, runRecall),
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
	with := ""
	if n := len(list) - 1; n > 0 {
		with = " and " + counted(n, "descendant")
	}
	fmt.Fprintf(in.out, "%s %s%s: %s\n", state, v.Ref(), with, r.Why)
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
	family = slices.DeleteFunc(family, func(r catalog.Relative) bool { return r.Depth < 0 || (r.Depth > 0 && !descendants) })
	recalled := map[string]bool{}
	for _, r := range family {
		recalled[r.Ref()] = true
	}
	list := []touched{}
	for _, r := range family {
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
			was := ""
			if i := slices.IndexFunc(moves, func(m catalog.Move) bool { return m.Tag == tag }); i >= 0 {
				was = moves[i].Was
			}
			back, err := p.leadAway(ctx, recalled, r.Image, tag, was)
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
func (p *place) leadAway(ctx context.Context, recalled map[string]bool, image, tag, was string) (string, error) {
	versions, err := p.catalog.Versions(ctx, image)
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
	run: opened(lenient, func(ctx context.Context, in *invocation, p *place) error {
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
