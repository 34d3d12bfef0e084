package sweep

import (
	"context"
	"math"
	"os"
	"path/filepath"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/record"
	"zygos/internal/state"
)

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

// Measure tells what a state in a folder takes.
func Measure(at state.Dir) Sizes {
	s := Sizes{Layers: (&layer.Store{Dir: at.Layers()}).Usage()}
	entries, _ := os.ReadDir(string(at)) // an unreadable state takes nothing that could be told
	for _, entry := range entries {
		name := at.In(entry.Name())
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

// Trim brings a state within a budget of bytes as far as it can be helped: first go the states kept of failed builds, then snapshots, those
// least recently used first. What a version or a running build needs stays, and what is kept of the build that ends. 0 bounds nothing.
func Trim(ctx context.Context, s *state.State, budget int64, build string) error {
	if budget == 0 {
		return nil
	}
	over := Measure(s.Dir).Total() - budget
	if over <= 0 {
		return nil
	}
	return s.Alone(ctx, func() error {
		for _, dir := range s.Dir.Find("failed/b-*") { // ids sort by time
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
		pinned, err := needed(ctx, s, func(string) bool { return false })
		if err != nil {
			return err
		}
		_, err = s.Layers.Evict(over, s.OldestRun(), func(digest string) bool { return pinned[digest] })
		return err
	})
}

// Layers throws away those of some layers that no running build needs and no version but those that are about to go, with their snapshots.
// Call it within Alone.
func Layers(ctx context.Context, s *state.State, some map[string]bool, goes func(ref string) bool) error {
	pinned, err := needed(ctx, s, goes)
	if err == nil {
		_, err = s.Layers.Evict(math.MaxInt64, s.OldestRun(), func(digest string) bool { return pinned[digest] || !some[digest] })
	}
	return err
}

// needed lists the layers of running builds, of failed ones that are kept, and of versions that stay.
func needed(ctx context.Context, s *state.State, goes func(ref string) bool) (pinned map[string]bool, err error) {
	pinned = map[string]bool{}
	err = s.Catalog.Trees(ctx, func(ref string, trees []catalog.Tree) {
		for _, t := range trees {
			for _, digest := range t.Layers {
				pinned[digest] = pinned[digest] || !goes(ref)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	runs, _ := os.ReadDir(s.Dir.Run("")) // no folder, no runs
	for _, r := range runs {
		pins, _ := os.ReadFile(s.Dir.Pins(r.Name())) // none yet: it needs nothing
		for _, digest := range strings.Fields(string(pins)) {
			pinned[digest] = true
		}
	}
	for _, dir := range s.Dir.Find("failed/b-*") {
		for _, failed := range record.FailedStates(dir) {
			for _, digest := range failed.Layers {
				pinned[digest] = true
			}
		}
	}
	return pinned, nil
}
