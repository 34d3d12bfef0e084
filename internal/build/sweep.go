package build

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/digest"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/record"
	"zygos/internal/state"
	"zygos/internal/store"
)

// Leftover is something that a dead run left and that was removed.
type Leftover struct {
	What  string `json:"what"` // in words
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// Sweep removes what dead runs left. What belongs to a process that is alive stays. alone says
// that no other process uses the state; only then unfinished files outside a run's folder go. If there
// was a dead run, or thorough asks for it, so do bytes that nothing in the catalog speaks of; keep says
// which of these stay.
func (e *Engine) Sweep(ctx context.Context, alone, thorough bool, keep func() (func(digest.Digest) bool, error)) ([]Leftover, error) {
	var list []Leftover
	err := e.Alone(ctx, func() (err error) {
		list, err = e.sweepRuns(ctx)
		return err
	})
	thorough = thorough || len(list) > 0
	list = append(list, sweepGroups()...)
	if alone {
		list = append(list, e.sweepUnfinished()...)
	}
	if alone && thorough && err == nil {
		var stays func(digest.Digest) bool
		if stays, err = keep(); err == nil {
			list = append(list, e.sweepBlobs(stays)...)
			list = append(list, e.sweepTexts()...)
		}
	}
	return list, err
}

// sweepRuns removes the folders of runs that died, and ends their builds in the catalog.
func (e *Engine) sweepRuns(ctx context.Context) (list []Leftover, err error) {
	entries, err := os.ReadDir(e.State.Run(""))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = nil
	for _, entry := range entries {
		if e.State.Alive(entry.Name()) {
			continue
		}
		dir := e.State.Run(entry.Name())
		bytes := state.Usage(dir)
		if e := layer.RemoveAll(dir); e != nil {
			err = errors.Join(err, e)
			continue
		}
		list = append(list, Leftover{"unfinished run", entry.Name(), bytes})
	}
	err = errors.Join(err, e.settleRecords(ctx))
	running, e2 := e.Catalog.Running(ctx)
	err = errors.Join(err, e2)
	for _, b := range running {
		if !e.State.Runs(e.Place, &b) {
			err = errors.Join(err, e.Catalog.EndBuild(ctx, b.ID, catalog.Interrupted, state.Silent, e.Catalog.Now()))
			if !slices.ContainsFunc(list, func(l Leftover) bool { return l.Name == b.ID }) {
				list = append(list, Leftover{"build that was still called running", b.ID, 0})
			}
		}
	}
	return list, err
}

// settleRecords puts the records in their place that builds wrote whose processes ended at that moment, if they made a version, and
// removes those of builds that did not.
func (e *Engine) settleRecords(ctx context.Context) (err error) {
	for _, name := range e.State.Find("builds/*/" + record.PendingFile) {
		dir := filepath.Dir(name)
		id := filepath.Base(dir)
		if e.State.Alive(id) {
			continue
		}
		b, wrong := e.Catalog.Build(ctx, id)
		var unknown *catalog.NotFoundError
		switch {
		case errors.As(wrong, &unknown): // of another catalog: nothing is known
		case wrong != nil:
			return errors.Join(err, wrong)
		case b.ID == id && b.State == catalog.Registered:
			err = errors.Join(err, os.Rename(name, filepath.Join(dir, record.File)))
		case b.ID == id && b.State != catalog.Running:
			err = errors.Join(err, os.Remove(name))
		}
	}
	return err
}

// sweepGroups removes the control groups of processes that are gone.
func sweepGroups() (list []Leftover) {
	for _, place := range machine.Groups() {
		dirs, _ := filepath.Glob(filepath.Join(place, machine.GroupPrefix+"*")) // the pattern's form is known
		for _, dir := range dirs {
			text, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(dir), machine.GroupPrefix), "-")
			pid, err := strconv.Atoi(text)
			if err == nil && errors.Is(unix.Kill(pid, 0), unix.ESRCH) && machine.RemoveGroup(dir) {
				list = append(list, Leftover{"control group of a dead run", dir, 0})
			}
		}
	}
	return list
}

// sweepUnfinished removes files under temporary names and locks that nobody holds.
func (e *Engine) sweepUnfinished() (list []Leftover) {
	for what, patterns := range map[string][]string{
		"half-written file": {"store/blob-*", "store/.new-*", "store/blobs/sha256/.new-*", "layers/keys/new-*", "layers/new-*",
			".new-*", "builds/*/.new-*", "manifests/*/.new-*", "captures/.new-*", "pieces/*/*/.new-*",
			"traces/*/.new-*", "texts/.new-*", "failed/*/*/.new-*"},
		"layer that was being removed": {"layers/*.gone", "layers/keys/*.gone"},
	} {
		for _, pattern := range patterns {
			for _, name := range e.State.Find(pattern) {
				bytes := state.Usage(name)
				if layer.RemoveAll(name) == nil {
					list = append(list, Leftover{what, name, bytes})
				}
			}
		}
	}
	for _, name := range slices.Concat(e.State.Find("locks/"+stageLock+"*"), e.State.Find("locks/lease-*")) {
		_ = os.Remove(name) // no more than an empty file
	}
	return list
}

