package app

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/base"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/repeat"
	"zygos/internal/secret"
	"zygos/internal/session"
	"zygos/internal/state"
	"zygos/internal/store"
	"zygos/internal/supply"
	"zygos/internal/vm"
)

// TestRequest asks for a version to be judged by today's definition of its image.
type TestRequest struct {
	Ref      string
	Checks   []string // names; none for all
	In       string   // only those "sandbox" or "vm"; "" for all
	Region   string   // judge what lies there; "" for what is kept here
	Recorded bool     // by the definition that it was built with, not by that of today
}

// Tested is what a version was judged to be.
type Tested struct {
	Version   *catalog.Version
	Results   []record.CheckResult
	Judgement *catalog.Judgement // nil if only some checks judged: that is not kept
	Spent     []Spent            // where its time went
}

// Spent is time that went into something.
type Spent struct {
	On    string        `json:"on"` // fetch, unpack, boot, judge
	Bytes int64         `json:"bytes,omitempty"`
	Took  time.Duration `json:"took_ns"`
}

// spend notes what time goes into something.
func (t *Tested) spend(on string, bytes int64, do func() error) error {
	began := time.Now()
	err := do()
	t.spent(on, bytes, time.Since(began))
	return err
}

func (t *Tested) spent(on string, bytes int64, took time.Duration) {
	i := slices.IndexFunc(t.Spent, func(s Spent) bool { return s.On == on })
	if i < 0 {
		i = len(t.Spent)
		t.Spent = append(t.Spent, Spent{On: on})
	}
	t.Spent[i].Bytes += bytes
	t.Spent[i].Took += took
}

// Test judges a version; each is told each result as it comes. Documents that could not be written are an error beside the results.
func (a *Session) Test(ctx context.Context, r TestRequest, each func(record.CheckResult)) (*Tested, error) {
	v, err := a.ResolveAny(ctx, r.Ref)
	if err == nil {
		err = a.Writable()
	}
	if err != nil {
		return nil, err
	}
	engine, err := a.engine()
	if err != nil {
		return nil, err
	}
	var pins []string
	for _, t := range v.Trees {
		pins = append(pins, t.Layers...)
	}
	var t *Tested
	err = a.During(ctx, "test-"+rand.Text(), pins, func(dir string) (err error) {
		t, err = a.test(ctx, engine, v, r, dir, each)
		return err
	})
	return t, err
}

// test judges a version in a folder for what is unfinished.
func (a *Session) test(ctx context.Context, engine *build.Engine, v *catalog.Version, r TestRequest, dir string,
	each func(record.CheckResult)) (*Tested, error) {
	img, root, err := a.definitionOf(v, r.Recorded, filepath.Join(dir, "workspace"))
	if err != nil {
		return nil, err
	}
	var variants []string
	for _, t := range v.Trees {
		variants = append(variants, t.Variant)
	}
	checks, err := plan.Checks(ctx, root, img, session.Known{Session: a.Session}, v.Version, v.Build, variants, plan.Options{})
	if err != nil {
		return nil, err
	}
	if err := choose(checks, r, img.File); err != nil {
		return nil, err
	}
	t := &Tested{Version: v}
	for i := range v.Trees {
		b := bench{dir: filepath.Join(dir, state.ShapeName(v.Trees[i].Variant)), store: a.Layers, layers: v.Trees[i].Layers,
			variant: v.Trees[i].Variant, limits: machine.Limits(img.Limits)}
		if err := os.MkdirAll(b.dir, 0o755); err != nil {
			return nil, err
		}
		if err := a.judgeTree(ctx, engine, t, &b, checks[b.variant], r.Region, each); err != nil {
			return nil, err
		}
	}
	if len(t.Results) == 0 {
		return nil, fmt.Errorf("%s has no check that judges %s; add [[check]] with a name, and a script or expect", img.File, v.Ref())
	}
	if len(r.Checks) > 0 || r.In != "" {
		return t, nil
	}
	how := "test"
	if r.Region != "" {
		how += " in " + r.Region
	}
	if t.Judgement, err = record.NewJudgement(v, record.Judgement{Who: a.Who, Host: a.Host, How: how, Results: t.Results},
		a.Catalog.Now()); err == nil {
		err = a.Catalog.Judge(ctx, *t.Judgement)
	}
	if err != nil {
		return nil, err
	}
	v.Judged = t.Judgement
	return t, publish.WriteManifest(ctx, a.Session, v, nil)
}

