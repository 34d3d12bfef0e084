// Package build carries out a plan: it unpacks the base, runs the stages that cannot be reused,
// seals the tree, captures the artifacts and registers the version. Whatever happens, it leaves
// either a registered version or nothing but finished stages, which the next build reuses.
package build

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/seal"
	"zygos/internal/store"
)

// Engine carries out plans in one state.
type Engine struct {
	State   string // folder
	Root    string // workspace
	Who     string
	Layers  *layer.Store
	Store   *store.Store
	Machine machine.Machine
	IDs     machine.IDs
	Catalog *catalog.Catalog
	// Base makes a base a layer, with a folder for what is unfinished.
	Base  func(ctx context.Context, name, temp string, progress func(doing string, done, total int64)) (*layer.Snapshot, error)
	Watch func(Event)
}

// Failure says where and how a build's script or step failed.
type Failure struct {
	Build  string   `json:"build"`
	Stage  string   `json:"stage"`
	Step   string   `json:"step"`
	Source string   `json:"source,omitempty"` // script in the workspace
	Line   int      `json:"line,omitempty"`
	Code   int      `json:"code,omitempty"`
	Signal string   `json:"signal,omitempty"`
	Reason string   `json:"reason,omitempty"`
	Tail   []string `json:"tail"` // the last lines it printed
}

func (f *Failure) Error() string {
	at := f.Step
	if f.Line > 0 {
		at = fmt.Sprintf("%s:%d", f.Step, f.Line)
	}
	switch {
	case f.Reason != "":
		return fmt.Sprintf("stage %s: %s: %s", f.Stage, at, f.Reason)
	case f.Signal != "":
		return fmt.Sprintf("stage %s: %s: ended by signal %s", f.Stage, at, f.Signal)
	}
	return fmt.Sprintf("stage %s: %s: exit code %d", f.Stage, at, f.Code)
}

// StageRecord is what a build's record says of a stage.
type StageRecord struct {
	Name   string        `json:"name"`
	Key    string        `json:"key"`
	Layer  string        `json:"layer"`
	Bytes  int64         `json:"bytes"`
	Reused string        `json:"reused,omitempty"` // the build that ran it
	Took   time.Duration `json:"took_ns"`
}

// Record is the document of a finished build, zygos.build/1.
type Record struct {
	Schema  string           `json:"schema"`
	Build   string           `json:"build"`
	Version *catalog.Version `json:"version"`
	Stages  []StageRecord    `json:"stages"`
	Seal    []seal.Result    `json:"seal"`
	Took    time.Duration    `json:"took_ns"`
	Plan    *plan.Plan       `json:"plan"`
}

// run is one build on its way.
type run struct {
	*Engine
	plan   *plan.Plan
	log    *Log
	dir    string // everything unfinished
	layers []string
	tree   *layer.Tree
	epoch  int64
	record Record
}

// Run carries out a plan. A step that fails gives a *Failure.
func (e *Engine) Run(ctx context.Context, p *plan.Plan) (*Record, error) {
	if err := e.claim(); err != nil {
		return nil, err
	}
	lock, err := e.lockImage(p.Image)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	dir, hold, err := e.newRunDir(ctx, p.Build)
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	r := &run{Engine: e, plan: p, layers: p.Base.Layers, epoch: p.Base.Epoch, record: Record{Schema: "zygos.build/1", Build: p.Build, Plan: p}}
	r.dir = dir
	defer func() { _ = layer.RemoveAll(r.dir) }() // what stays is swept by the next build
	e.Store.Temp = r.dir
	if r.log, err = openLog(filepath.Join(e.State, "builds", p.Build), e.Watch); err != nil {
		return nil, err
	}
	began := time.Now()
	if err := e.Catalog.StartBuild(ctx, catalog.Build{ID: p.Build, Image: p.Image, Version: p.Version,
		Base: p.Base.Name + "@" + p.Base.Version, Who: e.Who, Started: began}); err != nil {
		return nil, errors.Join(err, r.log.close())
	}
	err = r.carryOut(ctx, began)
	if err != nil {
		r.fail(ctx, err)
		return nil, errors.Join(err, r.log.close())
	}
	return &r.record, r.log.close()
}

