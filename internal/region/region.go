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
	"io"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// Item is an artifact to place.
type Item struct {
	Organisation string
	Image        string
	Version      string
	artifact.Key
	Digest digest.Digest
	Bytes  int64
	Called string // name to give it
	File   string // name to give a file of it
	Labels map[string]string
	Known  bool     // its content was verified there before, and recorded so
	Near   []string // locations in other regions of the same system, from where it may be had without this host
	// Open opens the bytes, which are asked for only if they are needed.
	Open func(ctx context.Context) (Content, error)
}

// Placed says where an item is now.
type Placed struct {
	ID       string
	Location string
	Copied   bool   // false if it was there already
	By       string // how its content was verified: the ways of package artifact
}

// ErrAbsent says that a region was looked at and holds no sound copy of an item. Of a failure without it
// nothing follows for what was placed before.
var ErrAbsent = errors.New("no sound copy is there")

// AgainError is an error against which trying again may help, soon or after a time that the other side asks for.
type AgainError struct {
	Err   error
	After time.Duration
}

func (e *AgainError) Error() string { return e.Err.Error() }
func (e *AgainError) Unwrap() error { return e.Err }

// Region is a place for artifacts and for the documents about them. A location means something to the
// region alone; others keep and show it.
type Region interface {
	// Place brings an item there and verifies it there. If it fails and the item is not there, the error is ErrAbsent.
	Place(ctx context.Context, item Item, told Told) (Placed, error)
	// Fetch opens what was placed at a location, from so many bytes on.
	Fetch(ctx context.Context, location string, from int64) (io.ReadCloser, error)
	// Stat is the size of what lies at a location and the digest that the region keeps of it, the zero Digest for none. Nothing is read;
	// if nothing is there, the error is ErrAbsent.
	Stat(ctx context.Context, location string) (bytes int64, d digest.Digest, err error)
	// Verify reads what lies at a location and says whether it is the content with a digest; if not, the error is ErrAbsent.
	Verify(ctx context.Context, location string, d digest.Digest) error
	// List lists the locations of all artifacts there, also of those that nobody recorded, in order.
	List(ctx context.Context) (locations []string, err error)
	// Remove takes away what was placed at a location; what is not there is gone already.
	Remove(ctx context.Context, location string) error
	// Document writes a small file beside the artifacts, whole or not at all.
	Document(ctx context.Context, name string, content []byte) (location string, err error)
	// Read reads a document, and when it was written; of none the error is fs.ErrNotExist.
	Read(ctx context.Context, name string) (content []byte, written time.Time, err error)
	// Documents lists the documents of versions that lie there, by name: IMAGE/VERSION/FILE. below is IMAGE/VERSION for those of one version,
	// "" for all.
	Documents(ctx context.Context, below string) (names []string, err error)
	// Withdraw takes away a document; what is not there is gone already.
	Withdraw(ctx context.Context, name string) error
	// Sweep removes what placements left that were killed, and names it. What somebody writes stays.
	Sweep(ctx context.Context) (removed []string, err error)
}

// States of a placement on its way.
const (
	Waiting   = "waiting"
	Copying   = "copying"
	Importing = "importing" // the region makes its own of what was copied
	Verifying = "verifying"
	Done      = "placed"
	Failed    = "failed"
)

// Told is told in which state a placement is, and how many bytes more it has behind it.
type Told func(state string, bytes int64)

// Aligner is a region that keeps more of an artifact than its bytes, by its terms: who may use it, its class.
type Aligner interface {
	// Align says what at a location is not as the terms have it, and changes it if it is to.
	Align(ctx context.Context, location string, change bool) (differs []string, err error)
}

// Kind is a kind of region.
type Kind struct {
	Name string
	Can  []string // of definition.Abilities
	// Taken are names of its own, which no image can have, beside those that end in .json.
	Taken []string
	// Shares says that versions of an image with the same content lie at one location.
	Shares bool
	// Read reads what a definition says of a region, beside its kind and terms, and returns the settings,
	// nil if they do not suffice to open it.
	Read func(region string, v definition.Values) (settings any)
	// Open opens a region with its settings; path resolves a path that starts at the workspace.
	Open func(r *definition.Region, path func(string) string) Region
	// Where says where a region is, from its settings.
	Where func(settings any) string
	// System is the same for regions between which artifacts are copied without this host; nil for a kind that cannot.
	System func(settings any) string
}

// Documents that each region has.
const (
	IndexName = "index.json"       // what belongs there
	OwnerName = "zygos-owner.json" // which catalog writes there
)

// Most is how many bytes of a document are read.
func Most(name string) int64 {
	switch name {
	case IndexName:
		return bounded.Index
	case OwnerName:
		return bounded.Small
	}
	return bounded.Document
}

// ManifestName is what the manifest of a version is called in a region.
func ManifestName(image, version string) string { return image + "/" + version + "/" + manifestFile }

// DocumentOf is the version whose document is called so, and the document's own name, which ends in .json; ok is false for what is none.
func DocumentOf(name string) (image, version, file string, ok bool) {
	parts := strings.Split(name, "/")
	if len(parts) != 3 || !definition.IsName(parts[0]) || !strings.HasSuffix(parts[2], ".json") || !definition.IsName(parts[2]) {
		return "", "", "", false
	}
	_, ok = definition.ParseVersion(parts[1])
	return parts[0], parts[1], parts[2], ok
}

// ManifestOf is the version whose manifest is called so; ok is false for another document.
func ManifestOf(name string) (image, version string, ok bool) {
	image, version, file, ok := DocumentOf(name)
	return image, version, ok && file == manifestFile
}

const manifestFile = "manifest.json"

// ID is the id of an item in a region: the same each time, and different for any other item or region.
func ID(region string, item Item) string {
	what := cmp.Or(item.Name, item.Format)
	if item.Variant != "" {
		what = item.Variant + "/" + what
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{"zygos placement 1", item.Organisation, region, item.Image, item.Version, what,
		item.Digest.String()}, "\n")))
	return "zy-" + hex.EncodeToString(sum[:10])
}
