package layer

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	digestOf "zygos/internal/digest"
)

// Store keeps layers by digest and snapshots by key, in one folder:
//
//	DIGEST/index.jsonl   the layer's index
//	DIGEST/disk.json     of a layer that was read from a disk, how that was laid out
//	DIGEST/tree/         its contents, ready for an overlay
//	DIGEST/usage         how many bytes it takes on disk
//	keys/KEY.json        which layer a stage with this key made
//
// A layer appears by a rename when it is whole. Snapshots written before a power cut are
// checked once, when they are first used after it.
type Store struct {
	Dir    string
	Owners Owners
	// Check says that this process may read every file of the trees. Without it, snapshots
	// from before a power cut are taken as they are; whoever builds on them checks them.
	Check bool
	// Lower has layers that this store reads as if they were its own; nil for none.
	Lower *Store
	// From has layers that neither has; nil for none.
	From Source

	mu      sync.Mutex
	indexes map[string]Index
	recent  []string // the layers in indexes, the last used at the end
}

// Snapshot is what a finished stage left.
type Snapshot struct {
	Key     string        `json:"key"`
	Layer   string        `json:"layer"` // digest
	Bytes   int64         `json:"bytes"`
	Build   string        `json:"build"` // the build that ran the stage
	Created time.Time     `json:"created"`
	Took    time.Duration `json:"took_ns"`
	Epoch   int64         `json:"epoch,omitempty"` // of a base: its newest time, seconds since 1970
	Boot    string        `json:"boot"`            // boot of the machine that wrote it
}

// folder is where a layer with a digest lies. A text that is no digest names a folder that nothing has.
func (s *Store) folder(digest string) string { return filepath.Join(s.Dir, digestOf.Name(digest)) }

// find is where a layer with a digest lies, here or in Lower.
func (s *Store) find(digest string) string {
	if s.Lower != nil && !s.own(digest) {
		return s.Lower.find(digest)
	}
	return s.folder(digest)
}

// TreeDir is the folder with a layer's contents.
func (s *Store) TreeDir(digest string) string { return filepath.Join(s.find(digest), "tree") }

// Has says whether the layer is kept.
func (s *Store) Has(digest string) bool {
	return s.own(digest) || s.Lower != nil && s.Lower.Has(digest)
}

func (s *Store) own(digest string) bool {
	_, err := os.Stat(filepath.Join(s.folder(digest), "index.jsonl"))
	return err == nil
}

// Source gives layers that a store does not have.
type Source interface {
	// Fetch brings a layer into a store, by Begin and Commit there. If it does not have it, the error is a *MissingError.
	Fetch(ctx context.Context, digest string, to *Store) error
	// Finished is told of a layer that was made here.
	Finished(digest string)
}

// MissingError says that a layer is not kept here.
type MissingError struct {
	Of    string // what consists of it, "" if that is not known
	Layer string
	Do    string // what helps
}

func (e *MissingError) Error() string {
	if e.Of == "" {
		return fmt.Sprintf("layer %.12s is not kept here", e.Layer)
	}
	return fmt.Sprintf("the layers of %s are not kept in this state; %s", e.Of, cmp.Or(e.Do, "build it here again with --force"))
}

// Ensure makes sure that layers are here, and asks From for those that are not. of is what consists of them and do what helps, for the
// *MissingError.
func (s *Store) Ensure(ctx context.Context, layers []string, of, do string) error {
	for _, digest := range layers {
		if s.Has(digest) {
			continue
		}
		err := error(&MissingError{Layer: digest})
		if s.From != nil {
			err = s.From.Fetch(ctx, digest, s)
		}
		var missing *MissingError
		if errors.As(err, &missing) {
			return &MissingError{Of: of, Layer: digest, Do: do}
		}
		if err != nil {
			return fmt.Errorf("the layers of %s: %w", of, err)
		}
	}
	return nil
}

// mostEntries is how many entries of indexes a store remembers, as far as it knows more than one.
const mostEntries = 2 << 20

