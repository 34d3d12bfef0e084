package state

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/flock"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/store"
)

// Claim notes which ids the trees of this state use, and refuses a state whose trees use others.
func (s *State) Claim() error {
	name := s.Dir.IDs()
	text, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		if text, err = json.Marshal(s.IDs); err != nil {
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
	if had.Host != s.IDs.Host || had.Count != s.IDs.Count {
		return fmt.Errorf("the state in %s was made with the ids from %d (%d of them), and this run would use %d (%d): it belongs to another "+
			"user, or the host's id ranges changed.\n"+
			"Run as the same user as before, or use a state of your own with --state DIR", s.Dir, had.Host, had.Count, s.IDs.Host, s.IDs.Count)
	}
	return nil
}

// open opens a lock file.
func (s *State) open(name string) (*os.File, error) {
	if err := os.MkdirAll(s.Dir.Lock(""), 0o755); err != nil {
		return nil, err
	}
	return os.OpenFile(s.Dir.Lock(name), os.O_CREATE|os.O_RDWR, 0o644)
}

// StageLock begins the names of the locks of stages that run.
const StageLock = "stage-"

// Once makes sure that nobody else, in any process, runs the stage with a key, and waits for whoever does. build is the id of the build
// that asks; waiting is called once if it has to wait, with the id of the build that runs the stage.
func (s *State) Once(ctx context.Context, key, build string, waiting func(other string)) (release func(), err error) {
	told, began := false, time.Now()
	for {
		lock, err := s.open(StageLock + key)
		if err != nil {
			return nil, err
		}
		if err = unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err == nil {
			err = lock.Truncate(0)
			if err == nil {
				_, err = lock.WriteAt([]byte(build), 0)
			}
			return func() { lock.Close() }, err
		}
		lock.Close()
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return nil, err
		}
		if !told && time.Since(began) > 200*time.Millisecond {
			told = true
			other, _ := os.ReadFile(s.Dir.Lock(StageLock + key)) // only for the message
			waiting(strings.TrimSpace(string(other)))
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Alone does something while no run begins and no run's folder is swept, in any process.
func (s *State) Alone(ctx context.Context, do func() error) error {
	lock, err := s.open(BeginLock)
	if err != nil {
		return err
	}
	defer lock.Close() // and with it the lock
	if err := flock.Take(ctx, lock); err != nil {
		return err
	}
	return do()
}

// Hold makes a folder for what is unfinished of a run. It is swept once this process is gone. Until hold is closed the run is alive: the
// layers in pins stay. No two runs have the same name.
func (s *State) Hold(ctx context.Context, name string, pins []string) (dir string, hold io.Closer, err error) {
	dir = s.Dir.Run(name)
	err = s.Alone(ctx, func() error {
		if _, err := s.SweepRuns(ctx); err != nil {
			return err
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(s.Dir.Pins(name), []byte(strings.Join(pins, "\n")), 0o644); err != nil {
			return s.Full(err, 0)
		}
		lock, err := os.Create(s.Dir.RunLock(name))
		if err != nil {
			return err
		}
		hold = lock
		return flock.Take(ctx, lock)
	})
	return dir, hold, err
}

// During does something with a folder for what is unfinished, as Hold makes it, and removes it afterwards.
func (s *State) During(ctx context.Context, name string, pins []string, do func(dir string) error) error {
	dir, hold, err := s.Hold(ctx, name, pins)
	if err != nil {
		return err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	return do(dir)
}

// Leftover is something that a dead run left and that was removed.
type Leftover struct {
	What  string `json:"what"` // in words
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// SweepRuns removes the folders of runs that died, and ends their builds in the catalog. Call it within Alone.
func (s *State) SweepRuns(ctx context.Context) (list []Leftover, err error) {
	entries, err := os.ReadDir(s.Dir.Run(""))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = nil
	dead := map[string]bool{}
	for _, entry := range entries {
		if s.Dir.Alive(entry.Name()) {
			continue
		}
		dir := s.Dir.Run(entry.Name())
		bytes := Usage(dir)
		if e := layer.RemoveAll(dir); e != nil {
			err = errors.Join(err, e)
			continue
		}
		dead[entry.Name()] = true
		list = append(list, Leftover{"unfinished run", entry.Name(), bytes})
	}
	if s.Catalog == nil { // a state that was made for one build
		return list, err
	}
	err = errors.Join(err, s.settleRecords(ctx))
	running, e := s.Catalog.Running(ctx)
	err = errors.Join(err, e)
	for _, b := range running {
		if !s.Runs(&b) {
			err = errors.Join(err, s.Catalog.EndBuild(ctx, b.ID, catalog.Interrupted, Silent, s.Catalog.Now()))
			if !dead[b.ID] {
				list = append(list, Leftover{"build that was still called running", b.ID, 0})
			}
		}
	}
	return list, err
}

// settleRecords puts the records in their place that builds wrote whose processes ended at that moment, if they made a version, and
// removes those of builds that did not.
func (s *State) settleRecords(ctx context.Context) (err error) {
	for _, name := range s.Dir.Find("builds/*/" + pendingFile) {
		id := filepath.Base(filepath.Dir(name))
		if s.Dir.Alive(id) {
			continue
		}
		b, wrong := s.Catalog.Build(ctx, id)
		var unknown *catalog.NotFoundError
		switch {
		case errors.As(wrong, &unknown): // of another catalog: nothing is known
		case wrong != nil:
			return errors.Join(err, wrong)
		case b.ID == id && b.State == catalog.Registered:
			err = errors.Join(err, os.Rename(name, s.Dir.Record(id)))
		case b.ID == id && b.State != catalog.Running:
			err = errors.Join(err, os.Remove(name))
		}
	}
	return err
}

// OldestRun is when the oldest run that lives began, or now if none does. What was made or used since then may be about to be needed.
func (s *State) OldestRun() time.Time {
	since := time.Now()
	runs, _ := os.ReadDir(s.Dir.Run("")) // no folder, no runs
	for _, r := range runs {
		if info, err := os.Stat(s.Dir.Pins(r.Name())); err == nil && s.Dir.Alive(r.Name()) && info.ModTime().Before(since) {
			since = info.ModTime()
		}
	}
	return since
}

// slots bound how many stages and captures run at once in this process.
type slots struct {
	busy int
	free chan struct{} // closed when one ends
}

// Slot waits until fewer than most stages and captures run in this process, whoever began them.
func (s *State) Slot(ctx context.Context, most int) (release func(), err error) {
	for {
		s.mu.Lock()
		if s.slots.free == nil {
			s.slots.free = make(chan struct{})
		}
		free := s.slots.free
		room := s.slots.busy < most
		if room {
			s.slots.busy++
		}
		s.mu.Unlock()
		if room {
			return func() {
				s.mu.Lock()
				defer s.mu.Unlock()
				s.slots.busy--
				close(s.slots.free)
				s.slots.free = make(chan struct{})
			}, nil
		}
		select {
		case <-free:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}
