package build

import (
	"bufio"
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/seal"
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
	Version string            `json:"version,omitempty"`
	Stage   string            `json:"stage,omitempty"`
	Step    string            `json:"step,omitempty"`
	Stream  string            `json:"stream,omitempty"` // "out" or "err"
	Text    string            `json:"text,omitempty"`
	Took    time.Duration     `json:"took_ns,omitempty"`
	Done    int64             `json:"done,omitempty"`  // bytes
	Total   int64             `json:"total,omitempty"` // bytes, -1 if not known
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
	return &Log{file: file, out: bufio.NewWriter(file), watch: watch}, nil
}

func (l *Log) emit(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.Time = time.Now().UTC()
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
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.out.Flush(); err != nil {
		l.file.Close()
		return err
	}
	return l.file.Close()
}

// ReadLog calls take with each event of a build's log, as far as it was written.
func ReadLog(state, id string, take func(Event) error) error {
	file, err := os.Open(filepath.Join(state, "builds", id, logName))
	if err != nil {
		return err
	}
	defer file.Close()
	in := bufio.NewScanner(file)
	in.Buffer(make([]byte, 1<<16), 1<<24)
	for in.Scan() {
		var e Event
		if json.Unmarshal(in.Bytes(), &e) != nil {
			return nil // the last line of a build that died
		}
		if err := take(e); err != nil {
			return err
		}
	}
	return in.Err()
}
