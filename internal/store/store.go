// Package store keeps files by digest in an OCI image layout (OCI Image Format Specification
// 1.1, "Image Layout"): blobs/sha256/DIGEST, oci-layout, index.json. Each version's artifacts
// are listed by one OCI manifest, named IMAGE:VERSION in index.json.
//
// It knows bytes and digests, and nothing of what they mean.
package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	godigest "github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sys/unix"

	"zygos/internal/digest"
	"zygos/internal/flock"
)

// Store is an OCI image layout in a folder.
type Store struct {
	Dir  string
	Temp string // folder for unfinished blobs on the same file system; Dir if empty
}

// Blob is a file in the store.
type Blob struct {
	Digest digest.Digest `json:"digest"`
	Bytes  int64         `json:"bytes"`
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
func (s *Store) Path(d digest.Digest) string {
	return filepath.Join(s.blobs(), digest.Name(d.Hex()))
}

// Has says whether a blob of this size is there.
func (s *Store) Has(b Blob) bool {
	info, err := os.Stat(s.Path(b.Digest))
	return err == nil && info.Size() == b.Bytes
}

// Use is Has for a blob that is about to be needed: if it is there, it was used now, so that Sweep leaves it to whoever began before.
func (s *Store) Use(b Blob) bool {
	now := time.Now()
	return os.Chtimes(s.Path(b.Digest), now, now) == nil && s.Has(b)
}

const gone = ".gone" // ends the names of what is being removed

// Sweep removes blobs that nobody made or used since a time, but for those that stay. It returns what each took on the disk, by name.
func (s *Store) Sweep(since time.Time, stays func(digest.Digest) bool) map[string]int64 {
	removed := map[string]int64{}
	entries, _ := os.ReadDir(s.blobs()) // no folder, nothing to sweep
	for _, entry := range entries {
		d, err := digest.Parse(entry.Name())
		name := filepath.Join(s.blobs(), entry.Name())
		info, wrong := os.Stat(name)
		if (err == nil && stays(d)) || wrong != nil || info.ModTime().After(since) {
			continue
		}
		// Somebody may use it at this moment: once it is away, its time is final.
		if os.Rename(name, name+gone) != nil {
			continue
		}
		if info, err := os.Stat(name + gone); err == nil && info.ModTime().After(since) {
			_ = os.Rename(name+gone, name) // else it is made again
			continue
		}
		if os.Remove(name+gone) == nil {
			removed[strings.TrimSuffix(entry.Name(), gone)] = info.Sys().(*syscall.Stat_t).Blocks * 512
		}
	}
	return removed
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
		return fmt.Errorf("blob %s in the store is damaged: it has the digest %s and %d bytes", b.Digest, got.Digest, got.Bytes)
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
	full, empty, hashed := make(chan []byte, 2), make(chan []byte, 3), make(chan struct{})
	go func() { // hashes beside the reading
		defer close(hashed)
		for b := range full {
			hash.Write(b)
			empty <- b[:cap(b)]
		}
	}()
	size, err := func() (size int64, err error) {
		defer func() { close(full); <-hashed }()
		for range cap(empty) {
			empty <- make([]byte, bufferSize)
		}
		for {
			if err := ctx.Err(); err != nil {
				return size, err
			}
			buf := <-empty
			n, err := f.Read(buf)
			full <- buf[:n]
			size += int64(n)
			if read != nil {
				read(int64(n))
			}
			if err == io.EOF {
				return size, nil
			}
			if err != nil {
				return size, err
			}
		}
	}()
	if err != nil {
		return Blob{}, err
	}
	return Blob{Digest: digest.From(hash), Bytes: size}, nil
}

// NamedBlob is an artifact in a version's OCI manifest.
type NamedBlob struct {
	Blob
	MediaType string
	Title     string // file name
}

// List names a version's artifacts in index.json: reference is IMAGE:VERSION.
func (s *Store) List(ctx context.Context, reference, created string, artifacts []NamedBlob) error {
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
func (s *Store) Remove(d digest.Digest) error {
	if err := os.Remove(s.Path(d)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Named lists the digests that index.json speaks of: OCI manifests, and what these list.
func (s *Store) Named() (map[digest.Digest]bool, error) {
	named := map[digest.Digest]bool{}
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
		own, err := digest.Parse(d.Digest.String())
		named[own] = true
		var m ocispec.Manifest
		if err == nil {
			text, err = os.ReadFile(s.Path(own))
		}
		if err == nil {
			err = json.Unmarshal(text, &m)
		}
		if err != nil {
			return nil, fmt.Errorf("store: manifest %s: %w", d.Digest, err)
		}
		for _, l := range append(m.Layers, m.Config) {
			of, err := digest.Parse(l.Digest.String())
			if err != nil {
				return nil, fmt.Errorf("store: manifest %s: %w", d.Digest, err)
			}
			named[of] = true
		}
	}
	return named, nil
}

func describe(b Blob, mediaType, title string) ocispec.Descriptor {
	d := ocispec.Descriptor{MediaType: mediaType, Digest: godigest.Digest(b.Digest.String()), Size: b.Bytes}
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

// Room is how many bytes may be written below a folder, so that a twentieth of its file system stays free.
func Room(dir string) int64 {
	var fs unix.Statfs_t
	if unix.Statfs(dir, &fs) != nil {
		return 0
	}
	return max(int64(fs.Bavail)*fs.Bsize-int64(fs.Blocks)*fs.Bsize/20, 0)
}

// SyncDir makes renames in a folder safe.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
