package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/region"
)

var cmdTag = &command{
	name: "tag", group: "keep", args: "REF [REF…] [TAG…]", least: 1, most: -1,
	summary: "let tags point at versions; without TAG, show an image's tags and their moves",
	text: `A tag is a movable name for one version of an image; each move is kept with its time, who made
it and why. Several REFs, each with an '@', move the tags of all their images together or not
at all. --back lets tags point where they pointed before; --remove takes them away. A move
that breaks a rule of [tag.NAME] in zygos.toml, or points at a recalled version, is refused.
Regions that hold the versions learn of the move in their index.`,
	example: "zygos tag turbine-link@2.3.0 stable\nzygos tag turbine-link@2.3.1 tide-desk@1.0.1 stable --why 'passed the trials'\nzygos tag turbine-link stable --back\nzygos tag turbine-link",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.back, "back", false, "point where the tags pointed before")
		fs.BoolVar(&in.set.remove, "remove", false, "take the tags away")
		fs.StringVar(&in.set.why, "why", "", "the reason, `TEXT`")
	},
	run: opened(lenient, runTag),
}

// ruleError refuses a move of a tag.
type ruleError struct{ text string }

func (e *ruleError) Error() string { return e.text }

func runTag(ctx context.Context, in *invocation, p *place) error {
	refs := 1
	for refs < len(in.args) && strings.Contains(in.args[refs], "@") {
		refs++
	}
	tags := in.args[refs:]
	for _, tag := range tags {
		if reason := definition.CheckTag(tag); reason != "" {
			return wrongUse("%s", reason)
		}
	}
	if len(tags) == 0 {
		ref, err := definition.ParseRef(in.args[0])
		if err != nil {
			return wrongUse("%s", err)
		}
		if refs > 1 || in.set.back || in.set.remove {
			return wrongUse("name the tags to move, after the versions: zygos tag %s TAG", strings.Join(in.args, " "))
		}
		return in.writeMoves(ctx, p, ref.Image)
	}
	if in.set.back && in.set.remove {
		return wrongUse("--back and --remove together make no sense; choose one")
	}
	var moves []catalog.Move
	for _, text := range in.args[:refs] {
		list, err := p.movesOf(ctx, in, text, tags)
		if err != nil {
			return err
		}
		moves = append(moves, list...)
	}
	if err := p.catalog.MoveTags(ctx, moves, p.mayMove); err != nil {
		return err
	}
	return in.moved(ctx, p, moves)
}

// movesOf plans the moves of one image's tags.
func (p *place) movesOf(ctx context.Context, in *invocation, text string, tags []string) (list []catalog.Move, err error) {
	ref, err := definition.ParseRef(text)
	if err != nil {
		return nil, wrongUse("%s", err)
	}
	var v *catalog.Version
	if !in.set.back && !in.set.remove {
		if v, err = p.resolve(ctx, text); err != nil {
			return nil, err
		}
	}
	history, err := p.catalog.Moves(ctx, ref.Image)
	if err != nil {
		return nil, err
	}
	for _, tag := range tags {
		m := catalog.Move{Image: ref.Image, Tag: tag, Who: who(), Why: in.set.why, At: time.Now()}
		i := slices.IndexFunc(history, func(h catalog.Move) bool { return h.Tag == tag })
		to := v
		switch {
		case (in.set.back || in.set.remove) && (i < 0 || history[i].Version == "" && in.set.remove):
			return nil, fmt.Errorf("%s has no tag %q; 'zygos tag %s' shows its tags", ref.Image, tag, ref.Image)
		case in.set.remove:
			list = append(list, m)
			continue
		case in.set.back && history[i].Was == "":
			return nil, fmt.Errorf("%s@%s pointed at nothing before; --remove takes it away", ref.Image, tag)
		case in.set.back:
			if to, err = p.resolve(ctx, ref.Image+"@"+history[i].Was); err != nil {
				return nil, err
			}
		}
		m.Version = to.Version
		list = append(list, m)
	}
	return list, nil
}

