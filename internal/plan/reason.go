package plan

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	udiff "github.com/aymanbagabas/go-udiff"

	"zygos/internal/layer"
	"zygos/internal/plain"
)

// Reasons says why stages of a plan run, by what is known of earlier builds.
type Reasons struct {
	Plan  *Plan
	Known Known  // nil if nothing is
	Root  string // of the workspace
}

// Of says in words why a stage runs on the tree which the layers make, "" if the snapshot
// found for its key takes its place.
func (r Reasons) Of(shape, i int, layers []string, snap *layer.Snapshot) string {
	p := r.Plan
	s := &p.Shapes[shape].Stages[i]
	switch {
	case s.Forced && s.Name == p.From:
		return "asked for by --from " + s.Name
	case s.Forced:
		return fmt.Sprintf("it comes after %s, asked for by --from", p.From)
	case snap != nil && s.Expired(snap) && snap.Created.After(time.Now()):
		return fmt.Sprintf("its snapshot was made in the future (%s), by a wrong clock, so its age is not known", plain.Time(snap.Created))
	case snap != nil && s.Expired(snap):
		return fmt.Sprintf("its snapshot is older than its refresh age of %s", Age(s.Refresh))
	case snap != nil:
		return ""
	}
	if r.Known == nil {
		return "it has no snapshot"
	}
	t := r.Known.Trace(p.Image, p.Shapes[shape].Variant, s.Name)
	if t == nil {
		return "it has not run before"
	}
	reasons := r.changes(t, &p.Shapes[shape], s, layers)
	if len(reasons) == 0 {
		return "its snapshot is no longer kept"
	}
	if len(reasons) > 3 {
		reasons = append(reasons[:3], fmt.Sprintf("and %d more changes", len(reasons)-3))
	}
	return strings.Join(reasons, "; ")
}

// Since lists in words what differs between a stage, on the tree which the layers make, and how it was.
func (r Reasons) Since(was *Trace, shape, i int, layers []string) []string {
	return r.changes(was, &r.Plan.Shapes[shape], &r.Plan.Shapes[shape].Stages[i], layers)
}

// changes lists what differs between a stage and how it last ran.
func (r Reasons) changes(t *Trace, shape *Shape, s *Stage, layers []string) (list []string) {
	p, say := r.Plan, func(form string, args ...any) { list = append(list, fmt.Sprintf(form, args...)) }
	if t.Engine != KeyVersion {
		say("this Zygos makes layers in another way than the one before")
	}
	r.stepChanges(t.Stage.Steps, s.Steps, say)
	for _, name := range s.Uses {
		was, ok := t.Inputs[name]
		if now := shape.Inputs[name]; ok && was != now {
			say("input %s changed from %q to %q", name, was, now)
		}
	}
	if len(list) == 0 || len(s.Uses) == 0 { // else the inputs explain the variables
		for _, name := range changedEnv(t.Stage.Env, s.Env) {
			if !strings.HasPrefix(name, "ZYGOS_") {
				say("variable %s changed", name)
			}
		}
	}
	for _, m := range s.Secrets {
		i := slices.IndexFunc(t.Stage.Secrets, func(o Mark) bool { return o.Name == m.Name })
		if i < 0 {
			say("secret %s added", m.Name)
		} else if t.Stage.Secrets[i].Mark != m.Mark {
			say("secret %s changed", m.Name)
		}
	}
	if len(t.Stage.Secrets) > len(s.Secrets) {
		say("it gets fewer secrets")
	}
	for _, c := range []struct{ what, was, now string }{{"user", t.Stage.User, s.User}, {"folder", t.Stage.Dir, s.Dir},
		{"network", network(t.Stage.Network), network(s.Network)},
		{"restart", strconv.FormatBool(t.Stage.Restart), strconv.FormatBool(s.Restart)}} {
		if c.was != c.now {
			say("%s changed from %q to %q", c.what, c.was, c.now)
		}
	}
	if moved := p.Base.since(&t.Base); moved != "" {
		say("%s", moved)
	} else if t.Tree != layer.TreeDigest(layers) {
		say("what the stages before it made is different")
	}
	if len(list) == 0 { // numbers change with every build; they are a reason if there is no other
		for _, name := range changedEnv(t.Stage.Env, s.Env) {
			say("variable %s changed", name)
		}
	}
	return list
}

