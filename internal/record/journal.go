package record

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

	"zygos/internal/state"
)

// Journal is a build's log: one event a line, JSON.
type Journal struct {
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

// OpenJournal makes the build's folder and log; watch is told of each event too.
func OpenJournal(dir string, watch func(Event)) (*Journal, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	file, err := os.Create(filepath.Join(dir, logName))
	if err != nil {
		return nil, err
	}
	l := &Journal{file: file, out: bufio.NewWriter(file), watch: watch, ended: make(chan struct{})}
	go l.flush()
	return l, nil
}

// flush writes what a script printed before long, for those who follow the log.
func (l *Journal) flush() {
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

func (l *Journal) Append(e Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.Time = time.Now().UTC()
	switch w := e.What.(type) {
	case Note:
		if slices.Contains(l.noted, w.Text) {
			return // once is enough
		}
		l.noted = append(l.noted, w.Text)
	case Progress:
		if e.Time.Sub(l.told) < progressStep {
			return
		}
		l.told = e.Time
		l.watch(e)
		return
	}
	text, err := e.MarshalJSON()
	if err == nil {
		_, _ = l.out.Write(append(text, '\n')) // an error shows in close
	}
	if _, printed := e.What.(Output); !printed {
		_ = l.out.Flush() // an error shows in close
	}
	l.watch(e)
}

func (l *Journal) Close() error {
	close(l.ended)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.out.Flush(); err != nil {
		l.file.Close()
		return err
	}
	return l.file.Close()
}

// ReadJournal calls take with each event of a build's log, as far as it was written. With follow, it
// goes on until the build has ended.
func ReadJournal(ctx context.Context, at state.Dir, id string, follow bool, take func(Event) error) error {
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
