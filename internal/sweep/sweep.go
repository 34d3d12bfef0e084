// Package sweep removes from a state what nothing needs: what dead runs left, bytes that nothing speaks of, and what exceeds a budget.
package sweep

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"time"

	"zygos/internal/digest"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/state"
)

// Runs removes what dead runs left: their folders, control groups, and builds that are still called running.
func Runs(ctx context.Context, s *state.State) (list []state.Leftover, err error) {
	err = s.Alone(ctx, func() (err error) {
		list, err = s.SweepRuns(ctx)
		return err
	})
	for _, group := range machine.SweepGroups() {
		list = append(list, state.Leftover{What: "control group of a dead run", Name: group})
	}
	return list, err
}

// Unfinished removes files under temporary names and locks that nobody holds. Call it only while nobody else uses the state.
func Unfinished(s *state.State) (list []state.Leftover) {
	for what, patterns := range map[string][]string{
		"half-written file": {"store/blob-*", "store/.new-*", "store/blobs/sha256/.new-*", "layers/keys/new-*", "layers/new-*",
			".new-*", "builds/*/.new-*", "manifests/*/.new-*", "captures/.new-*", "pieces/*/*/.new-*",
			"traces/*/.new-*", "texts/.new-*", "failed/*/*/.new-*"},
		"layer that was being removed": {"layers/*.gone", "layers/keys/*.gone"},
	} {
		for _, pattern := range patterns {
			for _, name := range s.Dir.Find(pattern) {
				bytes := state.Usage(name)
				if layer.RemoveAll(name) == nil {
					list = append(list, state.Leftover{What: what, Name: name, Bytes: bytes})
				}
			}
		}
	}
	for _, name := range slices.Concat(s.Dir.Find("locks/"+state.StageLock+"*"), s.Dir.Find("locks/lease-*")) {
		_ = os.Remove(name) // no more than an empty file
	}
	return list
}

// Bytes removes files in the store and kept texts that nothing speaks of; keep says which blobs something does speak of. What came into the
// store, or was taken from it, since the oldest run began stays: the run may be about to register it. No run begins meanwhile.
func Bytes(ctx context.Context, s *state.State, keep func() (func(digest.Digest) bool, error)) (list []state.Leftover, err error) {
	err = s.Alone(ctx, func() error {
		since := s.OldestRun()
		stays, err := keep()
		if err != nil {
			return err
		}
		list = append(blobs(s, since, stays), texts(s, since)...)
		return nil
	})
	return list, err
}

// blobs removes files in the store that nothing speaks of and nobody used since.
func blobs(s *state.State, since time.Time, stays func(digest.Digest) bool) (list []state.Leftover) {
	for name, bytes := range s.Store.Sweep(since, stays) {
		list = append(list, state.Leftover{What: "artifact that no version has", Name: name, Bytes: bytes})
	}
	for _, name := range s.Dir.Find("captures/*") {
		if b, known := state.Captured(name); (!known || !s.Store.Has(b)) && !usedSince(name, since) {
			_ = os.Remove(name) // it says nothing
		}
	}
	for _, name := range s.Dir.Find("pieces/*/*/*") {
		if last, _, err := state.ReadLastDisk(name); (err != nil || !s.Store.Has(last.Of)) && !usedSince(name, since) {
			_ = os.Remove(name) // as above
		}
	}
	return list
}

func usedSince(name string, since time.Time) bool {
	info, err := os.Stat(name)
	return err == nil && info.ModTime().After(since)
}

// Kept files are looked through once they take that much, and half as much again as after the last time.
const textsEnough = 64 << 20

var hexDigest = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[0-9a-f]{64}`) })

// texts removes kept files that no record of a build names any more and that were not kept since.
func texts(s *state.State, since time.Time) (list []state.Leftover) {
	dir := s.Dir.In("texts")
	memory := s.Dir.In("texts-swept")
	last, _ := os.ReadFile(memory)                     // none: it is the first time
	after, _ := strconv.ParseInt(string(last), 10, 64) // as above
	if state.Usage(dir) < max(textsEnough, after+after/2) {
		return nil
	}
	named := map[string]bool{}
	for _, name := range s.Dir.Records() {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil // what it names is not known
		}
		for _, digest := range hexDigest().FindAll(text, -1) {
			named[string(digest)] = true
		}
	}
	entries, _ := os.ReadDir(dir) // no folder, nothing to sweep
	for _, entry := range entries {
		name := filepath.Join(dir, entry.Name())
		if named[entry.Name()] || usedSince(name, since) {
			continue
		}
		if bytes := state.Usage(name); os.Remove(name) == nil {
			list = append(list, state.Leftover{What: "file that no build's record names", Name: entry.Name(), Bytes: bytes})
		}
	}
	_ = os.WriteFile(memory, fmt.Append(nil, state.Usage(dir)), 0o644) // without it, it is looked through again
	return list
}