// judgeTree judges a variant: as it lies in a region if one is named, else as it is kept here.
func (a *Session) judgeTree(ctx context.Context, engine *build.Engine, t *Tested, b *bench, checks []plan.Check, region string,
	each func(record.CheckResult)) error {
	var from *definition.Region
	var placed []catalog.Placement
	if region != "" {
		var err error
		if from, err = a.Region(region); err == nil {
			placed, err = a.Catalog.Placements(ctx, t.Version.Image, t.Version.Version, region)
		}
		if err == nil && len(build.ChecksIn(checks, false)) > 0 {
			err = a.fromRegion(ctx, t, b, from, placed)
		}
		if err != nil {
			return err
		}
	}
	on, err := b.judge(ctx, engine, t.Version.Ref(), checks)
	if err != nil {
		return err
	}
	if inside := build.ChecksIn(checks, false); len(inside) > 0 {
		err = t.spend("judge", 0, func() error {
			results, err := on.Judge(ctx, inside, each)
			t.Results = append(t.Results, results...)
			return err
		})
	}
	if err != nil || len(build.ChecksIn(checks, true)) == 0 {
		return err
	}
	disk, err := a.diskOf(ctx, t, b, from, placed)
	if err != nil {
		return err
	}
	began, boot := time.Now(), time.Duration(0)
	results, err := engine.JudgeBooted(ctx, on, checks, func() (build.Booting, error) { return *disk, nil }, func(line string) {
		a.Progress("starting "+disk.Artifact.Called()+": "+line, 0, 0)
	}, func(up *vm.Running) { boot = up.Took }, each)
	t.Results = append(t.Results, results...)
	t.spent("boot", 0, boot)
	t.spent("judge in the machine", 0, time.Since(began)-boot)
	return err
}

// diskOf is the disk of a variant that starts, fetched from a region if one is given.
func (a *Session) diskOf(ctx context.Context, t *Tested, b *bench, r *definition.Region, placed []catalog.Placement) (*build.Booting,
	error) {
	v := t.Version
	list, err := a.bootable(v, b.variant)
	if err != nil {
		return nil, err
	}
	// Its kernel and its ids are those of the tree that it was captured from, whatever lies in a region.
	d := &build.Booting{Machine: vm.Machine{Temp: b.dir}, Image: v.Image, Artifact: list[0].Artifact, Store: a.Layers,
		Layers: v.Tree(b.variant).Layers}
	if err := a.Layers.Ensure(ctx, d.Layers, v.Ref()+", from which its kernel is taken,",
		"judge in sandboxes alone with --in sandbox"); err != nil {
		return nil, err
	}
	if d.Tree, err = a.Layers.Stack(d.Layers); err != nil {
		return nil, err
	}
	if r == nil {
		d.Disk, err = supply.Artifact(ctx, a.Session, v, list[0].file, a.Progress)
		return d, err
	}
	for _, f := range list {
		for i := range placed {
			if pl := &placed[i]; pl.Variant == b.variant && pl.Name == f.Called() {
				d.Artifact = f.Artifact
				err := t.spend("fetch", pl.Bytes, func() (err error) {
					d.Disk, err = supply.Download(ctx, a.Session, supply.Transfer{Version: v, Region: r, Placement: pl, Bytes: pl.Bytes, Out: b.dir},
						a.Progress)
					return err
				})
				return d, err
			}
		}
	}
	return nil, fmt.Errorf("%s holds no disk of %s that starts; publish one there, or judge in sandboxes alone with --in sandbox", r.Name,
		strings.TrimSpace(v.Ref()+" "+b.variant))
}