func network(host bool) string {
	if host {
		return "host"
	}
	return "none"
}

// changedEnv lists the variables that differ.
func changedEnv(was, now []string) (names []string) {
	for _, pair := range [][2][]string{{now, was}, {was, now}} {
		for _, v := range pair[0] {
			if !slices.Contains(pair[1], v) {
				name, _, _ := strings.Cut(v, "=")
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (r Reasons) stepChanges(was, now []Step, say func(string, ...any)) {
	same := func(a, b *Step) bool { return a.Source == b.Source && (a.Copy == nil) == (b.Copy == nil) }
	find := func(list []Step, s *Step, taken map[int]bool) int {
		for i := range list {
			if !taken[i] && same(&list[i], s) {
				taken[i] = true
				return i
			}
		}
		return -1
	}
	taken := map[int]bool{}
	last, ordered := -1, true
	for i := range now {
		s := &now[i]
		j := find(was, s, taken)
		if j < 0 {
			say("%s added", s.Name)
			continue
		}
		ordered = ordered && j > last
		last = max(last, j)
		if s.Copy != nil {
			r.fileChanges(&was[j], s, say)
		} else if was[j].Digest != s.Digest {
			say("%s changed%s", s.Name, lineRange(r.Known.Text(was[j].Digest), s.Script))
		}
	}
	for j := range was {
		if !taken[j] {
			say("%s removed", was[j].Name)
		}
	}
	if !ordered {
		say("the steps have another order")
	}
}

func (r Reasons) fileChanges(was, now *Step, say func(string, ...any)) {
	old := map[string]Item{}
	for _, f := range was.Files {
		old[f.Source] = f
	}
	for _, f := range now.Files {
		o, ok := old[f.Source]
		delete(old, f.Source)
		switch {
		case !ok:
			say("%s added", f.Source)
		case o.Digest != f.Digest || o.Link != f.Link:
			say("%s changed%s", f.Source, lineRange(r.Known.Text(o.Digest), r.text(f)))
		case o.To != f.To:
			say("%s goes to %s, it was %s", f.Source, f.To, o.To)
		case o.Mode != f.Mode:
			say("mode of %s changed from %s to %s", f.To, o.Mode, f.Mode)
		}
	}
	for _, f := range was.Files {
		if _, gone := old[f.Source]; gone {
			say("%s removed", f.Source)
		}
	}
	if was.Owner != now.Owner {
		say("owner of %s changed from %s to %s", now.To, was.Owner, now.Owner)
	}
}

// text is a file that is copied, nil if it is no text.
func (r Reasons) text(f Item) []byte {
	text, err := os.ReadFile(filepath.Join(r.Root, f.Source))
	if err != nil || Digest(text) != f.Digest { // the workspace has moved on
		return r.Known.Text(f.Digest)
	}
	if len(text) > 256<<10 || slices.Contains(text, 0) {
		return nil
	}
	return text
}

// lineRange says which lines of a text are new or other ones, "" if it cannot be told.
func lineRange(was, now []byte) string {
	if was == nil || now == nil {
		return ""
	}
	d, err := udiff.ToUnifiedDiff("a", "b", string(was), udiff.Lines(string(was), string(now)), 0)
	if err != nil || len(d.Hunks) == 0 {
		return ""
	}
	var parts []string
	for _, h := range d.Hunks {
		inserted := 0
		for _, l := range h.Lines {
			if l.Kind == udiff.Insert {
				inserted++
			}
		}
		switch {
		case inserted > 1:
			parts = append(parts, fmt.Sprintf("%d-%d", h.ToLine, h.ToLine+inserted-1))
		default:
			parts = append(parts, strconv.Itoa(h.ToLine))
		}
	}
	word := ", lines "
	if len(parts) == 1 && !strings.Contains(parts[0], "-") {
		word = ", line "
	}
	if len(parts) > 4 {
		parts = append(parts[:4], "…")
	}
	return word + strings.Join(parts, ", ")
}

// TraceOf is what to keep of a stage that came to its end.
func (p *Plan) TraceOf(shape, i int, layers []string) *Trace {
	s := p.Shapes[shape].Stages[i]
	s.Reuse, s.Reason = nil, ""
	return &Trace{Engine: KeyVersion, Build: p.Build, Base: p.Base, Tree: layer.TreeDigest(layers), Inputs: p.Shapes[shape].Inputs, Stage: s}
}

// Age is a duration as definitions write it.
func Age(d time.Duration) string {
	const day = 24 * time.Hour
	if d >= day && d%day == 0 {
		return fmt.Sprintf("%dd", d/day)
	}
	text := d.String()
	if d >= time.Minute && d%time.Minute == 0 {
		text = strings.TrimSuffix(text, "0s")
	}
	if d >= time.Hour && d%time.Hour == 0 {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// SourceChange is a file that went into one of two plans, or into both with different content.
type SourceChange struct {
	Path, State string // added, removed or changed
	Was, Now    string // digests, "" where it is not
}

// ChangedSources lists the files that differ between two plans, by path.
func ChangedSources(was, now *Plan) (list []SourceChange) {
	both := map[string]SourceChange{}
	for _, s := range was.Sources {
		both[s.Path] = SourceChange{Path: s.Path, State: "removed", Was: s.Digest}
	}
	for _, s := range now.Sources {
		c, ok := both[s.Path]
		c.Path, c.Now, c.State = s.Path, s.Digest, "changed"
		if !ok {
			c.State = "added"
		}
		both[s.Path] = c
	}
	for _, name := range slices.Sorted(maps.Keys(both)) {
		if c := both[name]; c.Was != c.Now {
			list = append(list, c)
		}
	}
	return list
}

// since says how a base differs from an earlier one, "" if it does not.
func (b *Base) since(was *Base) string {
	switch {
	case was.Name != b.Name:
		return fmt.Sprintf("the base is now %s, it was %s", b.Name, was.Name)
	case was.Version != b.Version && was.Digest != b.Digest:
		return fmt.Sprintf("base %s moved from %s to %s", b.Name, was.Version, b.Version)
	case was.Digest != b.Digest:
		return fmt.Sprintf("base %s %s has another checksum than before", b.Name, b.Version)
	case was.Key != b.Key:
		return fmt.Sprintf("base %s %s is read in another way than before", b.Name, b.Version)
	}
	return ""
}

// Changed says in words what else differs between two plans: their bases and the values of their inputs.
func Changed(was, now *Plan) []string {
	list := []string{}
	say := func(form string, args ...any) { list = append(list, fmt.Sprintf(form, args...)) }
	switch {
	case was.Base.Name != now.Base.Name:
		say("base: %s@%s, it was %s@%s", now.Base.Name, now.Base.Version, was.Base.Name, was.Base.Version)
	case was.Base.Version != now.Base.Version:
		say("base: %s moved from %s to %s", now.Base.Name, was.Base.Version, now.Base.Version)
	case was.Base.Digest != now.Base.Digest:
		say("base: %s@%s has another checksum than before", now.Base.Name, now.Base.Version)
	case was.Base.Key != now.Base.Key:
		say("base: %s@%s is read in another way than before", now.Base.Name, now.Base.Version)
	}
	shapes := map[string]Shape{}
	for _, s := range was.Shapes {
		shapes[s.Variant] = s
	}
	for _, s := range now.Shapes {
		at := ""
		if s.Variant != "" {
			at = " of variant " + s.Variant
		}
		o, ok := shapes[s.Variant]
		delete(shapes, s.Variant)
		if !ok {
			say("variant %s: added", s.Variant)
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(s.Inputs)) {
			if old, ok := o.Inputs[name]; !ok {
				say("input %s%s: added, %q", name, at, s.Inputs[name])
			} else if old != s.Inputs[name] {
				say("input %s%s: %q, it was %q", name, at, s.Inputs[name], old)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(o.Inputs)) {
			if _, ok := s.Inputs[name]; !ok {
				say("input %s%s: removed, it was %q", name, at, o.Inputs[name])
			}
		}
		marks := map[string]string{}
		for _, st := range o.Stages {
			for _, m := range st.Secrets {
				marks[m.Name] = m.Mark
			}
		}
		for _, st := range s.Stages {
			for _, m := range st.Secrets {
				if old, ok := marks[m.Name]; ok && old != m.Mark {
					say("secret %s%s: changed", m.Name, at)
				}
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(shapes)) {
		say("variant %s: removed", name)
	}
	return list
}