func (r *run) fail(ctx context.Context, err error) {
	state, text := catalog.Failed, err.Error()
	if ctx.Err() != nil {
		state, text = catalog.Interrupted, "interrupted"
	}
	e := Event{Kind: Broke, Text: text}
	errors.As(err, &e.Failure)
	r.emit(e)
	// The context may have ended; the record of it must be written all the same. If it cannot,
	// the next build finds that this one is gone.
	_ = r.Catalog.EndBuild(context.WithoutCancel(ctx), r.plan.Build, state, text, time.Now())
}

func (r *run) emit(e Event) {
	e.Build = r.plan.Build
	r.log.emit(e)
}

func (r *run) carryOut(ctx context.Context, began time.Time) error {
	r.emit(Event{Kind: Started, Image: r.plan.Image, Version: r.plan.Version})
	if err := r.base(ctx); err != nil {
		return err
	}
	for i := range r.plan.Stages {
		if err := r.stage(ctx, i); err != nil {
			return err
		}
	}
	if err := r.seal(); err != nil {
		return err
	}
	artifacts, err := r.capture(ctx)
	if err != nil {
		return err
	}
	return r.register(ctx, artifacts, began)
}

func (r *run) base(ctx context.Context) error {
	began := time.Now()
	if r.layers == nil {
		snap, err := r.Base(ctx, r.plan.Base.Name, r.dir, func(doing string, done, total int64) {
			r.emit(Event{Kind: Progress, Text: doing, Done: done, Total: total})
		})
		if err != nil {
			return err
		}
		r.layers = []string{snap.Layer}
		if _, set, _ := plan.SourceDateEpoch(); !set { // checked when the plan was made
			r.epoch = snap.Epoch
		}
		r.plan.Base.Layers, r.plan.Base.Epoch = r.layers, r.epoch
	}
	for _, digest := range r.layers {
		if !r.Layers.Has(digest) {
			return fmt.Errorf("a layer of %s@%s is missing from %s; build %s again with --force", r.plan.Base.Name, r.plan.Base.Version, r.Layers.Dir, r.plan.Base.Name)
		}
	}
	r.emit(Event{Kind: BaseReady, Text: r.plan.Base.Name + "@" + r.plan.Base.Version, Took: time.Since(began)})
	return nil
}

// merged is the tree as it stands.
func (r *run) merged() (*layer.Tree, error) {
	if r.tree == nil {
		var err error
		if r.tree, err = r.Layers.Stack(r.layers); err != nil {
			return nil, err
		}
	}
	return r.tree, nil
}

func (r *run) push(digest string) {
	if digest == layer.EmptyDigest {
		return
	}
	r.layers = append(r.layers[:len(r.layers):len(r.layers)], digest)
	if r.tree == nil {
		return
	}
	if x, err := r.Layers.Index(digest); err == nil {
		r.tree.Push(x)
	} else {
		r.tree = nil // merged meets the error again
	}
}

// seal removes what clones must not share, as a layer of its own.
func (r *run) seal() error {
	began := time.Now()
	tree, err := r.merged()
	if err != nil {
		return err
	}
	x, results := seal.Seal(tree, r.plan.Keep, r.epoch)
	digest := layer.EmptyDigest
	if len(x) > 0 {
		if digest, err = r.keep(x); err != nil {
			return fmt.Errorf("seal: %w", err)
		}
	}
	r.push(digest)
	r.record.Seal = results
	r.emit(Event{Kind: Sealed, Seal: results, Layer: digest, Took: time.Since(began)})
	return nil
}

// keep writes a layer without file contents.
func (r *run) keep(x layer.Index) (string, error) {
	dir, err := r.Layers.Begin(r.dir)
	if err != nil {
		return "", err
	}
	folder := layer.Folder{Dir: filepath.Join(dir, "tree"), Owners: r.Layers.Owners}
	for i := range x {
		if err := folder.Put(&x[i], nil); err != nil {
			return "", err
		}
	}
	if err := folder.Finish(x); err != nil {
		return "", err
	}
	return r.Layers.Commit(dir, x)
}