// mayMove checks a move against the rules of its tag, as c has it; all that is unmet is said at once.
func (p *place) mayMove(ctx context.Context, c *catalog.Catalog, m *catalog.Move) error {
	v, err := c.Resolve(ctx, definition.Ref{Image: m.Image, Selector: m.Version})
	if err != nil {
		return err
	}
	history, err := c.Moves(ctx, m.Image)
	if err != nil {
		return err
	}
	tag := m.Tag
	var unmet []string
	for _, need := range p.Org.TagNeeds(tag) {
		kind, value, _ := strings.Cut(need, ":")
		switch kind {
		case "age":
			least, _ := definition.ParseAge(value) // checked when it was read
			if old := time.Since(v.Created); old < least {
				unmet = append(unmet, fmt.Sprintf("%s: %s is %s old; wait %s", need, v.Ref(), age(v.Created), human(least-old)))
			}
		case "from":
			if !slices.ContainsFunc(history, func(m catalog.Move) bool { return m.Tag == value && m.Version == v.Version }) {
				unmet = append(unmet, fmt.Sprintf("%s: %s was never %s; zygos tag %s %s", need, v.Ref(), value, v.Ref(), value))
			}
		case "regions":
			missing, err := p.missing(ctx, c, v)
			if err != nil {
				return err
			}
			if len(missing) > 0 {
				unmet = append(unmet, fmt.Sprintf("%s: it is not complete in %s; zygos publish %s", need, strings.Join(missing, ", "), v.Ref()))
			}
		}
	}
	if len(unmet) == 0 {
		return nil
	}
	return &ruleError{fmt.Sprintf("%s may not become %s: [tag.%s] in zygos.toml needs more\n  %s", v.Ref(), tag, tag, strings.Join(unmet, "\n  "))}
}

// missing lists the regions of an image that do not hold every artifact of a version that they take.
func (p *place) missing(ctx context.Context, c *catalog.Catalog, v *catalog.Version) (list []string, err error) {
	img, err := p.Image(v.Image)
	if err != nil {
		return nil, err
	}
	placements, err := c.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return nil, err
	}
	for _, name := range img.Regions {
		r := p.Org.Region(name)
		for _, a := range v.Artifacts {
			if r != nil && region.Takes(r, a.Format) && !slices.ContainsFunc(placements, func(pl catalog.Placement) bool {
				return pl.Region == name && pl.Variant == a.Variant && pl.Format == a.Format
			}) && !slices.Contains(list, name) {
				list = append(list, name)
			}
		}
	}
	return list, nil
}

// moved says what moved, and tells the regions.
func (in *invocation) moved(ctx context.Context, p *place, moves []catalog.Move) error {
	var images []string
	for _, m := range moves {
		if !slices.Contains(images, m.Image) {
			images = append(images, m.Image)
		}
		text := fmt.Sprintf("%s@%s -> %s", m.Image, m.Tag, m.Version)
		switch {
		case m.Version == "":
			text = fmt.Sprintf("%s@%s removed (was %s)", m.Image, m.Tag, m.Was)
		case m.Was == m.Version:
			text += " (as before)"
		case m.Was != "":
			text += fmt.Sprintf(" (was %s)", m.Was)
		}
		if !in.json {
			fmt.Fprintln(in.out, text)
		}
	}
	if in.json {
		if err := in.writeJSON(moves); err != nil {
			return err
		}
	}
	var failed error
	for _, image := range images {
		failed = errors.Join(failed, p.refresh(ctx, image))
	}
	if m := moves[0]; failed == nil && m.Version == "" {
		in.next("zygos tag " + m.Image)
	} else if failed == nil && p.publishes(m.Image) {
		in.next("zygos publish " + m.Image + "@" + m.Tag)
	} else if failed == nil {
		in.next("zygos show " + m.Image + "@" + m.Tag)
	}
	return failed
}

func (in *invocation) writeMoves(ctx context.Context, p *place, image string) error {
	moves, err := p.catalog.Moves(ctx, image)
	if err != nil {
		return err
	}
	if len(moves) == 0 {
		if _, err := p.resolve(ctx, image); err != nil {
			return err
		}
	}
	if in.json {
		return in.writeJSON(append([]catalog.Move{}, moves...))
	}
	if len(moves) == 0 {
		in.note("%s has no tags yet", image)
		in.next(fmt.Sprintf("zygos tag %s stable", image))
		return nil
	}
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
	return in.columns([]string{"TAG", "VERSION", "WAS", "STATE", "MOVED", "WHO", "WHY"}, rows)
}
