package build

import (
	"strings"
	"sync"
	"time"

	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
)

// watcher turns what the machine tells into events and keeps the last lines for a failure's report.
type watcher struct {
	*branch
	stage *plan.Stage
	mu    sync.Mutex
	tail  []string
	lines int64
	steps []record.Step
}

const tailLines = 12

func (w *watcher) at(step int) record.At {
	return record.At{Stage: w.stage.Name, Step: w.stage.Steps[step].Name}
}

func (w *watcher) StepStarted(step int) {
	w.mu.Lock()
	w.tail, w.lines = nil, 0
	w.mu.Unlock()
	w.emit(record.StepBegan{At: w.at(step), Digest: w.stage.Steps[step].Digest})
}

func (w *watcher) Line(step int, stream, text string) {
	// Interpreters call the script by its place in the sandbox; people know it by its own.
	text = strings.ReplaceAll(text, machine.ScriptName(step), w.stage.Steps[step].Name)
	w.mu.Lock()
	w.lines++
	if w.tail = append(w.tail, text); len(w.tail) > tailLines {
		w.tail = w.tail[1:]
	}
	w.mu.Unlock()
	w.emit(record.Output{At: w.at(step), Stream: stream, Text: text})
}

func (w *watcher) Cut(step int, stream string, lines, bytes int64) {
	w.mu.Lock()
	w.lines += lines
	w.mu.Unlock()
	w.emit(record.Cut{At: w.at(step), Stream: stream, Bytes: bytes, Lines: lines})
}

func (w *watcher) StepEnded(step int, took time.Duration, failed *machine.StepError) {
	s := w.stage.Steps[step]
	w.mu.Lock()
	w.steps = append(w.steps, record.Step{Name: s.Name, Source: s.Source, Digest: s.Digest, Lines: w.lines, Took: took})
	lines := w.lines
	w.mu.Unlock()
	done := record.StepDone{At: w.at(step), Took: took, Lines: lines}
	if failed != nil {
		done.Failed = failed.How()
	}
	w.emit(done)
}

func (w *watcher) Note(text string) {
	w.emit(record.Note{At: record.At{Stage: w.stage.Name}, Text: text})
}

func (w *watcher) failure(e *machine.StepError) *record.Failure {
	w.mu.Lock()
	defer w.mu.Unlock()
	step := w.stage.Steps[e.Step]
	return &record.Failure{Build: w.plan.Build, Image: w.plan.Image, Variant: w.shape.Variant, Stage: w.stage.Name, Step: step.Name,
		Source: step.Source, Line: e.Line, Code: e.Code,
		Signal: e.Signal, Reason: e.Reason, Tail: w.tail}
}
