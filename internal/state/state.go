package state

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/store"
	"zygos/internal/workspace"
)

// State is a host's place for the work of one organisation: a folder with layers, blobs, locks and records, and the catalog that it
// belongs to. A process opens a state once, and all its callers share it.
type State struct {
	Dir     Dir
	Catalog *catalog.Catalog
	Store   *store.Store
	Layers  *layer.Store
	ID      string      // who this state is
	Host    string      // name of this machine
	IDs     machine.IDs // that trees use here
	Frozen  bool        // it can only be read

	Owned sync.Map // regions by name, and when each was last seen to be this catalog's (time.Time)

	root  string             // of the workspace
	named definition.Catalog // as zygos.toml says
	use   *os.File           // locked while this process uses the state
	slots slots
	users users
	mu    sync.Mutex
	key   string // of the marks of secrets, once it was asked for
}

// Open opens the state of a workspace. doubts are problems in its definitions that the caller takes as they are. A state that cannot be
// written is opened for looking. If only the catalog cannot be opened, the error comes with the rest of the state, to be closed all the
// same.
func Open(ctx context.Context, w *workspace.Workspace, doubts definition.Problems) (*State, error) {
	s := &State{Dir: Dir(w.State), root: w.Root, named: w.Org.Catalog}
	s.Host, _ = os.Hostname() // a host without a name has none to record
	err := w.MakeState()
	if err == nil {
		s.use, err = useLock(ctx, s.Dir)
	}
	if s.Frozen = cannotWrite(err) && isFolder(w.State); s.Frozen { // whoever only looks needs no more
		s.use, err = os.Open(w.State)
	}
	if err != nil {
		return nil, fmt.Errorf("the state folder cannot be used: %w; name another one with --state DIR", err)
	}
	if s.Store, err = store.Open(s.Dir.Store()); err != nil {
		return nil, errors.Join(err, s.use.Close())
	}
	if !s.Frozen {
		s.Dir.keepReserve()
	}
	s.Layers = &layer.Store{Dir: s.Dir.Layers()}
	s.IDs, _ = machine.Planned()
	s.Layers.Owners = layer.Owners{First: s.IDs.First, Count: s.IDs.Count}
	_, s.Layers.Check = machine.Inside()
	return s, s.openCatalog(ctx, doubts)
}

// Scratch is a state in a folder for one build, which stands on the layers of this one. It belongs to no catalog, and needs no Close.
func (s *State) Scratch(at Dir) (*State, error) {
	blobs, err := store.Open(at.Store())
	return &State{Dir: at, Store: blobs, ID: "scratch", Host: s.Host, IDs: s.IDs,
		Layers: &layer.Store{Dir: at.Layers(), Owners: s.Layers.Owners, Check: s.Layers.Check, Lower: s.Layers}}, err
}

// Close ends the use of the state.
func (s *State) Close() {
	if s.Catalog != nil {
		s.Catalog.Close() // every change was committed
	}
	s.use.Close()
}

func cannotWrite(err error) bool {
	return errors.Is(err, unix.EROFS) || errors.Is(err, os.ErrPermission)
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// Writable refuses to begin what would change the state, if that can only be read.
func (s *State) Writable() error {
	if s.Frozen {
		return fmt.Errorf("%w (%s); name another one with --state DIR, or run the command where it can be written", catalog.ErrFrozen, s.Dir)
	}
	return nil
}

// useLock takes part in the lock that all processes hold which use a state.
func useLock(ctx context.Context, d Dir) (*os.File, error) {
	if err := os.MkdirAll(d.Lock(""), 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(d.Lock(UseLock), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	return f, flock.Share(ctx, f)
}

// Runs says whether a build that is called running does.
func (s *State) Runs(b *catalog.Build) bool { return s.Dir.Runs(s.ID, b) }

// Settle makes a build that is called running and does not run an interrupted one.
func (s *State) Settle(b *catalog.Build) { s.Dir.Settle(s.ID, b) }
