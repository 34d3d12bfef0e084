package layer

import (
	"encoding/json"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"
)

func touch(name string) bool {
	now := time.Now()
	return os.Chtimes(name, now, now) == nil
}

// Touch notes that the snapshot with a key is used, and says whether it is still there. From then
// on it is not thrown away as long as the build runs that uses it.
func (s *Store) Touch(key string) bool {
	name := s.keyFile(key)
	if !touch(name) {
		return false
	}
	_, err := os.Stat(name) // Evict takes it away for a moment and looks at its time once more
	return err == nil
}

// takeAway renames what has not been used since, and says whether it did.
func takeAway(name, away string, since time.Time) (bool, error) {
	if err := os.Rename(name, away); err != nil {
		return false, err
	}
	if info, err := os.Stat(away); err == nil && info.ModTime().After(since) {
		return false, os.Rename(away, name)
	}
	return true, nil
}

// size is how many bytes a layer takes on disk, near enough, as Commit noted it.
func (s *Store) size(digest string) int64 {
	if text, err := os.ReadFile(filepath.Join(s.folder(digest), "usage")); err == nil {
		if n, err := strconv.ParseInt(string(text), 10, 64); err == nil {
			return n
		}
	}
	x, err := s.Index(digest)
	if err != nil {
		return 0
	}
	return x.usage()
}

// usage is how many bytes a layer takes on disk, near enough.
func (x Index) usage() (bytes int64) {
	const block = 4096
	for i := range x {
		switch {
		case x[i].Same != "":
		case x[i].Kind == Dir:
			bytes += block
		default:
			bytes += (x[i:i+1].Bytes() + block - 1) / block * block
		}
	}
	return bytes
}

// keys lists the keys of the snapshots that are kept.
func (s *Store) keys() (list []string) {
	entries, _ := os.ReadDir(filepath.Join(s.Dir, "keys")) // no folder, no snapshots
	for _, e := range entries {
		if key, ok := strings.CutSuffix(e.Name(), ".json"); ok {
			list = append(list, key)
		}
	}
	return list
}

// digests lists the layers that are kept.
func (s *Store) digests() (list []string) {
	entries, _ := os.ReadDir(s.Dir) // no folder, no layers
	for _, e := range entries {
		if len(e.Name()) == 64 {
			list = append(list, e.Name())
		}
	}
	return list
}

// Usage is how many bytes all layers take.
func (s *Store) Usage() (bytes int64) {
	for _, digest := range s.digests() {
		bytes += s.size(digest)
	}
	return bytes
}

// Evict throws away snapshots, and layers that then belong to none, the least recently used first,
// until so many bytes are freed. What was used after since stays, and every layer that is pinned.
// No build may begin meanwhile.
func (s *Store) Evict(bytes int64, since time.Time, pinned func(digest string) bool) (freed int64, err error) {
	type kept struct {
		name, layer string
		used        time.Time
	}
	var list []kept
	users := map[string]int{}
	for _, key := range s.keys() {
		name := s.keyFile(key)
		var snap Snapshot
		info, err1 := os.Stat(name)
		text, err2 := os.ReadFile(name)
		if err1 != nil || err2 != nil || json.Unmarshal(text, &snap) != nil {
			continue
		}
		users[snap.Layer]++
		list = append(list, kept{name, snap.Layer, info.ModTime()})
	}
	for _, digest := range s.digests() {
		if users[digest] == 0 { // of a build that did not end, or of sealing
			list = append(list, kept{layer: digest})
			users[digest] = 1
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].used.Before(list[j].used) })
	for _, k := range list {
		if freed >= bytes {
			break
		}
		if k.used.After(since) || pinned(k.layer) {
			continue
		}
		if k.name != "" {
			away := strings.TrimSuffix(k.name, ".json") + gone
			if ok, err := takeAway(k.name, away, since); err != nil || !ok {
				if err != nil {
					return freed, err
				}
				continue
			}
			if err := os.Remove(away); err != nil {
				return freed, err
			}
		}
		if users[k.layer]--; users[k.layer] > 0 {
			continue
		}
		size := s.size(k.layer)
		away := s.folder(k.layer) + gone
		if ok, err := takeAway(s.folder(k.layer), away, since); err != nil || !ok {
			if err != nil {
				return freed, err
			}
			continue
		}
		s.mu.Lock()
		s.forget(k.layer)
		s.mu.Unlock()
		if err := RemoveAll(away); err != nil {
			return freed, err
		}
		freed += size
	}
	return freed, nil
}
