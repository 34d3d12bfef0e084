// Package store keeps files by digest in an OCI image layout (OCI Image Format Specification
// 1.1, "Image Layout"): blobs/sha256/DIGEST, oci-layout, index.json. Each version's artifacts
// are listed by one OCI manifest, named IMAGE:VERSION in index.json.
//
// It knows bytes and digests, and nothing of what they mean.
package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sys/unix"

	godigest "github.com/opencontainers/go-digest"

	"zygos/internal/flock"
)

// Store is an OCI image layout in a folder.
type Store struct {
	Dir  string
	Temp string // folder for unfinished blobs on the same file system; Dir if empty
}

// Blob is a file in the store.
type Blob struct {
	Digest string // "sha256:" and 64 hexadecimal digits
	Bytes  int64
}

// Open makes the layout if it is not there.
func Open(dir string) (*Store, error) {
	s := &Store{Dir: dir}
	if err := os.MkdirAll(s.blobs(), 0o755); err != nil {
		return nil, err
	}
	marker := filepath.Join(dir, ocispec.ImageLayoutFile)
	if _, err := os.Stat(marker); err == nil {
		return s, nil
	}
	return s, WriteFile(marker, []byte(`{"imageLayoutVersion":"`+ocispec.ImageLayoutVersion+`"}`))
}

func (s *Store) blobs() string { return filepath.Join(s.Dir, ocispec.ImageBlobsDir, "sha256") }

// Path is where a blob lies.
func (s *Store) Path(digest string) string {
	return filepath.Join(s.blobs(), strings.TrimPrefix(digest, "sha256:"))
}

// Has says whether a blob of this size is there.
func (s *Store) Has(b Blob) bool {
	info, err := os.Stat(s.Path(b.Digest))
	return err == nil && info.Size() == b.Bytes
}

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

const bufferSize = 1 << 20