// Index reads a layer's index.
func (s *Store) Index(digest string) (Index, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := filepath.Join(s.find(digest), "index.jsonl")
	if x, ok := s.indexes[digest]; ok {
		if _, err := os.Stat(name); err == nil { // another process may have thrown it away
			s.remember(digest, x)
			return x, nil
		}
		s.forget(digest)
	}
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &MissingError{Layer: digest}
	} else if err != nil {
		return nil, err
	}
	x, err := Decode(text)
	if err != nil {
		return nil, err
	}
	s.remember(digest, x)
	return x, nil
}

// remember keeps an index in memory, as the last used, and forgets the least recently used ones beyond mostEntries. The caller holds mu.
func (s *Store) remember(digest string, x Index) {
	if s.indexes == nil {
		s.indexes = map[string]Index{}
	}
	s.forget(digest)
	s.indexes[digest], s.recent = x, append(s.recent, digest)
	total := 0
	for _, x := range s.indexes {
		total += len(x)
	}
	for total > mostEntries && len(s.recent) > 1 {
		total -= len(s.indexes[s.recent[0]])
		s.forget(s.recent[0])
	}
}

// forget drops an index from memory. The caller holds mu.
func (s *Store) forget(digest string) {
	if _, ok := s.indexes[digest]; ok {
		delete(s.indexes, digest)
		s.recent = slices.DeleteFunc(s.recent, func(d string) bool { return d == digest })
	}
}

// Stack merges layers, lowest first.
func (s *Store) Stack(digests []string) (*Tree, error) {
	stack := make([]Index, len(digests))
	for i, d := range digests {
		x, err := s.Index(d)
		if err != nil {
			return nil, err
		}
		stack[i] = x
	}
	return Merge(stack...), nil
}

// Begin makes an empty folder in which a layer can grow: Dir/tree. It lies below temp, which
// must be on the store's file system. Remove it if the work fails.
func (s *Store) Begin(temp string) (dir string, err error) {
	if err := os.MkdirAll(filepath.Join(s.Dir, "keys"), 0o755); err != nil {
		return "", err
	}
	dir, err = os.MkdirTemp(temp, "layer-")
	if err != nil {
		return "", err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return "", err
	}
	return dir, os.Mkdir(filepath.Join(dir, "tree"), 0o755)
}

