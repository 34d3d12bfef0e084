// Package build carries out a plan: it unpacks the base, runs the stages that cannot be reused,
// seals the tree, captures the artifacts and registers the version. Whatever happens, it leaves
// either a registered version or nothing but finished stages, which the next build reuses.
package build

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/secret"
	"zygos/internal/state"
	"zygos/internal/store"
	"zygos/internal/sweep"
)

// Ledger is what builds are written into.
type Ledger interface {
	ID(ctx context.Context) (string, error)
	Now() time.Time
	StartBuild(ctx context.Context, b catalog.Build) error
	Beat(ctx context.Context, build string) error
	EndBuild(ctx context.Context, build, state, text string, at time.Time) error
	Register(ctx context.Context, v catalog.Version) error
	AddArtifact(ctx context.Context, image, version string, a catalog.Artifact) error
}

// Engine carries out plans in one state, several at once if need be.
type Engine struct {
	*state.State
	Ledger Ledger
	Root   string // workspace
	Who    string
	// Machines carry out stages, by the names that plans have for them. The one named "" also starts instances for checks.
	Machines map[string]machine.Machine
	Known    plan.Known // for reasons; nil for none
	// Base makes a base, or a variant of an image's version, a layer, with a folder for what is unfinished.
	Base func(ctx context.Context, b plan.Base, variant, temp string,
		progress func(doing string, done, total int64)) (*layer.Snapshot, error)
	Watch  func(record.Event)
	Jobs   int    // how many stages and captures run at once in this process; 0 for any number
	Commit string // that is checked out where the workspace is, "" for none
	Budget int64  // bytes that the state may take, as far as it can be helped; 0 for any
}

// run is one build on its way.
type run struct {
	*Engine
	plan    *plan.Plan
	log     *record.Journal
	dir     string       // everything unfinished
	store   *store.Store // the engine's, with its unfinished blobs in dir
	secrets *secret.Matcher
	record  record.Record
}

// Run carries out a plan. A step that fails gives a *Failure; a build that somebody stops from
// elsewhere gives a *CancelledError; a version number that another build took since the plan was
// made gives a *catalog.TakenError, before anything is done.
func (e *Engine) Run(ctx context.Context, p *plan.Plan) (*record.Record, error) {
	if err := e.Claim(); err != nil {
		return nil, err
	}
	var pins []string
	for _, shape := range p.Shapes {
		pins = append(pins, shape.Layers...)
	}
	dir, hold, err := e.Hold(ctx, p.Build, pins)
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	r := &run{Engine: e, plan: p, dir: dir, store: &store.Store{Dir: e.Store.Dir, Temp: dir},
		record: record.Record{Schema: record.Schema, Build: p.Build, Commit: e.Commit, Plan: p}}
	r.record.Host = e.Host
	defer func() { _ = layer.RemoveAll(r.dir) }() // what stays is swept by the next build
	began := time.Now()
	if r.record.Catalog, err = e.Ledger.ID(ctx); err != nil {
		return nil, err
	}
	if err := e.Ledger.StartBuild(ctx, catalog.Build{ID: p.Build, Image: p.Image, Version: p.Version,
		Base: p.Base.Name + "@" + p.Base.Version, Who: e.Who, Host: r.record.Host, Place: e.ID, Commit: e.Commit, Started: e.Ledger.Now(),
		Why: p.Why}); err != nil {
		return nil, err
	}
	if r.log, err = record.OpenJournal(e.Dir.Build(p.Build, ""), e.Watch); err != nil {
		return nil, errors.Join(err, e.Ledger.EndBuild(ctx, p.Build, catalog.Failed, err.Error(), e.Ledger.Now()))
	}
	inner, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go r.heedCancel(inner, cancel)
	go r.stayAlive(inner)
	r.secrets = secret.NewMatcher(secretsOf(p))
	err = r.carryOut(inner, began)
	if cause := context.Cause(inner); err != nil && cause != nil {
		err = errors.Join(cause, ctx.Err())
	}
	if err != nil {
		if text := r.secrets.Text(err.Error()); text != err.Error() {
			err = maskedError{err, text}
		}
	}
	e.forgetFailed(p.Image, p.Build)
	if err := sweep.Trim(context.WithoutCancel(ctx), e.State, e.Budget, p.Build); err != nil {
		r.emit(record.Note{Text: "the size budget could not be kept: " + err.Error()})
	}
	if err != nil {
		r.fail(ctx, err)
		return nil, errors.Join(err, r.log.Close())
	}
	return &r.record, r.log.Close()
}

func secretsOf(p *plan.Plan) (list []secret.Secret) {
	for _, shape := range p.Shapes {
		var marks []plan.Mark
		for _, s := range shape.Stages {
			marks = append(marks, s.Secrets...)
		}
		for _, c := range shape.Checks {
			marks = append(marks, c.Secrets...)
		}
		for _, m := range marks {
			if !slices.Contains(list, m.Value) {
				list = append(list, m.Value)
			}
		}
	}
	return list
}

func (r *run) fail(ctx context.Context, err error) {
	state, text := catalog.Failed, err.Error()
	var cancelled *record.CancelledError
	switch {
	case errors.As(err, &cancelled):
		state, text = catalog.Cancelled, err.Error()
	case ctx.Err() != nil:
		state, text = catalog.Cancelled, "interrupted by "+r.Who
	}
	broke := record.Broke{Text: text}
	if state == catalog.Failed {
		errors.As(err, &broke.Failure)
	}
	r.emit(broke)
	// The context may have ended; the record of it must be written all the same. If it cannot,
	// the next command finds that this one is gone.
	if err := r.Ledger.EndBuild(context.WithoutCancel(ctx), r.plan.Build, state, text, r.Ledger.Now()); err != nil {
		r.emit(record.Note{Text: "the catalog could not be told how the build ended: " + err.Error()})
	}
}

