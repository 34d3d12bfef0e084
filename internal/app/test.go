package app

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/base"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/repeat"
	"zygos/internal/secret"
	"zygos/internal/state"
	"zygos/internal/store"
	"zygos/internal/supply"
)

// TestRequest asks for a version to be judged by today's definition of its image.
type TestRequest struct {
	Ref      string
	Checks   []string // names; none for all
	Region   string   // judge the archive that lies there; "" for the layers that are kept here
	Recorded bool     // by the definition that it was built with, not by that of today
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
	engine := a.Engine()
	var pins []string
	for _, t := range v.Trees {
		pins = append(pins, t.Layers...)
	}
	dir, hold, err := engine.Hold(ctx, "test-"+rand.Text(), pins)
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	img, root, err := a.definitionOf(v, r.Recorded, filepath.Join(dir, "workspace"))
	if err != nil {
		return nil, err
	}
	var variants []string
	for _, t := range v.Trees {
		variants = append(variants, t.Variant)
	}
	checks, err := plan.Checks(ctx, root, img, state.Known{State: a.State}, v.Version, v.Build, variants, plan.Options{})
	if err != nil {
		return nil, err
	}
	if err := choose(checks, r.Checks, img.File); err != nil {
		return nil, err
	}
	t := &Tested{Version: v}
	for _, tree := range v.Trees {
		b := bench{dir: dir, store: a.Layers, layers: tree.Layers, variant: tree.Variant, limits: machine.Limits(img.Limits)}
		if r.Region != "" {
			own := filepath.Join(dir, "region-"+state.ShapeName(tree.Variant))
			if b.store, b.layers, err = a.fromRegion(ctx, v, &tree, r.Region, own); err != nil {
				return nil, err
			}
		}
		results, err := a.judge(ctx, v.Ref(), b, checks[tree.Variant], each)
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
	how := "test"
	if r.Region != "" {
		how += " in " + r.Region
	}
	if t.Judgement, err = build.NewJudgement(v, a.Who, how, t.Results); err == nil {
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

// bench is a tree that is judged.
type bench struct {
	dir     string // for what is unfinished
	store   *layer.Store
	layers  []string
	variant string
	limits  machine.Limits
}

// judge judges one tree.
func (a *App) judge(ctx context.Context, name string, on bench, checks []plan.Check, each func(judge.Result)) ([]judge.Result, error) {
	for _, digest := range on.layers {
		if !on.store.Has(digest) {
			return nil, fmt.Errorf("the layers of %s are not kept in this state; judge it where it was built, build it here again with "+
				"--force, or judge the archive in a region with --region", name)
		}
	}
	merged, err := on.store.Stack(on.layers)
	if err != nil {
		return nil, err
	}
	var secrets []secret.Secret
	for _, c := range checks {
		for _, m := range c.Secrets {
			secrets = append(secrets, m.Value)
		}
	}
	b := a.Engine().Bench(on.variant, on.dir, on.layers, merged, on.limits, func(text string) string { return text }, nil)
	b.Ground.Store = on.store
	if len(secrets) > 0 {
		m := secret.NewMatcher(secrets)
		b.Text, b.Mask = m.Text, m.Mask
	}
	return b.Judge(ctx, checks, each)
}

// definitionOf is the definition of a version's image, and the folder that its files are in: today's, or that which the version was
// built with, laid out in dir.
func (a *App) definitionOf(v *catalog.Version, recorded bool, dir string) (*definition.Image, string, error) {
	if !recorded {
		img, err := a.Image(v.Image)
		return img, a.Root, err
	}
	record, err := build.ReadRecord(a.Dir, v.Build)
	if err != nil {
		return nil, "", fmt.Errorf("the record of %s is not kept in this state: %w", v.Ref(), err)
	}
	file, err := repeat.Lay(a.Dir, a.Root, record.Plan, dir)
	if err != nil {
		return nil, "", err
	}
	var problems definition.Problems
	img := definition.ReadImage(dir, file, Kinds().Expects, &problems)
	if err := problems.Err(); err != nil {
		return nil, "", fmt.Errorf("the definition that %s was built with cannot be read as it was: %w", v.Ref(), err)
	}
	return img, dir, nil
}

// fromRegion fetches the archive of a variant from a region, verified, and makes a tree of it below a folder.
func (a *App) fromRegion(ctx context.Context, v *catalog.Version, tree *catalog.Tree, region, dir string) (*layer.Store, []string, error) {
	archive := state.Archive(v, tree.Variant)
	r, err := a.Region(region)
	if err != nil {
		return nil, nil, err
	}
	list, err := a.Catalog.Placements(ctx, v.Image, v.Version, region)
	if err != nil {
		return nil, nil, err
	}
	at := -1
	if archive != nil {
		at = slices.IndexFunc(list, func(pl catalog.Placement) bool { return pl.Artifact == "sha256:"+archive.SHA256 })
	}
	if at < 0 {
		return nil, nil, fmt.Errorf("%s holds no archive (tar) of %s, and only archives can be judged as they lie in a region",
			region, strings.TrimSpace(v.Ref()+" "+tree.Variant))
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, nil, err
	}
	file, err := supply.Download(ctx, a.State, v, r, &list[at], list[at].Bytes, dir, a.Progress)
	if err != nil {
		return nil, nil, err
	}
	own := &layer.Store{Dir: filepath.Join(dir, "layers"), Owners: a.Layers.Owners, Check: a.Layers.Check}
	blobs, err := store.Open(filepath.Join(dir, "store"))
	if err != nil {
		return nil, nil, err
	}
	archive.From = []string{file}
	importer := base.Importer{Root: a.Root, Store: blobs, Layers: own, Downloads: dir, Temp: dir, Progress: a.Progress}
	snap, err := importer.Ensure(ctx, archive)
	if err != nil {
		return nil, nil, err
	}
	return own, []string{snap.Layer}, nil
}

// Judgements lists what checks said of a version, newest first.
func (a *App) Judgements(ctx context.Context, v *catalog.Version) ([]catalog.Judgement, error) {
	return a.Catalog.Judgements(ctx, v.Image, v.Version)
}