// Create begins a blob.
func (s *Store) Create(ctx context.Context) (*Writer, error) {
	file, err := os.CreateTemp(cmp.Or(s.Temp, s.Dir), "blob-")
	if err != nil {
		return nil, err
	}
	w := &Writer{ctx: ctx, store: s, file: file, hash: sha256.New(), feed: make(chan []byte, 2), free: make(chan []byte, 4),
		hashed: make(chan struct{})}
	for range 3 {
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

var zeros = make([]byte, bufferSize)

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
func (w *Writer) Commit() (Blob, error) { return w.commit("") }

// CommitAs is Commit of bytes that must have a digest; others are dropped.
func (w *Writer) CommitAs(digest string) error {
	_, err := w.commit(digest)
	return err
}

func (w *Writer) commit(want string) (Blob, error) {
	w.flush()
	w.finish()
	err := w.err
	if err == nil {
		err = w.file.Truncate(w.size)
	}
	digest := hex.EncodeToString(w.hash.Sum(nil))
	if err == nil && w.later {
		var again Blob
		again, err = Digest(w.ctx, w.file.Name(), nil)
		digest = strings.TrimPrefix(again.Digest, "sha256:")
	}
	if err == nil {
		err = w.file.Chmod(0o644)
	}
	if err == nil {
		err = w.file.Sync()
	}
	if err = errors.Join(err, w.file.Close()); err != nil {
		_ = os.Remove(w.file.Name()) // the first error counts
		return Blob{}, err
	}
	b := Blob{Digest: "sha256:" + digest, Bytes: w.size}
	if want != "" && b.Digest != want {
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

// Put stores a small blob.
func (s *Store) Put(content []byte) (Blob, error) {
	w, err := s.Create(context.Background()) // it is small
	if err != nil {
		return Blob{}, err
	}
	defer w.Discard()
	if _, err := w.Write(content); err != nil {
		return Blob{}, err
	}
	return w.Commit()
}

// Verify reads a blob and compares it with its digest.
func (s *Store) Verify(ctx context.Context, b Blob) error {
	got, err := Digest(ctx, s.Path(b.Digest), nil)
	if err != nil {
		return err
	}
	if got != b {
		return fmt.Errorf("blob %.19s in the store is damaged: it has the digest %s and %d bytes", b.Digest, got.Digest, got.Bytes)
	}
	return nil
}

// Digest reads a file and returns its digest and size; read is told of progress in bytes.
func Digest(ctx context.Context, file string, read func(int64)) (Blob, error) {
	f, err := os.Open(file)
	if err != nil {
		return Blob{}, err
	}
	defer f.Close()
	hash := sha256.New()
	buf := make([]byte, bufferSize)
	var size int64
	for {
		if err := ctx.Err(); err != nil {
			return Blob{}, err
		}
		n, err := f.Read(buf)
		hash.Write(buf[:n])
		size += int64(n)
		if read != nil {
			read(int64(n))
		}
		if err == io.EOF {
			return Blob{Digest: "sha256:" + hex.EncodeToString(hash.Sum(nil)), Bytes: size}, nil
		}
		if err != nil {
			return Blob{}, err
		}
	}
}

// Listed is an artifact in a version's OCI manifest.
type Listed struct {
	Blob
	MediaType string
	Title     string // file name
}

// List names a version's artifacts in index.json: reference is IMAGE:VERSION.
func (s *Store) List(ctx context.Context, reference, created string, artifacts []Listed) error {
	config, err := s.Put([]byte("{}"))
	if err != nil {
		return err
	}
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest,
		ArtifactType: "application/vnd.zygos.image.v1", Config: describe(config, ocispec.MediaTypeEmptyJSON, ""),
		Annotations: map[string]string{ocispec.AnnotationCreated: created}}
	for _, a := range artifacts {
		m.Layers = append(m.Layers, describe(a.Blob, a.MediaType, a.Title))
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	blob, err := s.Put(text)
	if err != nil {
		return err
	}
	return s.updateIndex(ctx, func(index *ocispec.Index) {
		index.Manifests = slices.DeleteFunc(index.Manifests, func(d ocispec.Descriptor) bool {
			return d.Annotations[ocispec.AnnotationRefName] == reference
		})
		d := describe(blob, ocispec.MediaTypeImageManifest, "")
		d.ArtifactType = m.ArtifactType
		d.Annotations = map[string]string{ocispec.AnnotationRefName: reference}
		index.Manifests = append(index.Manifests, d)
	})
}

// Unlist takes versions' artifacts out of index.json, by references IMAGE:VERSION. Bytes that nothing
// names any more are the caller's to remove.
func (s *Store) Unlist(ctx context.Context, goes func(reference string) bool) error {
	return s.updateIndex(ctx, func(index *ocispec.Index) {
		index.Manifests = slices.DeleteFunc(index.Manifests,
			func(d ocispec.Descriptor) bool { return goes(d.Annotations[ocispec.AnnotationRefName]) })
	})
}

// Remove removes a blob; one that is not there is gone already.
func (s *Store) Remove(digest string) error {
	if err := os.Remove(s.Path(digest)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Named lists the digests that index.json speaks of: OCI manifests, and what these list.
func (s *Store) Named() (map[string]bool, error) {
	named := map[string]bool{}
	text, err := os.ReadFile(filepath.Join(s.Dir, ocispec.ImageIndexFile))
	if errors.Is(err, fs.ErrNotExist) {
		return named, nil
	}
	var index ocispec.Index
	if err == nil {
		err = json.Unmarshal(text, &index)
	}
	if err != nil {
		return nil, fmt.Errorf("store index: %w", err)
	}
	for _, d := range index.Manifests {
		named[d.Digest.String()] = true
		var m ocispec.Manifest
		if text, err = os.ReadFile(s.Path(d.Digest.String())); err == nil {
			err = json.Unmarshal(text, &m)
		}
		if err != nil {
			return nil, fmt.Errorf("store: manifest %s: %w", d.Digest, err)
		}
		named[m.Config.Digest.String()] = true
		for _, l := range m.Layers {
			named[l.Digest.String()] = true
		}
	}
	return named, nil
}

func describe(b Blob, mediaType, title string) ocispec.Descriptor {
	d := ocispec.Descriptor{MediaType: mediaType, Digest: godigest.Digest(b.Digest), Size: b.Bytes}
	if title != "" {
		d.Annotations = map[string]string{ocispec.AnnotationTitle: title}
	}
	return d
}

// updateIndex changes index.json, one process at a time.
func (s *Store) updateIndex(ctx context.Context, change func(*ocispec.Index)) error {
	lock, err := os.OpenFile(filepath.Join(s.Dir, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	defer lock.Close() // and with it the lock
	if err := flock.Take(ctx, lock); err != nil {
		return err
	}
	index := ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex,
		Manifests: []ocispec.Descriptor{}}
	name := filepath.Join(s.Dir, ocispec.ImageIndexFile)
	text, err := os.ReadFile(name)
	if err == nil {
		err = json.Unmarshal(text, &index)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("store index: %w", err)
	}
	change(&index)
	changed, err := json.Marshal(index)
	if err != nil || bytes.Equal(text, changed) {
		return err
	}
	return WriteFile(name, changed)
}

// WriteFile replaces a file as a whole: written under a temporary name, made safe, renamed. What
// a process that was killed left in the folder long ago goes.
func WriteFile(name string, content []byte) error {
	const long = time.Hour
	entries, _ := os.ReadDir(filepath.Dir(name)) // the next call says what is wrong with it
	for _, e := range entries {
		if info, err := e.Info(); err == nil && strings.HasPrefix(e.Name(), ".new-") && time.Since(info.ModTime()) > long {
			_ = os.Remove(filepath.Join(filepath.Dir(name), e.Name())) // tried again next time
		}
	}
	part, err := os.CreateTemp(filepath.Dir(name), ".new-")
	if err != nil {
		return err
	}
	_, err = part.Write(content)
	if err == nil {
		err = part.Chmod(0o644)
	}
	if err == nil {
		err = part.Sync()
	}
	if err = errors.Join(err, part.Close()); err == nil {
		err = os.Rename(part.Name(), name)
	}
	if err != nil {
		_ = os.Remove(part.Name()) // the first error counts
		return err
	}
	return SyncDir(filepath.Dir(name))
}

// First gives a file its content unless it has one already, and returns what it has then. Of several
// processes that try, one succeeds. Only its owner may read the file.
func First(name string, content []byte) ([]byte, error) {
	for range 100 { // a sweep may take the unfinished file away
		had, err := os.ReadFile(name)
		if err == nil || !errors.Is(err, fs.ErrNotExist) {
			return had, err
		}
		if err = first(name, content); err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return os.ReadFile(name)
}

func first(name string, content []byte) error {
	part, err := os.CreateTemp(filepath.Dir(name), ".new-")
	if err != nil {
		return err
	}
	defer os.Remove(part.Name()) // it has its real name, or the first error counts
	_, err = part.Write(content)
	if err = errors.Join(err, part.Sync(), part.Close()); err != nil {
		return err
	}
	if err := os.Link(part.Name(), name); err != nil {
		return err
	}
	return SyncDir(filepath.Dir(name))
}

// SyncDir makes renames in a folder safe.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
