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
	"zygos/internal/plan"
	"zygos/internal/store"
	"zygos/internal/workspace"
)

// State is a workspace with its state opened.
type State struct {
	*workspace.Workspace
	Dir     Dir
	Catalog *catalog.Catalog
	Store   *store.Store
	Layers  *layer.Store
	ID      string // who this state is
	Frozen  bool   // it can only be read
	Epoch   string // plan.Options has it

	Owned sync.Map // regions by name, and when each was last seen to be this catalog's (time.Time)

	use    *os.File // locked while this process uses the state
	mu     sync.Mutex
	key    string                            // of the marks of secrets, once it was asked for
	traces map[string]map[string]*plan.Trace // as they were when they were first asked for
}

// Open opens the state of a workspace whose definitions were loaded. doubts are problems in these that
// the caller takes as they are. A state that cannot be written is opened for looking. If only the
// catalog cannot be opened, the error comes with the rest of the state, to be closed all the same.
func Open(ctx context.Context, w *workspace.Workspace, doubts definition.Problems) (*State, error) {
	s := &State{Workspace: w, Dir: Dir(w.State), traces: map[string]map[string]*plan.Trace{}}
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
	ids, _ := machine.Planned()
	s.Layers.Owners = layer.Owners{First: ids.First, Count: ids.Count}
	_, s.Layers.Check = machine.Inside()
	s.chooseAll()
	return s, s.openCatalog(ctx, doubts)
}

// Close ends the use of the state.
func (s *State) Close() {
	if s.Catalog != nil {
		s.Catalog.Close() // every change was committed
	}
	s.use.Close()
}

// Leave ends the use of the state by this process, which hands over to another one.
func (s *State) Leave() { s.use.Close() }

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

// IfAlone does something if nobody else uses the state, and says whether that is so: no other process, and
// in this one no other State opened on it. Call it before this one has unfinished files: for a moment it
// holds no lock.
func (s *State) IfAlone(ctx context.Context, do func() error) (alone bool, err error) {
	if alone = unix.Flock(int(s.use.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil; alone {
		err = do()
	}
	return alone, errors.Join(err, flock.Share(ctx, s.use))
}

// Runs says whether a build that is called running does.
func (s *State) Runs(b *catalog.Build) bool { return s.Dir.Runs(s.ID, b) }

// Settle makes a build that is called running and does not run an interrupted one.
func (s *State) Settle(b *catalog.Build) { s.Dir.Settle(s.ID, b) }
