// Package regiontest has a made-up kind of region for tests of what works on regions.
package regiontest

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
)

// Shelf is a region in memory. It fails as it is told.
type Shelf struct {
	Name   string
	Things map[string][]byte // by location: "shelf:FILE", or the name of a document
	Fails  []error           // of the next calls of Place, one each
	Asked  int               // calls of Place
	mu     sync.Mutex
}

// New is an empty shelf.
func New(name string) *Shelf { return &Shelf{Name: name, Things: map[string][]byte{}} }

// Use makes shelves the kind of region "shelf" until the test ends.
func Use(t testing.TB, shelves ...*Shelf) {
	old := kinds.Table
	t.Cleanup(func() { kinds.Table = old })
	kinds.Table = append(slices.Clone(old), &region.Kind{Name: "shelf",
		Read: func(name string, _ definition.Values) any { return name },
		Open: func(r *definition.Region, _ func(string) string) region.Region {
			return shelves[slices.IndexFunc(shelves, func(s *Shelf) bool { return s.Name == r.Name })]
		},
		Where: func(settings any) string { return "the shelf " + settings.(string) }})
}

func (s *Shelf) Place(ctx context.Context, item region.Item, told region.Told) (region.Placed, error) {
	if err := s.asked(); err != nil {
		return region.Placed{}, err
	}
	at := "shelf:" + item.File
	placed := region.Placed{ID: s.Name + "/" + item.File, Location: at, By: "content"}
	if had, ok := s.get(at); ok && digest.Of(had) == item.Digest {
		return placed, nil
	}
	from, err := item.Open(ctx)
	if err != nil {
		return region.Placed{}, err
	}
	defer from.Close()
	content, err := io.ReadAll(io.NewSectionReader(from, 0, item.Bytes))
	told(region.Copying, int64(len(content)))
	s.put(at, content)
	placed.Copied = true
	return placed, err
}

// asked counts a call of Place, and is how that fails.
func (s *Shelf) asked() (err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Asked++; len(s.Fails) > 0 {
		err, s.Fails = s.Fails[0], s.Fails[1:]
	}
	return err
}

func (s *Shelf) put(name string, content []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Things[name] = content
}

func (s *Shelf) Fetch(_ context.Context, at string, from int64) (io.ReadCloser, error) {
	content, ok := s.get(at)
	if !ok {
		return nil, region.ErrAbsent
	}
	return io.NopCloser(bytes.NewReader(content[min(from, int64(len(content))):])), nil
}

func (s *Shelf) get(name string) ([]byte, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	content, ok := s.Things[name]
	return content, ok
}

func (s *Shelf) Stat(_ context.Context, at string) (int64, digest.Digest, error) {
	content, ok := s.get(at)
	if !ok {
		return 0, digest.Digest{}, region.ErrAbsent
	}
	return int64(len(content)), digest.Digest{}, nil
}

func (s *Shelf) Verify(_ context.Context, at string, d digest.Digest) error {
	if content, ok := s.get(at); !ok || digest.Of(content) != d {
		return region.ErrAbsent
	}
	return nil
}

func (s *Shelf) names(is func(string) bool) (list []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.DeleteFunc(slices.Sorted(maps.Keys(s.Things)), func(name string) bool { return !is(name) })
}

func (s *Shelf) List(context.Context) ([]string, error) {
	return s.names(func(name string) bool { return strings.HasPrefix(name, "shelf:") }), nil
}

func (s *Shelf) Documents(_ context.Context, below string) ([]string, error) {
	return s.names(func(name string) bool {
		_, _, _, ok := region.DocumentOf(name)
		return ok && (below == "" || strings.HasPrefix(name, below+"/"))
	}), nil
}

func (s *Shelf) Sweep(context.Context) ([]string, error) { return nil, nil }

func (s *Shelf) Remove(ctx context.Context, at string) error { return s.Withdraw(ctx, at) }

func (s *Shelf) Withdraw(_ context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.Things, name)
	return nil
}

func (s *Shelf) Document(_ context.Context, name string, text []byte) (string, error) {
	s.put(name, text)
	return "shelf:" + name, nil
}

func (s *Shelf) Read(_ context.Context, name string) ([]byte, time.Time, error) {
	content, ok := s.get(name)
	if !ok {
		return nil, time.Time{}, fs.ErrNotExist
	}
	return content, time.Now(), nil
}
