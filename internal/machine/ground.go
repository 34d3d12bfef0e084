package machine

import (
	"context"
	"os"
	"path/filepath"

	"zygos/internal/layer"
)

// Ground is what a stage or an instance starts from.
type Ground struct {
	Store  *layer.Store
	Layers []string    // digests, lowest first
	Tree   *layer.Tree // these, merged
	Kept   string      // on top of them: a folder that Result.Keep filled, "" for none
	Temp   string      // folder on the store's disk for what is unfinished; its owner clears it away after a kill
	Spare  string      // see layer.Upper
	Epoch  int64       // see layer.Upper
}

// Result is what a stage left, until Drop; where and how is the machine's matter.
type Result interface {
	// Commit makes it a layer in the ground's store.
	Commit(ctx context.Context) (digest string, bytes int64, err error)
	// Keep moves it, as far as it came, into a folder that a Ground can start from; not there yet.
	Keep(dir string) error
	Drop()
}

// Instance is something captured, started. What changes in it goes with it.
type Instance interface {
	// Run runs a shell and returns its exit code.
	Run(ctx context.Context, shell Shell) (code int, err error)
	// Keep moves what changed, once it is at rest, into a folder that is not there yet.
	Keep(dir string) error
	Stop()
}

// overlay is a ground in this host's folders, with one more for what changes.
type overlay struct {
	Folders
	ground Ground
	dir    string // of Upper, for layer.Store.Commit
	upper  *layer.Upper
}

var _ Result = (*overlay)(nil)

// open makes the folders of a ground.
func (g Ground) open(ctx context.Context) (o *overlay, err error) {
	o = &overlay{ground: g}
	defer func() {
		if err != nil {
			o.Drop()
		}
	}()
	if o.dir, err = g.Store.Begin(g.Temp); err != nil {
		return nil, err
	}
	o.Upper = filepath.Join(o.dir, "tree")
	files := layer.Files{Store: g.Store, Layers: g.Layers}
	o.upper = &layer.Upper{Folder: layer.Folder{Dir: o.Upper, Owners: g.Store.Owners}, Lower: g.Tree, Below: files.Path, Spare: g.Spare,
		Epoch: g.Epoch}
	if err = o.upper.Prepare(ctx); err != nil {
		return nil, err
	}
	if o.Scratch, err = os.MkdirTemp(g.Temp, "scratch-"); err != nil {
		return nil, err
	}
	if err = os.Chmod(o.Scratch, 0o755); err != nil {
		return nil, err
	}
	for _, digest := range g.Layers {
		o.Folders.Layers = append(o.Folders.Layers, g.Store.TreeDir(digest))
	}
	if g.Kept != "" {
		o.Folders.Layers = append(o.Folders.Layers, g.Kept)
	}
	return o, nil
}

func (o *overlay) Commit(ctx context.Context) (digest string, bytes int64, err error) {
	x, err := o.upper.Scan(ctx)
	if err != nil {
		return "", 0, err
	}
	digest, err = o.ground.Store.Commit(o.dir, x)
	return digest, x.Bytes(), err
}

func (o *overlay) Keep(dir string) error { return os.Rename(o.Upper, dir) }

func (o *overlay) Drop() {
	for _, dir := range []string{o.dir, o.Scratch} {
		if dir != "" {
			_ = layer.RemoveAll(dir) // gone already if it became a layer; else cleared away with Temp
		}
	}
}

// Run carries out a stage: see Machine.
func (s Sandbox) Run(ctx context.Context, on Ground, stage Stage, watch Watcher) (Result, error) {
	o, err := on.open(ctx)
	if err != nil {
		return nil, err
	}
	return o, s.RunIn(ctx, o.Folders, stage, watch)
}

// Start makes an instance: see Machine.
func (s Sandbox) Start(ctx context.Context, on Ground, network bool) (Instance, error) {
	o, err := on.open(ctx)
	return &instance{s, o, network}, err
}

type instance struct {
	sandbox Sandbox
	*overlay
	network bool
}

func (i *instance) Run(ctx context.Context, shell Shell) (code int, err error) {
	return i.sandbox.shell(ctx, i.Folders, i.network, shell)
}

func (i *instance) Stop() { i.Drop() }
