package layer

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"runtime"
	"sync"
)

// Small files are written and hashed beside the reading of the next ones; of large ones only the hashing is.
const (
	smallFile   = 1 << 20 // bytes
	mostWriters = 4
)

// writers write small files.
type writers struct {
	folder  Folder
	jobs    chan job
	free    chan []byte // buffers
	pending sync.WaitGroup
	ended   sync.WaitGroup

	mu     sync.Mutex
	done   []result // since results were last taken
	failed bool
}

// job is a file to write; at is its place in the index.
type job struct {
	at    int
	entry Entry
	text  []byte // all of it, in a buffer
}

// result is what became of a file.
type result struct {
	at     int
	digest string
	data   []Segment
	solid  int64 // bytes that are in no hole
	err    error
}

func newWriters(folder Folder) *writers {
	n := min(runtime.GOMAXPROCS(0), mostWriters)
	w := &writers{folder: folder, jobs: make(chan job), free: make(chan []byte, 2*n)}
	for range cap(w.free) {
		w.free <- nil
	}
	for range n {
		w.ended.Go(w.run)
	}
	return w
}

func (w *writers) run() {
	for j := range w.jobs {
		hash, holes := sha256.New(), newHoleFinder()
		counted := &counter{r: bytes.NewReader(j.text)}
		err := w.folder.Put(&j.entry, io.TeeReader(counted, io.MultiWriter(hash, holes)))
		r := result{j.at, hex.EncodeToString(hash.Sum(nil)), holes.Data(), counted.solid, err}
		w.mu.Lock()
		w.done, w.failed = append(w.done, r), w.failed || err != nil
		w.mu.Unlock()
		w.free <- j.text[:0]
		w.pending.Done()
	}
}

// write reads a file and has it written, soon.
func (w *writers) write(at int, e *Entry, content io.Reader) error {
	buf := <-w.free
	if int64(cap(buf)) < e.Size {
		buf = make([]byte, max(e.Size, 64<<10))
	}
	n, err := io.ReadFull(content, buf[:e.Size])
	if err != nil {
		w.free <- buf
		return fmt.Errorf("write %s: content ends after %d of %d bytes: %w", e.Path, n, e.Size, err)
	}
	w.pending.Add(1)
	w.jobs <- job{at, *e, buf[:e.Size]}
	return nil
}

// take is what became of the files since it was last asked; all waits for those that are not written yet.
func (w *writers) take(all bool) (list []result, failed bool) {
	if all {
		w.pending.Wait()
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	list, w.done = w.done, nil
	return list, w.failed
}

// end ends the writers.
func (w *writers) end() {
	close(w.jobs)
	w.ended.Wait()
}

// aside hands on what is written to it, in another goroutine.
type aside struct {
	full, empty chan []byte
	done        chan struct{}
}

func newAside(to io.Writer) *aside {
	a := &aside{make(chan []byte, 2), make(chan []byte, 3), make(chan struct{})}
	for range cap(a.empty) {
		a.empty <- nil
	}
	go func() {
		defer close(a.done)
		for b := range a.full {
			_, _ = to.Write(b) // hashes never fail
			a.empty <- b
		}
	}()
	return a
}

func (a *aside) Write(p []byte) (int, error) {
	a.full <- append((<-a.empty)[:0], p...)
	return len(p), nil
}

// end waits until all was handed on.
func (a *aside) end() {
	close(a.full)
	<-a.done
}
