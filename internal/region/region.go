// Package region places artifacts where hosts fetch them. A placement is written under a
// temporary name, verified by its digest and renamed; only then it counts.
//
// The package knows files, digests and places; it knows no catalog.
package region

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"path/filepath"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/definition"
)

// Item is an artifact to place.
type Item struct {
	Organisation string
	Image        string
	Version      string
	artifact.Key
	Digest string // "sha256:…"
	Bytes  int64
	Source string // file with the bytes
	File   string // name to give it
}

// Placed says where an item is now.
type Placed struct {
	ID       string
	Location string
	Copied   bool // false if it was there already
}

// ErrAbsent says that a region was looked at and holds no sound copy of an item. Of a failure without it
// nothing follows for what was placed before.
var ErrAbsent = errors.New("no sound copy is there")

// absentError is ErrAbsent with the words of what failed.
type absentError struct{ error }

func (e absentError) Is(target error) bool { return target == ErrAbsent }
func (e absentError) Unwrap() error        { return e.error }

// Region is a place for artifacts and for the documents about them.
type Region interface {
	// Place brings an item there and verifies it there; told is called with the bytes that were copied.
	// If it fails and the item is not there, the error is ErrAbsent.
	Place(ctx context.Context, item Item, told func(int64)) (Placed, error)
	// Remove takes away what was placed at a location; what is not there is gone already.
	Remove(ctx context.Context, location string) error
	// Document writes a small file beside the artifacts, whole or not at all.
	Document(ctx context.Context, name string, content []byte) (location string, err error)
}

// Open returns the region that a definition describes. path turns its relative paths into absolute ones.
func Open(r *definition.Region, path func(string) string) Region {
	return folder{name: r.Name, dir: path(r.Path)}
}

// Sweep removes temporary files that killed processes left in a region and returns their names.
// One that somebody is writing stays.
func Sweep(r *definition.Region, path func(string) string) []string {
	dirs, _ := filepath.Glob(filepath.Join(path(r.Path), "*")) // a path that is a pattern has no leftovers to find
	var list []string
	for _, dir := range dirs {
		list = append(list, sweep(dir)...)
	}
	return list
}

// Takes says whether a region takes artifacts of a format.
func Takes(r *definition.Region, format string) bool {
	for _, f := range r.Formats {
		if f == format {
			return true
		}
	}
	return len(r.Formats) == 0
}

// ID is the id of an item in a region: the same each time, and different for any other item or region.
func ID(region string, item Item) string {
	what := cmp.Or(item.Name, item.Format)
	if item.Variant != "" {
		what = item.Variant + "/" + what
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{"zygos placement 1", item.Organisation, region, item.Image, item.Version, what, item.Digest}, "\n")))
	return "zy-" + hex.EncodeToString(sum[:10])
}