// Commit makes the folder from Begin the layer with this index and returns its digest.
// If the layer is already kept, the folder is dropped.
func (s *Store) Commit(dir string, x Index) (string, error) {
	file, err := os.Create(filepath.Join(dir, "index.jsonl"))
	if err != nil {
		return "", err
	}
	digest, err := x.Encode(file)
	if err = errors.Join(err, file.Close()); err == nil {
		digest, err = named(digest, dir)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "usage"), []byte(strconv.FormatInt(x.usage(), 10)), 0o644)
	}
	if err != nil {
		return "", err
	}
	to := s.folder(digest)
	err = os.Rename(dir, to)
	if errors.Is(err, fs.ErrExist) && s.Has(digest) {
		if touch(to) { // it is in use from now on
			err = RemoveAll(dir)
		}
	}
	if err != nil {
		return "", fmt.Errorf("keep layer: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.remember(digest, x)
	if s.From != nil {
		s.From.Finished(digest)
	}
	return digest, nil
}

// named is what a layer is called: by its index and, if it was read from a disk, by how that was laid out.
func named(index, dir string) (string, error) {
	text, err := os.ReadFile(filepath.Join(dir, DiskFile))
	if errors.Is(err, fs.ErrNotExist) {
		return index, nil
	}
	sum := sha256.Sum256(append([]byte(index+"\n"), text...))
	return hex.EncodeToString(sum[:]), err
}

// DiskFile is what a layer that was read from a disk has beside its index.
const DiskFile = "disk.json"

// Disk says how the disk was laid out that a layer was read from; nil if it was none.
func (s *Store) Disk(digest string) ([]byte, error) {
	text, err := os.ReadFile(filepath.Join(s.find(digest), DiskFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return text, err
}

// Peek returns the snapshot with a key as it is, nil if there is none. It checks and changes nothing.
func (s *Store) Peek(key string) *Snapshot {
	text, err := os.ReadFile(s.keyFile(key))
	if err != nil {
		return nil
	}
	var snap Snapshot
	if json.Unmarshal(text, &snap) != nil || !s.Has(snap.Layer) {
		return nil
	}
	return &snap
}

// Find returns the snapshot with a key, nil if there is none whose layer is whole, or if ctx ends
// while it is checked.
func (s *Store) Find(ctx context.Context, key string) *Snapshot {
	snap := s.Peek(key)
	if snap == nil || snap.Boot == bootID() || !s.Check {
		return snap
	}
	if s.Verify(ctx, snap.Layer) != nil {
		if ctx.Err() == nil {
			s.Forget(snap)
		}
		return nil
	}
	_ = s.Remember(*snap) // only saves the next check
	return snap
}

func (s *Store) keyFile(key string) string {
	return filepath.Join(s.Dir, "keys", filepath.Base(key)+".json")
}

const gone = ".gone" // ends the names of what is being removed

// Drop throws a layer away with all snapshots that stand for it.
func (s *Store) Drop(digest string) error {
	for _, key := range s.keys() {
		if snap := s.Peek(key); snap != nil && snap.Layer == digest {
			if err := os.Remove(s.keyFile(key)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	s.Forget(&Snapshot{Layer: digest})
	if s.Has(digest) {
		return fmt.Errorf("layer %.12s cannot be removed", digest)
	}
	return nil
}

// Forget removes a snapshot and its layer, so that it is made anew. What cannot be removed is found
// again by whoever looks for it.
func (s *Store) Forget(snap *Snapshot) {
	_ = os.Remove(s.keyFile(snap.Key))
	away := s.folder(snap.Layer) + gone
	if os.Rename(s.folder(snap.Layer), away) == nil {
		_ = RemoveAll(away)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.forget(snap.Layer)
}

// Sync makes everything in the store safe on disk.
func (s *Store) Sync() error {
	dir, err := os.Open(s.Dir)
	if err != nil {
		return err
	}
	return errors.Join(unix.Syncfs(int(dir.Fd())), dir.Close())
}

// Remember records which layer the stage with this key made.
func (s *Store) Remember(snap Snapshot) error {
	snap.Boot = bootID()
	text, err := json.MarshalIndent(snap, "", "  ")
	if err != nil {
		return err
	}
	name := s.keyFile(snap.Key)
	part, err := os.CreateTemp(filepath.Dir(name), "new-")
	if err != nil {
		return err
	}
	_, err = part.Write(append(text, '\n'))
	if err = errors.Join(err, part.Close()); err == nil {
		err = os.Rename(part.Name(), name)
	}
	if err != nil {
		_ = os.Remove(part.Name())
	}
	return err
}

// Verify checks a layer's folder against its index, sizes and content of every file.
func (s *Store) Verify(ctx context.Context, digest string) error {
	x, err := s.Index(digest)
	if err != nil {
		return err
	}
	got, err := named(x.Digest(), s.find(digest))
	if err != nil {
		return err
	}
	if got != digest {
		return fmt.Errorf("layer %.12s: its index has the digest %.12s", digest, got)
	}
	sc := scanner{ctx: ctx, Upper: &Upper{Folder: Folder{Dir: s.TreeDir(digest)}}}
	for i := range x {
		e := &x[i]
		if e.Kind == File && e.Same == "" {
			f := found{Entry: Entry{Path: e.Path}}
			if err := sc.digest(filepath.Join(sc.Dir, e.Path), &f); err != nil {
				return err
			}
			if f.Digest != e.Digest {
				return fmt.Errorf("layer %.12s: %s is damaged", digest, e.Path)
			}
		} else if _, err := os.Lstat(filepath.Join(sc.Dir, e.Path)); err != nil {
			return err
		}
	}
	return nil
}

// RemoveAll removes a folder whatever modes its folders have.
func RemoveAll(dir string) error {
	if os.RemoveAll(dir) == nil {
		return nil
	}
	_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			_ = os.Chmod(p, 0o700) // what cannot be changed shows in the removal below
		}
		return nil
	})
	return os.RemoveAll(dir)
}

var bootID = sync.OnceValue(func() string {
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(text))
})
