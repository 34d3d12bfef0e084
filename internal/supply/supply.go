// Package supply brings the bytes of bases, parents and artifacts from wherever they are: files at hand,
// servers, the store, regions.
package supply

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"

	"zygos/internal/base"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/session"
	"zygos/internal/store"
)

// Tell is told how many bytes of how many were read; total is -1 if not known.
type Tell func(doing string, done, total int64)

// Importer brings bases into a state; temp is a folder for unfinished layers.
func Importer(s *session.Session, temp string, tell Tell) *base.Importer {
	return &base.Importer{Root: s.Root, Store: s.Store, Layers: s.Layers, Downloads: s.Dir.Downloads(), Temp: temp, Progress: tell}
}

// Bring makes a base, or a variant of a version that another state built, a layer.
func Bring(ctx context.Context, s *session.Session, b plan.Base, variant, temp string, tell Tell) (*layer.Snapshot, error) {
	importer := Importer(s, temp, tell)
	if !b.Image {
		return importer.Ensure(ctx, s.Org.Base(b.Name))
	}
	v, err := s.Catalog.Resolve(ctx, definition.Ref{Image: b.Name, Selector: b.Version})
	if err != nil {
		return nil, err
	}
	archive := session.Archive(v, variant)
	if archive == nil {
		return nil, fmt.Errorf("the layers of %s are not in this state, and it has no artifact of the format tar to take instead; build %s "+
			"again here with --force", v.Ref(), b.Name)
	}
	if at := slices.IndexFunc(v.Artifacts, func(a catalog.Artifact) bool { return a.Digest == archive.SHA256 }); at >= 0 {
		_, err = Artifact(ctx, s, v, v.Artifacts[at], tell)
	}
	var snap *layer.Snapshot
	if err == nil {
		snap, err = importer.Ensure(ctx, archive)
	}
	if err != nil {
		return nil, fmt.Errorf("the layers of %s are not in this state, and its archive cannot be had from a region; publish it where it was "+
			"built ('zygos show %s' says where), or build %s again here with --force: %w",
			v.Ref(), v.Ref(), b.Name, err)
	}
	return snap, nil
}

// Fetch brings a base's archive to hand and verifies it.
func Fetch(ctx context.Context, s *session.Session, b *definition.Base, tell Tell) error {
	file, from, err := Importer(s, "", tell).Archive(ctx, b)
	if err != nil {
		return err
	}
	got, err := store.Digest(ctx, file, nil)
	if err == nil && got.Digest != b.SHA256 {
		err = base.Mismatch(b, from, got.Digest)
	}
	return err
}

// Artifact is the file of an artifact in the store; one that was built elsewhere is brought there from a
// region. tell may be nil.
func Artifact(ctx context.Context, s *session.Session, v *catalog.Version, a catalog.Artifact, tell Tell) (string, error) {
	own := s.Store.Path(a.Digest)
	if _, err := os.Stat(own); err == nil {
		return own, nil
	}
	placements, err := s.Catalog.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return "", err
	}
	failed := fmt.Errorf("%s of %s is not in the store, and in no region", a.Key(), v.Ref())
	for _, pl := range placements {
		r := s.Org.Region(pl.Region)
		if pl.Artifact != a.Digest || r == nil {
			continue
		}
		from, err := kinds.Open(r, s.Path)
		if err == nil {
			err = fetch(ctx, s, from, pl.Location, a, tell)
		}
		if err == nil || ctx.Err() != nil {
			return own, err
		}
		failed = fmt.Errorf("%s of %s cannot be had from region %s: %w", a.Key(), v.Ref(), pl.Region, err)
	}
	return "", failed
}

// fetch brings an artifact from a region into the store.
func fetch(ctx context.Context, s *session.Session, from region.Region, location string, a catalog.Artifact, tell Tell) error {
	content, err := from.Fetch(ctx, location, 0)
	if err != nil {
		return err
	}
	defer content.Close()
	w, err := s.Store.Create(ctx)
	if err != nil {
		return err
	}
	defer w.Discard()
	for doing := "fetch " + a.Key().String(); err == nil && w.Size() <= a.Bytes; {
		if _, err = io.CopyN(w, content, piece); tell != nil {
			tell(doing, w.Size(), a.Bytes)
		}
		err = cmp.Or(ctx.Err(), err)
	}
	if err != nil && err != io.EOF {
		return err
	}
	return w.CommitAs(a.Digest)
}

// piece is how many bytes are fetched between two words about it.
const piece = 4 << 20