// choose leaves no other checks than those that are asked for.
func choose(checks map[string][]plan.Check, r TestRequest, file string) error {
	for variant, list := range checks {
		checks[variant] = slices.DeleteFunc(list, func(c plan.Check) bool { return r.In != "" && c.Booted != (r.In == "vm") })
	}
	names := r.Checks
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

// judge is where the tree is judged.
func (on *bench) judge(ctx context.Context, engine *build.Engine, name string, checks []plan.Check) (*judge.Bench, error) {
	if err := on.store.Ensure(ctx, on.layers, name,
		"judge it where it was built, build it here again with --force, or judge the archive in a region with --region"); err != nil {
		return nil, err
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
	b := engine.JudgeOn(on.variant, on.dir, on.layers, merged, on.limits, func(text string) string { return text }, nil)
	b.Ground.Store = on.store
	if len(secrets) > 0 {
		m := secret.NewMatcher(secrets)
		b.Text, b.Mask = m.Text, m.Mask
	}
	return b, nil
}

// definitionOf is the definition of a version's image, and the folder that its files are in: today's, or that which the version was
// built with, laid out in dir.
func (a *Session) definitionOf(v *catalog.Version, recorded bool, dir string) (*definition.Image, string, error) {
	if !recorded {
		img, err := a.Definition(v.Image)
		return img, a.Root, err
	}
	record, err := record.Read(a.Dir, v.Build)
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

// fromRegion fetches a variant from a region, verified, and makes a tree of it, which is the one that is judged: of the archive if it lies
// there, else of a container image or a disk.
func (a *Session) fromRegion(ctx context.Context, t *Tested, b *bench, r *definition.Region, placed []catalog.Placement) error {
	var best *catalog.Placement
	rank := func(pl *catalog.Placement) int { // 0 for what cannot be read
		if f := artifact.Find(pl.Format); f != nil {
			return f.ReadRank
		}
		return 0
	}
	for i := range placed {
		if pl := &placed[i]; pl.Variant == b.variant && rank(pl) > 0 && (best == nil || rank(pl) < rank(best)) {
			best = pl
		}
	}
	if best == nil {
		return fmt.Errorf("%s holds nothing of %s that can be judged; publish it there", r.Name, strings.TrimSpace(t.Version.Ref()+" "+b.variant))
	}
	var file string
	err := t.spend("fetch", best.Bytes, func() (err error) {
		file, err = supply.Download(ctx, a.Session, supply.Transfer{Version: t.Version, Region: r, Placement: best, Bytes: best.Bytes,
			Out: b.dir},
			a.Progress)
		return err
	})
	if err != nil {
		return err
	}
	of := &definition.Base{Name: t.Version.Image, Release: t.Version.Version, Kind: base.KindOf(file),
		SHA256: best.Artifact, From: []string{file}}
	own := &layer.Store{Dir: filepath.Join(b.dir, "layers"), Owners: a.Layers.Owners, Check: a.Layers.Check}
	blobs, err := store.Open(filepath.Join(b.dir, "store"))
	if err != nil {
		return err
	}
	importer := base.Importer{Root: a.Root, Store: blobs, Layers: own, Downloads: b.dir, Temp: b.dir, Progress: a.Progress}
	return t.spend("unpack", 0, func() error {
		snap, err := importer.Ensure(ctx, of)
		if err == nil {
			b.store, b.layers = own, []string{snap.Layer}
		}
		return err
	})
}

// Judgements lists what checks said of a version, newest first.
func (a *Session) Judgements(ctx context.Context, v *catalog.Version) ([]catalog.Judgement, error) {
	return a.Catalog.Judgements(ctx, v.Image, v.Version)
}
