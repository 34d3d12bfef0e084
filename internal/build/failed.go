package build

import (
	"encoding/json"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/record"
	"zygos/internal/store"
)

// keepFailed keeps the tree that a stage left when it failed.
func (b *branch) keepFailed(i int, result machine.Result, f *record.Failure) error {
	if b.secrets != nil && len(b.shape.Stages[i].Secrets) > 0 {
		b.emit(record.Note{At: record.At{Stage: f.Stage},
			Text: "the state in which it failed is kept and may hold secrets; it is private to you, and goes with the next build of the image"})
	}
	kept := record.FailedState{Failure: f, Layers: b.layers, Stage: b.shape.Stages[i]}
	for _, step := range kept.Stage.Steps {
		if step.Copy == nil {
			kept.Scripts = append(kept.Scripts, step.Script)
		}
	}
	return b.keepState(kept, func(dir string) error { return result.Keep(filepath.Join(dir, "tree")) })
}

// keepState brings what is kept of a failure to its place as a whole; put puts what belongs to it in a folder.
func (b *branch) keepState(kept record.FailedState, put func(dir string) error) error {
	to := b.Dir.Failed(b.plan.Build, b.shape.Variant)
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
	for _, dir := range e.Dir.Find("failed/b-*") {
		if id := filepath.Base(dir); id == but || e.Dir.Alive(id) { // one that runs may be about to keep something there
			continue
		}
		if states := record.FailedStates(dir); len(states) > 0 && states[0].Failure.Image != image {
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
