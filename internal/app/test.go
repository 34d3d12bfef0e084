package app

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/secret"
	"zygos/internal/state"
)

// TestRequest asks for a version to be judged by today's definition of its image.
type TestRequest struct {
	Ref    string
	Checks []string // names; none for all
}

// Tested is what a version was judged to be.
type Tested struct {
	Version   *catalog.Version
	Results   []judge.Result
	Judgement *catalog.Judgement // nil if only some checks judged: that is not kept
}

// Test judges a version; each is told each result as it comes. Documents that could not be written are an error beside the results.
func (a *App) Test(ctx context.Context, r TestRequest, each func(judge.Result)) (*Tested, error) {
	v, err := a.Look(ctx, r.Ref)
	if err != nil {
		return nil, err
	}
	img, err := a.Image(v.Image)
	if err != nil {
		return nil, err
	}
	var variants []string
	for _, t := range v.Trees {
		variants = append(variants, t.Variant)
	}
	checks, err := plan.Checks(ctx, a.Root, img, state.Known{State: a.State}, v.Version, v.Build, variants, plan.Options{})
	if err != nil {
		return nil, err
	}
	if err := choose(checks, r.Checks, img.File); err != nil {
		return nil, err
	}
	t := &Tested{Version: v}
	for _, tree := range v.Trees {
		results, err := a.judge(ctx, v, &tree, machine.Limits(img.Limits), checks[tree.Variant], each)
		if err != nil {
			return nil, err
		}
		t.Results = append(t.Results, results...)
	}
	if len(t.Results) == 0 {
		return nil, fmt.Errorf("%s has no check that judges %s; add [[check]] with a name, and a script or expect", img.File, v.Ref())
	}
	if len(r.Checks) > 0 {
		return t, nil
	}
	if t.Judgement, err = build.NewJudgement(v, a.Who, "test", t.Results); err == nil {
		err = a.Catalog.Judge(ctx, *t.Judgement)
	}
	if err != nil {
		return nil, err
	}
	v.Judged = t.Judgement
	return t, publish.WriteManifest(ctx, a.State, v, nil)
}

// choose leaves no other checks than those named.
func choose(checks map[string][]plan.Check, names []string, file string) error {
	if len(names) == 0 {
		return nil
	}
	var known []string
	for variant, list := range checks {
		for _, c := range list {
			if !slices.Contains(known, c.Name) {
				known = append(known, c.Name)
			}
		}
		checks[variant] = slices.DeleteFunc(list, func(c plan.Check) bool { return !slices.Contains(names, c.Name) })
	}
	for _, name := range names {
		if !slices.Contains(known, name) {
			return state.Ask("%s has no check %q; it has %s", file, name, strings.Join(known, ", "))
		}
	}
	return nil
}

// judge judges one tree of a version.
func (a *App) judge(ctx context.Context, v *catalog.Version, tree *catalog.Tree, limits machine.Limits, checks []plan.Check,
	each func(judge.Result)) ([]judge.Result, error) {
	for _, digest := range tree.Layers {
		if !a.Layers.Has(digest) {
			return nil, fmt.Errorf("the layers of %s are not kept in this state; judge it where it was built, or build %s here: "+
				"zygos build %s --force", v.Ref(), v.Image, v.Image)
		}
	}
	engine := a.Engine()
	dir, hold, err := engine.Hold(ctx, "test-"+rand.Text(), tree.Layers)
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	merged, err := a.Layers.Stack(tree.Layers)
	if err != nil {
		return nil, err
	}
	var secrets []secret.Secret
	for _, c := range checks {
		for _, m := range c.Secrets {
			secrets = append(secrets, m.Value)
		}
	}
	bench := engine.Bench(tree.Variant, dir, tree.Layers, merged, limits, func(text string) string { return text }, nil)
	if m := secret.NewMatcher(secrets); m != nil && len(secrets) > 0 {
		bench.Text, bench.Mask = m.Text, m.Mask
	}
	return bench.Judge(ctx, checks, each)
}

// Judgements lists what checks said of a version, newest first.
func (a *App) Judgements(ctx context.Context, v *catalog.Version) ([]catalog.Judgement, error) {
	return a.Catalog.Judgements(ctx, v.Image, v.Version)
}
