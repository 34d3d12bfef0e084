package record

import (
	"bufio"
	"cmp"
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

// ReadJournal calls take with each event of a build's journal, as far as it was written.
func ReadJournal(ctx context.Context, at state.Dir, id string, take func(Event) error) error {
	return readJournal(ctx, at, id, take, func() (<-chan struct{}, bool) { return nil, true })
}

// readJournal reads on until ended says that the build has; until then it waits for more.
func readJournal(ctx context.Context, at state.Dir, id string, take func(Event) error, look func() (more <-chan struct{},
	ended bool)) error {
	file, err := os.Open(at.Build(id, logName))
	if err != nil {
		return err
	}
	defer file.Close()
	in := bufio.NewReaderSize(file, 1<<16)
	var line []byte
	for {
		more, ended := look() // before the end is read, so that nothing is missed
		for err = nil; err == nil; {
			var part []byte
			if part, err = in.ReadBytes('\n'); err != nil {
				line = append(line, part...)
				break
			}
			var e Event
			if json.Unmarshal(append(line, part...), &e) != nil {
				return nil // the last line of a build that died
			}
			if err := cmp.Or(take(e), ctx.Err()); err != nil {
				return err
			}
			line = line[:0]
		}
		if !errors.Is(err, io.EOF) {
			return err
		}
		if ended {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-more:
		}
	}
}

// Tails lets many follow the journals of running builds: each journal is watched once, whoever follows it.
type Tails struct {
	mu   sync.Mutex
	open map[string]*tail // by the journal's file
}

// tail watches one journal.
type tail struct {
	users int
	more  chan struct{} // closed when there is more to read, or the build ended
	ended bool
	stop  context.CancelFunc
}

const tailStep = 100 * time.Millisecond // between two looks at a journal

// Follow is ReadJournal that goes on until the build has ended.
func (t *Tails) Follow(ctx context.Context, at state.Dir, id string, take func(Event) error) error {
	name := at.Build(id, logName)
	t.mu.Lock()
	w := t.open[name]
	if w == nil {
		watched, stop := context.WithCancel(context.WithoutCancel(ctx))
		w = &tail{more: make(chan struct{}), stop: stop}
		if t.open == nil {
			t.open = map[string]*tail{}
		}
		t.open[name] = w
		go t.watch(watched, w, at, id)
	}
	w.users++
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if w.users--; w.users == 0 {
			w.stop()
			delete(t.open, name)
		}
	}()
	return readJournal(ctx, at, id, take, func() (<-chan struct{}, bool) {
		t.mu.Lock()
		defer t.mu.Unlock()
		return w.more, w.ended
	})
}

// watch tells those who follow a journal that it grew, until its build has ended.
func (t *Tails) watch(ctx context.Context, w *tail, at state.Dir, id string) {
	tick := time.NewTicker(tailStep)
	defer tick.Stop()
	for size := int64(-1); ; {
		ended := !at.Alive(id) // before the size, so that its last events are read
		info, err := os.Stat(at.Build(id, logName))
		if err != nil || ended || info.Size() != size {
			t.mu.Lock()
			w.ended = err != nil || ended
			close(w.more)
			w.more = make(chan struct{})
			t.mu.Unlock()
			if w.ended {
				return
			}
			size = info.Size()
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
