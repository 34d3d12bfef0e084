package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
)

// stage reuses a stage's layer or runs it on the tree as it stands.
func (r *run) stage(ctx context.Context, i int) error {
	s := &r.plan.Stages[i]
	key := r.plan.StageKey(i, r.layers)
	if snap := r.Layers.Find(key); snap != nil {
		r.push(snap.Layer)
		r.record.Stages = append(r.record.Stages, StageRecord{Name: s.Name, Key: key, Layer: snap.Layer, Bytes: snap.Bytes, Reused: snap.Build})
		r.emit(Event{Kind: Reused, Stage: s.Name, Layer: snap.Layer, From: snap.Build, Took: snap.Took})
		return nil
	}
	began := time.Now()
	r.emit(Event{Kind: StageBegan, Stage: s.Name})
	digest, bytes, err := r.runStage(ctx, i)
	if errors.Is(err, unix.ENOSPC) {
		err = fmt.Errorf("%w; make room on the disk of %s and run the command again, finished stages are kept", err, r.State)
	}
	if err != nil {
		return err
	}
	took := time.Since(began)
	if err := r.Layers.Remember(layer.Snapshot{Key: key, Layer: digest, Bytes: bytes, Build: r.plan.Build, Created: time.Now().UTC(), Took: took}); err != nil {
		return err
	}
	r.push(digest)
	r.record.Stages = append(r.record.Stages, StageRecord{Name: s.Name, Key: key, Layer: digest, Bytes: bytes, Took: took})
	r.emit(Event{Kind: StageDone, Stage: s.Name, Layer: digest, Done: bytes, Took: took})
	return nil
}

func (r *run) runStage(ctx context.Context, i int) (digest string, bytes int64, err error) {
	tree, err := r.merged()
	if err != nil {
		return "", 0, err
	}
	dir, err := r.Layers.Begin(r.dir)
	if err != nil {
		return "", 0, err
	}
	upper := filepath.Join(dir, "tree")
	if err := (layer.Folder{Dir: upper, Owners: r.Layers.Owners}).Root(tree); err != nil {
		return "", 0, err
	}
	scratch := filepath.Join(r.dir, "scratch-"+strconv.Itoa(i))
	if err := os.Mkdir(scratch, 0o755); err != nil {
		return "", 0, err
	}
	defer func() { _ = layer.RemoveAll(scratch) }() // what stays goes with the run's folder
	w := &watcher{run: r, stage: &r.plan.Stages[i]}
	if err := r.Machine.Run(ctx, r.orders(&r.plan.Stages[i], upper, scratch), w); err != nil {
		var failed *machine.StepError
		if errors.As(err, &failed) {
			return "", 0, w.failure(failed)
		}
		if ctx.Err() != nil {
			return "", 0, err
		}
		return "", 0, fmt.Errorf("stage %s: %w", r.plan.Stages[i].Name, err)
	}
	x, err := layer.Scan(ctx, upper, tree, r.Layers.Owners, r.epoch)
	if err != nil {
		return "", 0, err
	}
	digest, err = r.Layers.Commit(dir, x)
	return digest, x.Bytes(), err
}

// orders turns a stage of the plan into what the machine is told.
func (r *run) orders(s *plan.Stage, upper, scratch string) machine.Stage {
	m := machine.Stage{Name: s.Name, Hostname: "zygos", Upper: upper, Scratch: scratch, Network: s.Network, Timeout: s.Timeout}
	for _, digest := range r.layers {
		m.Layers = append(m.Layers, r.Layers.TreeDir(digest))
	}
	for _, step := range s.Steps {
		if step.To == "" {
			m.Steps = append(m.Steps, machine.Step{Name: step.Name, Script: &machine.Script{Content: step.Script, User: s.User, Dir: s.Dir, Env: s.Env}})
			continue
		}
		mode, _ := strconv.ParseUint(step.Mode, 8, 32) // written by the plan
		m.Steps = append(m.Steps, machine.Step{Name: step.Name, Copy: &machine.Copy{From: filepath.Join(r.Root, step.Source), To: step.To, Mode: uint32(mode), Owner: step.Owner}})
	}
	return m
}

// watcher turns what the machine tells into events and keeps the last lines for a failure's report.
type watcher struct {
	*run
	stage *plan.Stage
	mu    sync.Mutex
	tail  []string
}

const tailLines = 12

func (w *watcher) StepStarted(step int) {
	w.mu.Lock()
	w.tail = nil
	w.mu.Unlock()
	w.emit(Event{Kind: StepBegan, Stage: w.stage.Name, Step: w.stage.Steps[step].Name})
}

func (w *watcher) Line(step int, stream, text string) {
	// Interpreters call the script by its place in the sandbox; people know it by its own.
	text = strings.ReplaceAll(text, machine.ScriptName(step), w.stage.Steps[step].Name)
	w.mu.Lock()
	if w.tail = append(w.tail, text); len(w.tail) > tailLines {
		w.tail = w.tail[1:]
	}
	w.mu.Unlock()
	w.emit(Event{Kind: Output, Stage: w.stage.Name, Step: w.stage.Steps[step].Name, Stream: stream, Text: text})
}

func (w *watcher) StepEnded(step int, took time.Duration, _ *machine.StepError) {
	w.emit(Event{Kind: StepDone, Stage: w.stage.Name, Step: w.stage.Steps[step].Name, Took: took})
}

func (w *watcher) failure(e *machine.StepError) *Failure {
	w.mu.Lock()
	defer w.mu.Unlock()
	step := w.stage.Steps[e.Step]
	return &Failure{Build: w.plan.Build, Stage: w.stage.Name, Step: step.Name, Source: step.Source, Line: e.Line, Code: e.Code,
		Signal: e.Signal, Reason: e.Reason, Tail: w.tail}
}
