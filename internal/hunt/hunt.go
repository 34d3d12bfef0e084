// Package hunt finds what broke a check: between a version on which it passes and one on which it fails, first the version, then the
// stage, from layers that are kept and without building.
package hunt

import (
	"context"
	"fmt"
	"slices"

	udiff "github.com/aymanbagabas/go-udiff"

	"zygos/internal/catalog"
	"zygos/internal/inventory"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
)

// Hunt is a search for what broke a check.
type Hunt struct {
	Variant string
	Layers  *layer.Store
	// Judge judges a tree by the check.
	Judge func(ctx context.Context, layers []string) (record.CheckResult, error)
	// Record is the record of a version's build, and Find the version itself.
	Record func(v *catalog.Version) (*record.Record, error)
	Find   func(ctx context.Context, image, version string) (*catalog.Version, error)
	Known  plan.Known // for reasons
	Root   string     // of the workspace
	// Tell is told of each try.
	Tell func(text string)

	tries int
}

// Cause is what broke a check.
type Cause struct {
	Passes  *catalog.Version   `json:"passes"` // the last version on which it passes
	Fails   *catalog.Version   `json:"fails"`  // the first on which it fails
	Image   string             `json:"image"`  // whose stage it is: the image's own, or a parent's
	Was     string             `json:"was"`    // version of that image behind the one, "" if it has none
	Now     string             `json:"now"`
	Stage   string             `json:"stage"` // "base" for a base from outside, "seal" for sealing
	Why     []string           `json:"why"`   // what changed in it, by the definitions
	Diff    string             `json:"diff,omitempty"`
	Files   []layer.Change     `json:"files"` // that differ after it
	Changes []string           `json:"packages"`
	Result  record.CheckResult `json:"result"` // on the failing tree
	Tries   int                `json:"tries"`
}

// passes judges a tree.
func (h *Hunt) passes(ctx context.Context, what string, layers []string) (bool, record.CheckResult, error) {
	if err := h.Layers.Ensure(ctx, layers, what, "name versions that are kept with --passes and --fails"); err != nil {
		return false, record.CheckResult{}, err
	}
	h.tries++
	r, err := h.Judge(ctx, layers)
	ok := r.State == record.Passed || r.State == record.Skipped
	h.Tell(fmt.Sprintf("%s: %s", what, map[bool]string{true: "passes", false: "fails"}[ok]))
	return ok, r, err
}

// layersOf is the sealed tree of a version.
func (h *Hunt) layersOf(v *catalog.Version) []string {
	if t := v.Tree(h.Variant); t != nil {
		return t.Layers
	}
	return nil
}

// kept says whether a version can be judged here.
func (h *Hunt) kept(v *catalog.Version) bool {
	layers := h.layersOf(v)
	return layers != nil && !slices.ContainsFunc(layers, func(d string) bool { return !h.Layers.Has(d) })
}

// Run halves over versions, the oldest first, and then over stages. It passes on the first and fails on the last, or the error says
// that it does not.
func (h *Hunt) Run(ctx context.Context, versions []catalog.Version) (*Cause, error) {
	lacking := len(versions)
	versions = slices.DeleteFunc(versions, func(v catalog.Version) bool { return h.layersOf(&v) == nil })
	if lacking -= len(versions); lacking > 0 {
		h.Tell(fmt.Sprintf("%d versions are passed over: they have no variant %q", lacking, h.Variant))
	}
	gone := len(versions)
	versions = slices.DeleteFunc(versions, func(v catalog.Version) bool { return !h.kept(&v) })
	if gone -= len(versions); gone > 0 {
		h.Tell(fmt.Sprintf("%d versions are passed over: their trees are not kept here", gone))
	}
	if len(versions) < 2 {
		return nil, fmt.Errorf("there are not two versions whose trees are kept here, so that nothing can be compared")
	}
	low, high := 0, len(versions)-1
	f := &Cause{}
	ok, result, err := h.passes(ctx, versions[high].Ref(), h.layersOf(&versions[high]))
	if err != nil {
		return nil, err
	}
	if ok {
		return nil, fmt.Errorf("it passes on %s: there is nothing to hunt; name a version on which it fails with --fails", versions[high].Ref())
	}
	f.Result = result
	if ok, _, err = h.passes(ctx, versions[low].Ref(), h.layersOf(&versions[low])); err != nil {
		return nil, err
	}
	if !ok {
		return nil, fmt.Errorf("it fails on %s already, the oldest that is kept; name a version on which it passes with --passes",
			versions[low].Ref())
	}
	for high-low > 1 {
		middle := (low + high) / 2
		ok, r, err := h.passes(ctx, versions[middle].Ref(), h.layersOf(&versions[middle]))
		if err != nil {
			return nil, err
		}
		if ok {
			low = middle
		} else {
			high, f.Result = middle, r
		}
	}
	f.Passes, f.Fails = &versions[low], &versions[high]
	err = h.stages(ctx, f, f.Passes, f.Fails)
	f.Tries = h.tries
	return f, err
}