// register makes the build a version, after all its bytes are safe.
func (r *run) register(ctx context.Context, artifacts []catalog.Artifact, began time.Time) error {
	if err := r.Layers.Sync(); err != nil { // children stand on the layers
		return err
	}
	now := time.Now().UTC()
	p := r.plan
	v := catalog.Version{Image: p.Image, Version: p.Version, Build: p.Build, Created: now, BaseName: p.Base.Name, BaseVersion: p.Base.Version,
		BaseDigest: p.Base.Digest, Fingerprint: p.Fingerprint, Epoch: r.epoch, Layers: r.layers, Labels: p.Labels, Artifacts: artifacts}
	r.record.Version, r.record.Took = &v, time.Since(began)
	text, err := json.MarshalIndent(r.record, "", "  ")
	if err != nil {
		return err
	}
	if err := store.WriteFile(filepath.Join(r.State, "builds", p.Build, "record.json"), append(text, '\n')); err != nil {
		return err
	}
	var listed []store.Listed
	for _, a := range artifacts {
		listed = append(listed, store.Listed{Blob: store.Blob{Digest: a.Digest, Bytes: a.Bytes}, MediaType: mediaTypes[a.Format], Title: FileName(p.Image, p.Version, a.Format)})
	}
	if err := r.Store.List(p.Image+":"+p.Version, now.Format(time.RFC3339), listed); err != nil {
		return err
	}
	if err := r.Catalog.Register(ctx, v); err != nil {
		return err
	}
	r.emit(Event{Kind: Finished, Image: p.Image, Version: p.Version, Took: r.record.Took})
	return nil
}

// claim notes which ids this state's trees use, and refuses a state whose trees use others.
func (e *Engine) claim() error {
	name := filepath.Join(e.State, "ids.json")
	text, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		if text, err = json.Marshal(e.IDs); err != nil {
			return err
		}
		return store.WriteFile(name, append(text, '\n'))
	}
	var had machine.IDs
	if err == nil {
		err = json.Unmarshal(text, &had)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if had.Host != e.IDs.Host || had.Count != e.IDs.Count {
		return fmt.Errorf("the state in %s was made with the ids from %d (%d of them), and this run would use %d (%d): it belongs to another user, or the host's id ranges changed.\n"+
			"Run as the same user as before, or use a state of your own with --state DIR", e.State, had.Host, had.Count, e.IDs.Host, e.IDs.Count)
	}
	return nil
}

// BusyError says that another build of the image runs.
type BusyError struct{ Image string }

func (b *BusyError) Error() string {
	return fmt.Sprintf("another build of %s is running; wait for it ('zygos builds' shows it) and run the command again", b.Image)
}

func (e *Engine) lockImage(image string) (*os.File, error) {
	dir := filepath.Join(e.State, "locks")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, image), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		lock.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, &BusyError{image}
		}
		return nil, err
	}
	return lock, nil
}

// alone holds a lock while run folders are made or looked through.
func (e *Engine) alone(do func() error) error {
	lock, err := os.OpenFile(filepath.Join(e.State, "locks", ".run"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	defer lock.Close() // and with it the lock
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	return do()
}

// newRunDir removes what builds left that died, and makes this one's folder for unfinished things;
// whoever holds its lock is alive.
func (e *Engine) newRunDir(ctx context.Context, id string) (dir string, hold *os.File, err error) {
	dir = filepath.Join(e.State, "run", id)
	err = e.alone(func() error {
		if err := e.sweep(ctx); err != nil {
			return err
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		if hold, err = os.Create(filepath.Join(dir, "lock")); err != nil {
			return err
		}
		return unix.Flock(int(hold.Fd()), unix.LOCK_EX)
	})
	return dir, hold, err
}

// Alive says whether the process of a build still runs.
func Alive(state, id string) bool {
	lock, err := os.Open(filepath.Join(state, "run", id, "lock"))
	if err != nil {
		return false
	}
	defer lock.Close()
	return unix.Flock(int(lock.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil
}

// sweep removes the folders of builds that died; one that is alive is not touched.
func (e *Engine) sweep(ctx context.Context) error {
	entries, err := os.ReadDir(filepath.Join(e.State, "run"))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	for _, entry := range entries {
		if Alive(e.State, entry.Name()) {
			continue
		}
		if e := layer.RemoveAll(filepath.Join(e.State, "run", entry.Name())); e != nil {
			err = errors.Join(err, e)
			continue
		}
		err = errors.Join(err, e.Catalog.EndBuild(ctx, entry.Name(), catalog.Interrupted, "its process ended without a word", time.Now()))
	}
	return err
}

// FileName is what an artifact is called outside the store.
func FileName(image, version, format string) string {
	return image + "-" + version + extensions[format]
}

var (
	extensions = map[string]string{"tar": ".tar.zst", "raw": ".raw"}
	mediaTypes = map[string]string{"tar": "application/vnd.zygos.tree.v1.tar+zstd", "raw": "application/vnd.zygos.disk.v1.raw"}
)
