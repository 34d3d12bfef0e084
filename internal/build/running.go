package build

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/flock"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/state"
	"zygos/internal/store"
)

// claim notes which ids this state's trees use, and refuses a state whose trees use others.
func (e *Engine) claim() error {
	name := e.State.IDs()
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
		return fmt.Errorf("the state in %s was made with the ids from %d (%d of them), and this run would use %d (%d): it belongs to another "+
			"user, or the host's id ranges changed.\n"+
			"Run as the same user as before, or use a state of your own with --state DIR", e.State, had.Host, had.Count, e.IDs.Host, e.IDs.Count)
	}
	return nil
}

// lock opens a lock file and takes its lock, without waiting.
func (e *Engine) lock(name string) (*os.File, error) {
	if err := os.MkdirAll(e.State.Lock(""), 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(e.State.Lock(name), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		lock.Close()
		return nil, err
	}
	return lock, nil
}

const stageLock = "stage-" // begins the names of the locks of stages that run

// once makes sure that nobody else runs the stage with this key, and waits for whoever does.
func (r *run) once(ctx context.Context, stage, variant, key string) (release func(), err error) {
	told, began := false, time.Now()
	for {
		lock, err := r.lock(stageLock + key)
		if err == nil {
			err = lock.Truncate(0)
			if err == nil {
				_, err = lock.WriteAt([]byte(r.plan.Build), 0)
			}
			return func() { lock.Close() }, err
		}
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return nil, err
		}
		if !told && time.Since(began) > 200*time.Millisecond {
			told = true
			other, _ := os.ReadFile(r.State.Lock(stageLock + key)) // only for the message
			r.tell(variant, record.Waiting{At: record.At{Stage: stage}, From: strings.TrimSpace(string(other))})
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// slot waits until one more stage or capture may run.
func (r *run) slot(ctx context.Context) (release func(), err error) {
	if r.Slots == nil {
		return func() {}, nil
	}
	select {
	case r.Slots <- struct{}{}:
		return func() { <-r.Slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Alone does something while no build begins and no run folder is swept.
func (e *Engine) Alone(ctx context.Context, do func() error) error {
	if err := os.MkdirAll(e.State.Lock(""), 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(e.State.Lock(state.BeginLock), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	defer lock.Close() // and with it the lock
	if err := flock.Take(ctx, lock); err != nil {
		return err
	}
	return do()
}

// newRunDir makes the build's folder for unfinished things; whoever holds its lock is alive. The
// layers that it starts from are pinned there.
func (e *Engine) newRunDir(ctx context.Context, p *plan.Plan) (dir string, hold *os.File, err error) {
	var pins []string
	for _, shape := range p.Shapes {
		pins = append(pins, shape.Layers...)
	}
	return e.Hold(ctx, p.Build, pins)
}

// Hold makes a folder for unfinished things that is swept once this process is gone, and keeps
// layers from being thrown away meanwhile. No two have the same name.
func (e *Engine) Hold(ctx context.Context, name string, pins []string) (dir string, hold *os.File, err error) {
	dir = e.State.Run(name)
	err = e.Alone(ctx, func() error {
		if _, err := e.sweepRuns(ctx); err != nil {
			return err
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, pinsName), []byte(strings.Join(pins, "\n")), 0o644); err != nil {
			return e.full(err, 0)
		}
		if hold, err = os.Create(e.State.RunLock(name)); err != nil {
			return err
		}
		return flock.Take(ctx, hold)
	})
	return dir, hold, err
}

const pinsName = "pins"

const beat = 20 * time.Second // between two words of a running build to the catalog

// stayAlive lets other states know that the build runs.
func (r *run) stayAlive(ctx context.Context) {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := r.Catalog.Beat(ctx, r.plan.Build); err != nil && ctx.Err() == nil {
				r.emit(record.Note{Text: "the catalog could not be told that the build runs: " + err.Error()})
			}
		}
	}
}

const cancelName = "cancel"

// Cancel asks a running build to stop, in somebody's name.
func Cancel(at state.Dir, id, who string) error {
	return store.WriteFile(filepath.Join(at.Run(id), cancelName), []byte(who))
}

// heedCancel stops the build when somebody asks for it.
func (r *run) heedCancel(ctx context.Context, cancel context.CancelCauseFunc) {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if who, err := os.ReadFile(filepath.Join(r.dir, cancelName)); err == nil {
				cancel(&record.CancelledError{Image: r.plan.Image, Who: string(who)})
				return
			}
		}
	}
}