// point is the tree of a version after a stage.
type point struct {
	stage  string
	layers []string
}

// points are the trees of a version, from its base on.
func points(r *record.Record, v *catalog.Version, variant string) ([]point, error) {
	i := slices.IndexFunc(r.Shapes, func(s record.Shape) bool { return s.Variant == variant })
	if i < 0 {
		return nil, fmt.Errorf("the record of %s has no variant %q", v.Ref(), variant)
	}
	at := slices.Clone(r.Plan.Shapes[i].Layers)
	list := []point{{"base", slices.Clone(at)}}
	for _, s := range r.Shapes[i].Stages {
		if s.Layer != layer.EmptyDigest {
			at = append(at, s.Layer)
		}
		list = append(list, point{s.Name, slices.Clone(at)})
	}
	return append(list, point{"seal", v.Tree(variant).Layers}), nil
}

// stages finds the first stage after which the one version passes and the other fails.
func (h *Hunt) stages(ctx context.Context, f *Cause, passes, fails *catalog.Version) error {
	was, err1 := h.Record(passes)
	now, err2 := h.Record(fails)
	for _, err := range []error{err1, err2} {
		if err != nil {
			return fmt.Errorf("the stages of %s and %s cannot be compared, since a record is not kept: %w", passes.Ref(), fails.Ref(), err)
		}
	}
	a, err := points(was, passes, h.variant(passes))
	if err != nil {
		return err
	}
	b, err := points(now, fails, h.variant(fails))
	if err != nil {
		return err
	}
	// Each tree of the failing version beside the one of the other that is as far.
	type pair struct{ was, now point }
	var pairs []pair
	far := 0
	for _, p := range b {
		if i := slices.IndexFunc(a, func(q point) bool { return q.stage == p.stage }); i >= 0 {
			far = i
		}
		if !slices.Equal(a[far].layers, p.layers) {
			pairs = append(pairs, pair{a[far], p})
		}
	}
	if len(pairs) == 0 {
		return fmt.Errorf("%s and %s hold the same, and the check does not always say the same of it", passes.Ref(), fails.Ref())
	}
	broken := func(i int) (bool, error) {
		ok, r, err := h.passes(ctx, fmt.Sprintf("%s after %s", fails.Ref(), pairs[i].now.stage), pairs[i].now.layers)
		if err != nil || ok {
			return false, err
		}
		ok, _, err = h.passes(ctx, fmt.Sprintf("%s after %s", passes.Ref(), pairs[i].was.stage), pairs[i].was.layers)
		if ok {
			f.Result = r
		}
		return ok, err
	}
	low, high := -1, len(pairs)-1 // after the last it is broken
	for high-low > 1 {
		middle := (low + high) / 2
		is, err := broken(middle)
		if err != nil {
			return err
		}
		if is {
			high = middle
		} else {
			low = middle
		}
	}
	at := pairs[high]
	if at.now.stage == "base" && now.Plan.Base.Image && was.Plan.Base.Image && now.Plan.Base.Name == was.Plan.Base.Name {
		before, err1 := h.Find(ctx, was.Plan.Base.Name, was.Plan.Base.Version)
		after, err2 := h.Find(ctx, now.Plan.Base.Name, now.Plan.Base.Version)
		if err1 == nil && err2 == nil {
			return h.stages(ctx, f, before, after)
		}
	}
	f.Image, f.Was, f.Now, f.Stage = fails.Image, passes.Version, fails.Version, at.now.stage
	f.Why, f.Diff = h.changed(&side{was, h.variant(passes), a}, &side{now, h.variant(fails), b}, at.now.stage)
	return h.differences(f, at.was.layers, at.now.layers)
}