func (r *run) emit(w record.What) { r.tell("", w) }

// tell passes on what happened, in a variant or in all of the build, without secrets.
func (r *run) tell(variant string, w record.What) {
	e := record.Event{Time: time.Now().UTC(), Build: r.plan.Build, Image: r.plan.Image, Variant: variant, What: w}
	if r.secrets != nil {
		e = e.Mask(r.secrets.Text)
	}
	if r.log == nil { // what is done with a version later is no part of its build
		r.Watch(e)
		return
	}
	r.log.Append(e)
}

// maskAll masks secrets in names of files, which scripts choose.
func (r *run) maskAll(list []string) []string {
	if r.secrets == nil {
		return list
	}
	out := make([]string, len(list))
	for i := range list {
		out[i] = r.secrets.Text(list[i])
	}
	return out
}

// maskedError is an error whose text held a secret.
type maskedError struct {
	error
	text string
}

func (e maskedError) Error() string { return e.text }
func (e maskedError) Unwrap() error { return e.error }

func (r *run) carryOut(ctx context.Context, began time.Time) error {
	r.emit(record.Started{Version: r.plan.Version, Why: r.plan.Why})
	r.keepTexts(ctx)
	if err := r.base(ctx); err != nil {
		return err
	}
	branches := make([]*branch, len(r.plan.Shapes))
	group, within := errgroup.WithContext(ctx)
	for i := range r.plan.Shapes {
		b := &branch{run: r, shape: &r.plan.Shapes[i], number: i, layers: r.plan.Shapes[i].Layers}
		b.record.Variant = b.shape.Variant
		branches[i] = b
		group.Go(func() error { return b.carryOut(within) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return r.register(ctx, branches, began)
}

func (r *run) base(ctx context.Context) error {
	began := time.Now()
	for i := range r.plan.Shapes {
		shape := &r.plan.Shapes[i]
		if shape.Layers != nil {
			continue
		}
		snap, err := r.Base(ctx, r.plan.Base, shape.From, r.dir, func(doing string, done, total int64) {
			r.emit(record.Progress{Doing: doing, Done: done, Total: total})
		})
		if err != nil {
			return r.Full(err, 0)
		}
		if shape.Layers = []string{snap.Layer}; r.plan.Epoch == "" && !r.plan.Base.Image {
			shape.Epoch = snap.Epoch
		}
	}
	for _, shape := range r.plan.Shapes {
		of := r.plan.Base.Name + "@" + r.plan.Base.Version
		if err := r.Layers.Ensure(ctx, shape.Layers, of, "build "+r.plan.Base.Name+" again with --force"); err != nil {
			return err
		}
	}
	r.emit(record.BaseReady{Base: r.plan.Base.Name + "@" + r.plan.Base.Version, Took: time.Since(began)})
	return nil
}

// register makes the build a version, after all its bytes are safe.
func (r *run) register(ctx context.Context, branches []*branch, began time.Time) error {
	if err := r.Layers.Sync(); err != nil { // children stand on the layers
		return err
	}
	now := r.Ledger.Now().UTC()
	p := r.plan
	v := catalog.Version{Image: p.Image, Version: p.Version, Build: p.Build, Created: now, BaseName: p.Base.Name, BaseVersion: p.Base.Version,
		BaseDigest: p.Base.Digest, BaseImage: p.Base.Image, Fingerprint: p.Fingerprint, Epoch: p.Shapes[0].Epoch, Labels: p.Labels}
	var judged []record.CheckResult
	for _, b := range branches {
		v.Trees = append(v.Trees, b.counted)
		v.Artifacts = append(v.Artifacts, b.artifacts...)
		r.record.Shapes = append(r.record.Shapes, b.record)
		judged = append(judged, b.judged...)
	}
	if len(judged) > 0 {
		j, err := record.NewJudgement(&v, record.Judgement{Who: r.Who, Host: r.Host, How: "build", Results: judged}, now)
		if err != nil {
			return err
		}
		v.Judged = j
	}
	r.record.Version, r.record.Took = &v, time.Since(began)
	text, err := json.MarshalIndent(r.record, "", "  ")
	if err != nil {
		return err
	}
	if err := store.WriteFile(r.Dir.PendingRecord(p.Build), append(text, '\n')); err != nil {
		return r.Full(err, 0)
	}
	if err := r.list(ctx, &v); err != nil {
		return r.Full(err, 0)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := r.Ledger.Register(ctx, v); err != nil {
		return err
	}
	if err := os.Rename(r.Dir.PendingRecord(p.Build), r.Dir.Record(p.Build)); err != nil { // the next sweep does it
		r.emit(record.Note{Text: "the record could not be put in its place: " + err.Error()})
	}
	r.emit(record.Registered{Version: p.Version, Took: r.record.Took})
	return nil
}

// list names a version's artifacts in the store.
func (e *Engine) list(ctx context.Context, v *catalog.Version) error {
	var listed []store.NamedBlob
	for _, a := range v.Artifacts {
		title, err := a.Key().File(v.Image, v.Version, v.Keys())
		if err != nil {
			return err
		}
		listed = append(listed, store.NamedBlob{Blob: store.Blob{Digest: a.Digest, Bytes: a.Bytes}, MediaType: artifact.Find(a.Format).MediaType,
			Title: title})
	}
	return e.Store.List(ctx, v.Image+":"+v.Version, v.Created.UTC().Format(time.RFC3339), listed)
}

// path is a file in the build's own folder.
func (r *run) path(name string) string { return r.Dir.Build(r.plan.Build, name) }
