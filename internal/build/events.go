package build

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/seal"
	"zygos/internal/state"
)

// Kinds of event, in the order in which a build meets them.
const (
	Started    = "started"
	BaseReady  = "base"
	StageBegan = "stage"
	StepBegan  = "step"
	Output     = "output"
	StepDone   = "step-done"
	StageDone  = "stage-done"
	Reused     = "reused"
	Sealed     = "sealed"
	Captured   = "captured"
	Retry      = "retry"   // a stage failed and runs again after a pause
	Waiting    = "waiting" // for another build that runs the same stage
	Cut        = "cut"     // output that was not kept
	Brought    = "brought" // a file was copied out of the image
	Note       = "note"
	Finished   = "registered"
	Broke      = "failed"
	Progress   = "progress" // bytes of something long; not kept in the log
)

// Event is one thing that happened in a build.
type Event struct {
	Time    time.Time         `json:"time"`
	Build   string            `json:"build"`
	Kind    string            `json:"kind"`
	Image   string            `json:"image,omitempty"`
	Variant string            `json:"variant,omitempty"`
	Version string            `json:"version,omitempty"`
	Stage   string            `json:"stage,omitempty"`
	Step    string            `json:"step,omitempty"`
	Stream  string            `json:"stream,omitempty"` // "out" or "err"
	Text    string            `json:"text,omitempty"`
	Took    time.Duration     `json:"took_ns,omitempty"`
	Done    int64             `json:"done,omitempty"`   // bytes
	Total   int64             `json:"total,omitempty"`  // bytes, -1 if not known
	Lines   int64             `json:"lines,omitempty"`  // that a step printed
	Digest  string            `json:"sha256,omitempty"` // of what a step carries out
	Layer   string            `json:"layer,omitempty"`
	From    string            `json:"from,omitempty"` // of a reused stage: the build that ran it
	Seal    []seal.Result     `json:"seal,omitempty"`
	File    *catalog.Artifact `json:"artifact,omitempty"`
	Failure *Failure          `json:"failure,omitempty"`
}

// Log is a build's log: one event a line, JSON.
type Log struct {
	mu    sync.Mutex
	file  *os.File
	out   *bufio.Writer
	watch func(Event)
	told  time.Time // when progress was last passed on
	noted []string
	ended chan struct{}
}

const (
	logName      = "log.jsonl"
	progressStep = 50 * time.Millisecond // nobody looks more often
)

// openLog makes the build's folder and log; watch is told of each event too.
func openLog(dir string, watch func(Event)) (*Log, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	file, err := os.Create(filepath.Join(dir, logName))
	if err != nil {
		return nil, err
	}
	l := &Log{file: file, out: bufio.NewWriter(file), watch: watch, ended: make(chan struct{})}
	go l.flush()
	return l, nil
}

// flush writes what a script printed before long, for those who follow the log.
func (l *Log) flush() {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-l.ended:
			return
		case <-tick.C:
			l.mu.Lock()
			_ = l.out.Flush() // an error shows in close
			l.mu.Unlock()
		}
	}
}

func (l *Log) emit(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.Time = time.Now().UTC()
	if e.Kind == Note {
		if slices.Contains(l.noted, e.Text) {
			return // once is enough
		}
		l.noted = append(l.noted, e.Text)
	}
	if e.Kind == Progress {
		if e.Time.Sub(l.told) < progressStep {
			return
		}
		l.told = e.Time
	} else {
		text, err := json.Marshal(e)
		if err == nil {
			_, _ = l.out.Write(append(text, '\n')) // an error shows in close
		}
		if e.Kind != Output {
			_ = l.out.Flush() // an error shows in close
		}
	}
	l.watch(e)
}

func (l *Log) close() error {
	close(l.ended)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.out.Flush(); err != nil {
		l.file.Close()
		return err
	}
	return l.file.Close()
}

// ReadLog calls take with each event of a build's log, as far as it was written. With follow, it
// goes on until the build has ended.
func ReadLog(ctx context.Context, at state.Dir, id string, follow bool, take func(Event) error) error {
	file, err := os.Open(at.Build(id, logName))
	if err != nil {
		return err
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, 1<<16)
	var line []byte
	for {
		alive := follow && at.Alive(id)
		part, err := in.ReadBytes('\n')
		line = append(line, part...)
		if err == nil {
			var e Event
			if json.Unmarshal(line, &e) != nil {
				return nil // the last line of a build that died
			}
			if err := take(e); err != nil {
				return err
			}
			line = line[:0]
			continue
		}
		if !errors.Is(err, io.EOF) {
			return err
		}
		if !alive {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