// variant is the one of a version that is hunted in; a parent of one shape has none.
func (h *Hunt) variant(v *catalog.Version) string {
	if v.Tree(h.Variant) == nil {
		return ""
	}
	return h.Variant
}

// side is a version whose stages are compared.
type side struct {
	record  *record.Record
	variant string
	points  []point
}

// stage finds a stage of a plan, with the tree that it started from; ok is false for what is no stage.
func (s *side) stage(name string) (shape, i int, before []string, ok bool) {
	p := s.record.Plan
	shape = slices.IndexFunc(p.Shapes, func(o plan.Shape) bool { return o.Variant == s.variant })
	i = slices.IndexFunc(p.Shapes[shape].Stages, func(o plan.Stage) bool { return o.Name == name })
	if i < 0 {
		return 0, 0, nil, false
	}
	return shape, i, s.points[i].layers, true // the base stands before the first stage
}

// changed is what the records say of a stage that came out different: in words, and of scripts the difference.
func (h *Hunt) changed(was, now *side, stage string) (why []string, diff string) {
	why = []string{}
	shape, i, before, ok := now.stage(stage)
	if !ok {
		return append(why, plan.Changed(was.record.Plan, now.record.Plan)...), ""
	}
	oldShape, j, oldBefore, ok := was.stage(stage)
	if !ok {
		return append(why, "the stage is new"), ""
	}
	old, s := &was.record.Plan.Shapes[oldShape].Stages[j], &now.record.Plan.Shapes[shape].Stages[i]
	for k := range s.Steps { // records keep no scripts, but for their digests
		step := &s.Steps[k]
		at := slices.IndexFunc(old.Steps, func(o plan.Step) bool { return o.Name == step.Name })
		if step.Copy != nil || at < 0 || old.Steps[at].Digest == step.Digest {
			continue
		}
		step.Script = h.Known.Text(step.Digest)
		if text := h.Known.Text(old.Steps[at].Digest); text != nil && step.Script != nil {
			diff += udiff.Unified("was "+step.Name, "now "+step.Name, string(text), string(step.Script))
		}
	}
	reasons := plan.Reasons{Plan: now.record.Plan, Known: h.Known, Root: h.Root}
	why = append(why, reasons.Since(was.record.Plan.TraceOf(oldShape, j, oldBefore), shape, i, before)...)
	if len(why) == 0 {
		why = append(why, "nothing of it changed: it came out different, from what it fetches or draws")
	}
	return why, diff
}

// differences is what differs between two trees.
func (h *Hunt) differences(f *Cause, was, now []string) error {
	a, err1 := h.Layers.Stack(was)
	b, err2 := h.Layers.Stack(now)
	for _, err := range []error{err1, err2} {
		if err != nil {
			return err
		}
	}
	f.Files = layer.Diff(a, b)
	before := inventory.Read(&layer.Files{Store: h.Layers, Layers: was, Tree: a})
	after := inventory.Read(&layer.Files{Store: h.Layers, Layers: now, Tree: b})
	f.Changes = []string{}
	for _, c := range inventory.Diff(before.Packages, after.Packages) {
		switch c.State {
		case "added":
			f.Changes = append(f.Changes, fmt.Sprintf("%s %s is new", c.Name, c.Now))
		case "removed":
			f.Changes = append(f.Changes, fmt.Sprintf("%s %s is gone", c.Name, c.Was))
		default:
			f.Changes = append(f.Changes, fmt.Sprintf("%s was %s and is %s", c.Name, c.Was, c.Now))
		}
	}
	return nil
}
