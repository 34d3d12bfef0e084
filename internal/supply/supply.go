// Package supply brings the bytes of bases, parents and artifacts from wherever they are: files at hand,
// servers, the store, regions.
package supply

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"zygos/internal/base"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/state"
	"zygos/internal/store"
)

// Tell is told how many bytes of how many were read; total is -1 if not known.
type Tell func(doing string, done, total int64)

// Importer brings bases into a state; temp is a folder for unfinished layers.
func Importer(s *state.State, temp string, tell Tell) *base.Importer {
	return &base.Importer{Root: s.Root, Store: s.Store, Layers: s.Layers, Downloads: s.Dir.Downloads(), Temp: temp, Progress: tell}
}

// Bring makes a base, or a variant of a version that another state built, a layer.
func Bring(ctx context.Context, s *state.State, b plan.Base, variant, temp string, tell Tell) (*layer.Snapshot, error) {
	importer := Importer(s, temp, tell)
	if !b.Image {
		return importer.Ensure(ctx, s.Org.Base(b.Name))
	}
	v, err := s.Catalog.Resolve(ctx, definition.Ref{Image: b.Name, Selector: b.Version})
	if err != nil {
		return nil, err
	}
	archive := state.Archive(v, variant)
	if archive == nil {
		return nil, fmt.Errorf("the layers of %s are not in this state, and it has no artifact of the format tar to take instead; build %s again here with --force", v.Ref(), b.Name)
	}
	if archive.From, err = copies(ctx, s, v, "sha256:"+archive.SHA256); err != nil {
		return nil, err
	}
	snap, err := importer.Ensure(ctx, archive)
	if err != nil {
		return nil, fmt.Errorf("the layers of %s are not in this state, and its archive cannot be had from a region; publish it where it was built ('zygos show %s' says where), or build %s again here with --force: %w",
			v.Ref(), v.Ref(), b.Name, err)
	}
	return snap, nil
}

// Fetch brings a base's archive to hand and verifies it.
func Fetch(ctx context.Context, s *state.State, b *definition.Base, tell Tell) error {
	file, from, err := Importer(s, "", tell).Archive(ctx, b)
	if err != nil {
		return err
	}
	got, err := store.Digest(ctx, file, nil)
	if err == nil && got.Digest != "sha256:"+b.SHA256 {
		err = &base.MismatchError{Base: b.Name, From: from, Want: b.SHA256, Got: strings.TrimPrefix(got.Digest, "sha256:")}
	}
	return err
}

// copies lists files in regions that hold an artifact of a version.
func copies(ctx context.Context, s *state.State, v *catalog.Version, digest string) (files []string, err error) {
	placements, err := s.Catalog.Placements(ctx, v.Image, v.Version, "")
	for _, pl := range placements {
		if pl.Artifact != digest {
			continue
		}
		files = append(files, pl.Location)
		if r := s.Org.Region(pl.Region); r != nil { // its folder may be elsewhere on this machine
			files = append(files, filepath.Join(s.Path(r.Path), v.Image, v.Version, filepath.Base(pl.Location)))
		}
	}
	return files, err
}

// Artifact is the file of an artifact: in the store or, if it was built elsewhere, in a region.
func Artifact(ctx context.Context, s *state.State, v *catalog.Version, a catalog.Artifact) (string, error) {
	own := s.Store.Path(a.Digest)
	if _, err := os.Stat(own); err == nil {
		return own, nil
	}
	files, err := copies(ctx, s, v, a.Digest)
	for _, f := range files {
		if _, err := os.Stat(f); err == nil {
			return f, nil
		}
	}
	return own, err
}