// sweepBlobs removes whole files in the store that no version, base or listing speaks of.
func (e *Engine) sweepBlobs(keep func(digest.Digest) bool) (list []Leftover) {
	dir := filepath.Dir(e.Store.Path(digest.Digest{}))
	entries, _ := os.ReadDir(dir) // no folder, nothing to sweep
	for _, entry := range entries {
		d, err := digest.Parse(entry.Name())
		if err == nil && keep(d) {
			continue
		}
		name := filepath.Join(dir, entry.Name())
		bytes := state.Usage(name)
		if os.Remove(name) == nil {
			list = append(list, Leftover{"artifact that no version has", entry.Name(), bytes})
		}
	}
	memories := e.State.In("captures")
	entries, _ = os.ReadDir(memories) // as above
	for _, entry := range entries {
		var c captured
		name := filepath.Join(memories, entry.Name())
		if text, err := os.ReadFile(name); err != nil || json.Unmarshal(text, &c) != nil || !e.Store.Has(store.Blob(c)) {
			_ = os.Remove(name) // it says nothing
		}
	}
	for _, name := range e.State.Find("pieces/*/*/*") {
		if last, _, err := readLastDisk(name); err != nil || !e.Store.Has(last.Of) {
			_ = os.Remove(name) // as above
		}
	}
	return list
}

// Sizes is what a state takes, in bytes.
type Sizes struct {
	Layers int64 `json:"layers"`
	Store  int64 `json:"store"`
	Builds int64 `json:"builds"` // logs and records
	Failed int64 `json:"failed"` // states kept of failed builds
	Other  int64 `json:"other"`
}

// Total is the sum.
func (s Sizes) Total() int64 { return s.Layers + s.Store + s.Builds + s.Failed + s.Other }

// Measure tells what the state takes.
func (e *Engine) Measure() Sizes {
	s := Sizes{Layers: e.Layers.Usage()}
	entries, _ := os.ReadDir(string(e.State)) // an unreadable state takes nothing that could be told
	for _, entry := range entries {
		name := e.State.In(entry.Name())
		switch entry.Name() {
		case "layers":
		case "store":
			s.Store += state.Usage(name)
		case "builds":
			s.Builds += state.Usage(name)
		case "failed":
			s.Failed += state.Usage(name)
		default:
			s.Other += state.Usage(name)
		}
	}
	return s
}

// Trim brings the state within its size budget as far as it can be helped: first go the states
// kept of failed builds, then snapshots, those least recently used first. What a version or a
// running build needs stays, and the state of the build that ends.
func (e *Engine) Trim(ctx context.Context, build string) error {
	if e.Budget == 0 {
		return nil
	}
	over := e.Measure().Total() - e.Budget
	if over <= 0 {
		return nil
	}
	return e.Alone(ctx, func() error {
		for _, dir := range e.State.Find("failed/b-*") { // ids sort by time
			if over <= 0 {
				return nil
			}
			if filepath.Base(dir) == build {
				continue
			}
			bytes := state.Usage(dir)
			if layer.RemoveAll(dir) == nil {
				over -= bytes
			}
		}
		pinned, since, err := e.needed(ctx, func(string) bool { return false })
		if err != nil {
			return err
		}
		_, err = e.Layers.Evict(over, since, func(digest string) bool { return pinned[digest] })
		return err
	})
}

// Drop throws away those of some layers that no running build needs and no version but those that
// are about to go, with their snapshots. Call it within Alone.
func (e *Engine) Drop(ctx context.Context, some, goes func(name string) bool) error {
	pinned, since, err := e.needed(ctx, goes)
	if err == nil {
		_, err = e.Layers.Evict(math.MaxInt64, since, func(digest string) bool { return pinned[digest] || !some(digest) })
	}
	return err
}

// needed lists the layers of running builds and of versions that stay, and says when the oldest build began.
func (e *Engine) needed(ctx context.Context, goes func(ref string) bool) (pinned map[string]bool, since time.Time, err error) {
	pinned, since = map[string]bool{}, time.Now()
	err = e.Catalog.Trees(ctx, func(ref string, trees []catalog.Tree) {
		for _, t := range trees {
			for _, digest := range t.Layers {
				pinned[digest] = pinned[digest] || !goes(ref)
			}
		}
	})
	if err != nil {
		return nil, since, err
	}
	runs, _ := os.ReadDir(e.State.Run("")) // no folder, no runs
	for _, r := range runs {
		pins, err := os.ReadFile(filepath.Join(e.State.Run(r.Name()), pinsName))
		if err != nil {
			continue
		}
		for _, digest := range strings.Fields(string(pins)) {
			pinned[digest] = true
		}
		if info, err := os.Stat(filepath.Join(e.State.Run(r.Name()), pinsName)); err == nil && e.State.Alive(r.Name()) &&
			info.ModTime().Before(since) {
			since = info.ModTime()
		}
	}
	for _, dir := range e.State.Find("failed/b-*") {
		for _, state := range record.FailedStates(dir) {
			for _, digest := range state.Layers {
				pinned[digest] = true
			}
		}
	}
	return pinned, since, nil
}
