// Package hunt finds what broke a check: between a version on which it passes and one on which it fails, first the version, then the
// stage, from layers that are kept and without building.
package hunt

import (
	"context"
	"fmt"
	"slices"
	"strings"

	udiff "github.com/aymanbagabas/go-udiff"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/inventory"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/plan"
)

// Hunt is a search for what broke a check.
type Hunt struct {
	Variant string
	Layers  *layer.Store
	// Judge judges a tree by the check.
	Judge func(ctx context.Context, layers []string) (judge.Result, error)
	// Record is the record of a version's build, and Find the version itself.
	Record func(v *catalog.Version) (*build.Record, error)
	Find   func(ctx context.Context, image, version string) (*catalog.Version, error)
	// Text is a script by its digest, nil if it is not kept.
	Text func(digest string) []byte
	// Tell is told of each try.
	Tell func(text string)

	tries int
}

// Found is what broke a check.
type Found struct {
	Passes  *catalog.Version `json:"passes"` // the last version on which it passes
	Fails   *catalog.Version `json:"fails"`  // the first on which it fails
	Image   string           `json:"image"`  // whose stage it is: the image's own, or a parent's
	Was     string           `json:"was"`    // version of that image behind the one, "" if it has none
	Now     string           `json:"now"`
	Stage   string           `json:"stage"` // "base" for a base from outside, "seal" for sealing
	Why     []string         `json:"why"`   // what changed in it, by the definitions
	Diff    string           `json:"diff,omitempty"`
	Files   []layer.Change   `json:"files"` // that differ after it
	Changes []string         `json:"packages"`
	Result  judge.Result     `json:"result"` // on the failing tree
	Tries   int              `json:"tries"`
}

// passes judges a tree.
func (h *Hunt) passes(ctx context.Context, what string, layers []string) (bool, judge.Result, error) {
	for _, digest := range layers {
		if !h.Layers.Has(digest) {
			return false, judge.Result{}, fmt.Errorf("the tree of %s is not kept any more", what)
		}
	}
	h.tries++
	r, err := h.Judge(ctx, layers)
	ok := r.State == judge.Passed || r.State == judge.Skipped
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
func (h *Hunt) Run(ctx context.Context, versions []catalog.Version) (*Found, error) {
	gone := len(versions)
	versions = slices.DeleteFunc(versions, func(v catalog.Version) bool { return !h.kept(&v) })
	if gone -= len(versions); gone > 0 {
		h.Tell(fmt.Sprintf("%d versions are passed over: their trees are not kept here", gone))
	}
	if len(versions) < 2 {
		return nil, fmt.Errorf("there are not two versions whose trees are kept here, so that nothing can be compared")
	}
	low, high := 0, len(versions)-1
	f := &Found{}
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
func points(r *build.Record, v *catalog.Version, variant string) ([]point, error) {
	i := slices.IndexFunc(r.Shapes, func(s build.ShapeRecord) bool { return s.Variant == variant })
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
func (h *Hunt) stages(ctx context.Context, f *Found, passes, fails *catalog.Version) error {
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
	f.Why, f.Diff = h.changed(was, now, h.variant(passes), h.variant(fails), at.now.stage)
	return h.differences(f, at.was.layers, at.now.layers)
}

// variant is the one of a version that is hunted in; a parent of one shape has none.
func (h *Hunt) variant(v *catalog.Version) string {
	if v.Tree(h.Variant) == nil {
		return ""
	}
	return h.Variant
}

// stageOf finds a stage of a plan.
func stageOf(p *plan.Plan, variant, name string) *plan.Stage {
	for i := range p.Shapes {
		if p.Shapes[i].Variant != variant {
			continue
		}
		for j := range p.Shapes[i].Stages {
			if p.Shapes[i].Stages[j].Name == name {
				return &p.Shapes[i].Stages[j]
			}
		}
	}
	return nil
}

// changed is what the records say of a stage that came out different: in words, and of scripts the difference.
func (h *Hunt) changed(was, now *build.Record, variantWas, variantNow, stage string) (why []string, diff string) {
	why = []string{}
	if stage == "base" || stage == "seal" {
		return append(why, plan.Changed(was.Plan, now.Plan)...), ""
	}
	before, after := stageOf(was.Plan, variantWas, stage), stageOf(now.Plan, variantNow, stage)
	if before == nil || after == nil {
		return append(why, "the stage is new"), ""
	}
	steps := map[string]plan.Step{}
	for _, s := range before.Steps {
		steps[s.Name] = s
	}
	for _, s := range after.Steps {
		old, had := steps[s.Name]
		delete(steps, s.Name)
		switch {
		case !had:
			why = append(why, s.Name+" is new")
		case old.Digest != s.Digest:
			why = append(why, s.Name+" changed")
			if a, b := h.Text(old.Digest), h.Text(s.Digest); a != nil && b != nil {
				diff += udiff.Unified("was "+s.Name, "now "+s.Name, string(a), string(b))
			}
		}
	}
	for name := range steps {
		why = append(why, name+" is gone")
	}
	if !slices.Equal(lasting(before.Env), lasting(after.Env)) {
		why = append(why, "its variables changed")
	}
	if before.User != after.User || before.Dir != after.Dir || before.Network != after.Network {
		why = append(why, "its user, folder or network changed")
	}
	if len(why) == 0 {
		why = append(why, "nothing of it changed: it came out different, from what it fetches or from what is before it")
	}
	return why, diff
}

// lasting are variables that do not change with every build.
func lasting(env []string) []string {
	return slices.DeleteFunc(slices.Clone(env), func(v string) bool {
		return strings.HasPrefix(v, "ZYGOS_VERSION=") || strings.HasPrefix(v, "ZYGOS_BUILD=")
	})
}

// differences is what differs between two trees.
func (h *Hunt) differences(f *Found, was, now []string) error {
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
