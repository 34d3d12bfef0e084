package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"os"

	"golang.org/x/sys/unix"

	"zygos/internal/digest"
)

// Writer takes a blob's bytes from front to back. Zeros given to Zero stay a hole. The digest is
// computed while the bytes are written, or by reading them once more if some were reserved for later. When the
// context ends, so do all writes. End it with Commit or Discard.
type Writer struct {
	ctx    context.Context
	store  *Store
	file   *os.File
	hash   hash.Hash
	later  bool // the digest is computed in the end
	size   int64
	feed   chan []byte // full buffers on their way to the hash
	free   chan []byte // empty ones
	buf    []byte
	hashed chan struct{}
	err    error
}

const (
	bufferSize = 1 << 20
	buffers    = 6 // on their way to the hash, so that it need not wait for many small files
)

// Create begins a blob.
func (s *Store) Create(ctx context.Context) (*Writer, error) {
	file, err := os.CreateTemp(cmp.Or(s.Temp, s.Dir), "blob-")
	if err != nil {
		return nil, err
	}
	w := &Writer{ctx: ctx, store: s, file: file, hash: sha256.New(), feed: make(chan []byte, buffers), free: make(chan []byte, buffers),
		hashed: make(chan struct{})}
	for range buffers {
		w.free <- make([]byte, 0, bufferSize)
	}
	w.buf = make([]byte, 0, bufferSize)
	go func() { // hashes beside the writing
		defer close(w.hashed)
		for b := range w.feed {
			w.hash.Write(b)
			if &b[0] != &zeros[0] {
				w.free <- b[:0]
			}
		}
	}()
	return w, nil
}

var (
	nothing [bufferSize]byte // costs nothing at start-up
	zeros   = nothing[:]
)

// Size is how many bytes were written, holes included.
func (w *Writer) Size() int64 { return w.size }

func (w *Writer) Write(p []byte) (int, error) {
	done := 0
	for len(p) > 0 && w.err == nil {
		n := copy(w.buf[len(w.buf):cap(w.buf)], p)
		w.buf = w.buf[:len(w.buf)+n]
		p = p[n:]
		done += n
		if len(w.buf) == cap(w.buf) {
			w.flush()
		}
	}
	return done, w.err
}

func (w *Writer) flush() {
	if w.err = cmp.Or(w.err, w.ctx.Err()); len(w.buf) == 0 || w.err != nil {
		return
	}
	if err := w.put(w.buf); err != nil {
		w.err = err
		return
	}
	// The disk starts on it now, so that Commit has little to wait for.
	_ = unix.SyncFileRange(int(w.file.Fd()), w.size, int64(len(w.buf)), unix.SYNC_FILE_RANGE_WRITE) // only a hint
	w.size += int64(len(w.buf))
	if w.later {
		w.buf = w.buf[:0]
		return
	}
	w.feed <- w.buf
	w.buf = <-w.free
}

// Reserve leaves n bytes that WriteAt will write; what it does not write is a hole.
func (w *Writer) Reserve(n int64) error {
	w.flush()
	w.later = true
	w.size += n
	return w.err
}

// WriteAt writes where bytes were reserved.
func (w *Writer) WriteAt(p []byte, at int64) (int, error) {
	w.flush()
	switch {
	case w.err != nil:
		return 0, w.err
	case !w.later || at < 0 || at+int64(len(p)) > w.size:
		return 0, errors.New("these bytes were not reserved")
	}
	return w.file.WriteAt(p, at)
}

// put writes a buffer at the end of the file and leaves holes for its zero pages.
func (w *Writer) put(p []byte) error {
	const page = 4096
	for from := 0; from < len(p); {
		to := from
		for to < len(p) && !allZero(p[to:min(to+page, len(p))]) {
			to = min(to+page, len(p))
		}
		if to > from {
			if _, err := w.file.WriteAt(p[from:to], w.size+int64(from)); err != nil {
				return err
			}
		}
		for from = to; from < len(p) && allZero(p[from:min(from+page, len(p))]); {
			from = min(from+page, len(p))
		}
	}
	return nil
}

func allZero(p []byte) bool {
	return len(p) <= len(zeros) && string(p) == string(zeros[:len(p)])
}

// Zero adds n zero bytes without writing them.
func (w *Writer) Zero(n int64) error {
	w.flush()
	for n > 0 && w.err == nil {
		part := min(n, int64(len(zeros)))
		if !w.later {
			w.feed <- zeros[:part:part]
		}
		w.size += part
		n -= part
		w.err = w.ctx.Err()
	}
	return w.err
}

func (w *Writer) finish() {
	if w.feed != nil {
		close(w.feed)
		<-w.hashed
		w.feed = nil
	}
}

// Commit makes the bytes safe on disk and puts them into the store under their digest.
func (w *Writer) Commit() (Blob, error) { return w.commit(digest.Digest{}) }

// CommitAs is Commit of bytes that must have a digest; others are dropped.
func (w *Writer) CommitAs(d digest.Digest) error {
	_, err := w.commit(d)
	return err
}

func (w *Writer) commit(want digest.Digest) (Blob, error) {
	w.flush()
	w.finish()
	err := w.err
	if err == nil {
		err = errors.Join(w.file.Truncate(w.size), w.file.Chmod(0o644))
	}
	got := digest.From(w.hash)
	if err == nil {
		safe := make(chan error, 1)
		go func() { safe <- w.file.Sync() }()
		if w.later {
			var again Blob
			again, err = Digest(w.ctx, w.file.Name(), nil)
			got = again.Digest
		}
		err = errors.Join(err, <-safe)
	}
	if err = errors.Join(err, w.file.Close()); err != nil {
		_ = os.Remove(w.file.Name()) // the first error counts
		return Blob{}, err
	}
	b := Blob{Digest: got, Bytes: w.size}
	if !want.IsZero() && b.Digest != want {
		return b, errors.Join(fmt.Errorf("what came has the digest %s instead of %s", b.Digest, want), os.Remove(w.file.Name()))
	}
	if err := os.Rename(w.file.Name(), w.store.Path(b.Digest)); err != nil {
		return Blob{}, err
	}
	return b, SyncDir(w.store.blobs())
}

// Discard drops an unfinished blob. After Commit it does nothing.
func (w *Writer) Discard() {
	w.finish()
	w.file.Close()
	_ = os.Remove(w.file.Name()) // gone already after Commit
}
