package build

import (
	"encoding/json"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/state"
	"zygos/internal/store"
)

// failedState is what is kept of a stage that failed, for a look at it.
type failedState struct {
	Failure  *Failure             `json:"failure"`
	Layers   []string             `json:"layers"`
	Stage    plan.Stage           `json:"stage"`
	Scripts  [][]byte             `json:"scripts"`
	Disk     string               `json:"disk,omitempty"`     // its file beside this; then there is no tree
	Artifact *definition.Artifact `json:"artifact,omitempty"` // of which it is
}

// keepFailed keeps the tree that a stage left when it failed.
func (b *branch) keepFailed(i int, result machine.Result, f *Failure) error {
	if b.secrets != nil && len(b.shape.Stages[i].Secrets) > 0 {
		b.emit(Note{At{Stage: f.Stage},
			"the state in which it failed is kept and may hold secrets; it is private to you, and goes with the next build of the image"})
	}
	kept := failedState{Failure: f, Layers: b.layers, Stage: b.shape.Stages[i]}
	for _, step := range kept.Stage.Steps {
		if step.Copy == nil {
			kept.Scripts = append(kept.Scripts, step.Script)
		}
	}
	return b.keepState(kept, func(dir string) error { return result.Keep(filepath.Join(dir, "tree")) })
}

// keepState brings what is kept of a failure to its place as a whole; put puts what belongs to it in a folder.
func (b *branch) keepState(kept failedState, put func(dir string) error) error {
	to := b.State.Failed(b.plan.Build, b.shape.Variant)
	dir, err := os.MkdirTemp(b.dir, "failed-")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(to), 0o700)
	}
	if err != nil {
		return err
	}
	text, err := json.Marshal(kept)
	if err == nil {
		err = put(dir)
	}
	if err == nil {
		err = store.WriteFile(filepath.Join(dir, "state.json"), text)
	}
	if err == nil {
		err = os.Rename(dir, to)
	}
	if err != nil {
		_ = layer.RemoveAll(dir) // what stays goes with the run's folder
	}
	return err
}

// forgetFailed throws away what other builds of an image left when they failed, but for what
// somebody is looking at.
func (e *Engine) forgetFailed(image, but string) {
	for _, dir := range e.State.Find("failed/b-*") {
		if id := filepath.Base(dir); id == but || e.State.Alive(id) { // one that runs may be about to keep something there
			continue
		}
		if states := failedStates(dir); len(states) > 0 && states[0].Failure.Image != image {
			continue
		}
		if lock, err := os.Open(dir); err == nil {
			if unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
				_ = layer.RemoveAll(dir) // tried again after the next build
			}
			lock.Close()
		}
	}
}

// failedStates reads what is kept of a failed build in its folder, a state for each variant that failed.
func failedStates(dir string) (list []failedState) {
	for _, name := range state.Dir(dir).Find("*/state.json") {
		var s failedState
		if text, err := os.ReadFile(name); err == nil && json.Unmarshal(text, &s) == nil {
			list = append(list, s)
		}
	}
	return list
}
