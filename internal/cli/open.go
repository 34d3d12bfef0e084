package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"

	"zygos/internal/base"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/store"
	"zygos/internal/workspace"
)

// place is a workspace with its state opened.
type place struct {
	*workspace.Workspace
	catalog *catalog.Catalog
	store   *store.Store
	layers  *layer.Store
}

// load finds the workspace and reads its definitions.
func (in *invocation) load() (*workspace.Workspace, error) {
	w, err := workspace.Find(in.workspace, in.state)
	if err != nil {
		return nil, err
	}
	return w, w.Load()
}

// open loads the workspace and opens its state. Commands that only look take wrong definitions
// as they are: what was built stays findable while somebody edits.
func (in *invocation) open(ctx context.Context, strict bool) (*place, error) {
	w, err := in.load()
	var problems definition.Problems
	if err != nil && (strict || !errors.As(err, &problems)) {
		return nil, err
	}
	if err := w.MakeState(); err != nil {
		return nil, fmt.Errorf("the state folder cannot be made: %w; move it with --state DIR", err)
	}
	p := &place{Workspace: w}
	if p.store, err = store.Open(filepath.Join(w.State, "store")); err != nil {
		return nil, err
	}
	p.layers = &layer.Store{Dir: filepath.Join(w.State, "layers")}
	ids, _ := machine.Planned()
	p.layers.Owners = layer.Owners{First: ids.First, Count: ids.Count}
	_, p.layers.Check = machine.Inside()
	p.catalog, err = catalog.Open(ctx, filepath.Join(w.State, "catalog.db"))
	return p, err
}

func (p *place) close() {
	p.catalog.Close() // every change was committed
}

// importer brings bases into the state.
func (p *place) importer(temp string, progress func(doing string, done, total int64)) *base.Importer {
	return &base.Importer{Root: p.Root, Store: p.store, Layers: p.layers, Downloads: filepath.Join(p.State, "downloads"), Temp: temp, Progress: progress}
}

// resolve finds the version that a reference on the command line means.
func (p *place) resolve(ctx context.Context, text string) (*catalog.Version, error) {
	ref, err := definition.ParseRef(text)
	if err != nil {
		return nil, wrongUse("%s", err)
	}
	v, err := p.catalog.Resolve(ctx, ref)
	var missing *catalog.NotFoundError
	if errors.As(err, &missing) {
		if versions, e := p.catalog.Versions(ctx, ref.Image); e == nil && len(versions) == 0 {
			if _, e := p.Image(ref.Image); e != nil {
				return nil, e
			}
		}
	}
	return v, err
}

// The plan asks through these.

func (p *place) NextVersion(ctx context.Context, image, series, version string) (string, error) {
	return p.catalog.NextVersion(ctx, image, series, version)
}

func (p *place) Parent(ctx context.Context, ref definition.Ref) (*plan.Parent, error) {
	v, err := p.catalog.Resolve(ctx, ref)
	if err != nil {
		return nil, err
	}
	return &plan.Parent{Version: v.Version, Layers: v.Layers, Epoch: v.Epoch}, nil
}

func (p *place) Newest(ctx context.Context, image, version string) (string, string, error) {
	v, err := p.catalog.Resolve(ctx, definition.Ref{Image: image, Selector: version})
	var missing *catalog.NotFoundError
	if errors.As(err, &missing) {
		return "", "", nil
	}
	if err != nil {
		return "", "", err
	}
	return v.Version, v.Fingerprint, nil
}

func (p *place) Base(b *definition.Base) *layer.Snapshot { return p.layers.Find(base.Key(b)) }

func (p *place) Snapshot(key string) *layer.Snapshot { return p.layers.Find(key) }

// plans makes the plan of one image.
func (p *place) plans(ctx context.Context, name string, force bool) (*plan.Plan, error) {
	img, err := p.Image(name)
	if err != nil {
		return nil, err
	}
	return plan.Make(ctx, p.Root, p.Org, img, p, force)
}

// who is the person at the keyboard.
func who() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	uid := os.Getuid()
	if ids, ok := machine.Inside(); ok && ids.User != 0 {
		uid = int(ids.User)
	}
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return strconv.Itoa(uid)
}

// opened is a command's run that starts with an open place.
func opened(strict bool, run func(context.Context, *invocation, *place) error) func(context.Context, *invocation) error {
	return func(ctx context.Context, in *invocation) error {
		p, err := in.open(ctx, strict)
		if err != nil {
			return err
		}
		defer p.close()
		return run(ctx, in, p)
	}
}
