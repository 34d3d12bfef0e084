package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
)

// parentOf is a version as a base: what it consists of, and the layers that make the same here. A
// version of another state has none until its archive was brought.
func (p *place) parentOf(v *catalog.Version, base func(*definition.Base) *layer.Snapshot) (*plan.Parent, error) {
	if err := v.Usable(); err != nil {
		return nil, err
	}
	parent := &plan.Parent{Version: v.Version, Trees: map[string][]string{}, Here: map[string][]string{}, Epoch: v.Epoch}
	for _, t := range v.Trees {
		parent.Trees[t.Variant] = t.Layers
		if !slices.ContainsFunc(t.Layers, func(digest string) bool { return !p.layers.Has(digest) }) {
			parent.Here[t.Variant] = t.Layers
		} else if a := archiveOf(v, t.Variant); a != nil {
			if snap := base(a); snap != nil {
				parent.Here[t.Variant] = []string{snap.Layer}
			}
		}
	}
	return parent, nil
}

// archiveOf is the root archive of a variant of a version as a base from nowhere yet, nil if it has none.
func archiveOf(v *catalog.Version, variant string) *definition.Base {
	i := slices.IndexFunc(v.Artifacts, func(a catalog.Artifact) bool { return a.Variant == variant && a.Format == "tar" })
	if i < 0 {
		return nil
	}
	return &definition.Base{Name: v.Image, Release: v.Version, SHA256: strings.TrimPrefix(v.Artifacts[i].Digest, "sha256:")}
}

// bring makes a base, or a variant of a version that another state built, a layer.
func (p *place) bring(ctx context.Context, b plan.Base, variant, temp string, progress func(string, int64, int64)) (*layer.Snapshot, error) {
	importer := p.importer(temp, progress)
	if !b.Image {
		return importer.Ensure(ctx, p.Org.Base(b.Name))
	}
	v, err := p.catalog.Resolve(ctx, definition.Ref{Image: b.Name, Selector: b.Version})
	if err != nil {
		return nil, err
	}
	archive := archiveOf(v, variant)
	if archive == nil {
		return nil, fmt.Errorf("the layers of %s are not in this state, and it has no artifact of the format tar to take instead; build %s again here with --force", v.Ref(), b.Name)
	}
	if archive.From, err = p.copies(ctx, v, "sha256:"+archive.SHA256); err != nil {
		return nil, err
	}
	snap, err := importer.Ensure(ctx, archive)
	if err != nil {
		return nil, fmt.Errorf("the layers of %s are not in this state, and its archive cannot be had from a region; publish it where it was built ('zygos show %s' says where), or build %s again here with --force: %w",
			v.Ref(), v.Ref(), b.Name, err)
	}
	return snap, nil
}

// copies lists files in regions that hold an artifact of a version.
func (p *place) copies(ctx context.Context, v *catalog.Version, digest string) (files []string, err error) {
	placements, err := p.catalog.Placements(ctx, v.Image, v.Version, "")
	for _, pl := range placements {
		if pl.Artifact != digest {
			continue
		}
		files = append(files, pl.Location)
		if r := p.Org.Region(pl.Region); r != nil { // its folder may be elsewhere on this machine
			files = append(files, filepath.Join(p.Path(r.Path), v.Image, v.Version, filepath.Base(pl.Location)))
		}
	}
	return files, err
}

// source is the file of an artifact: in the store or, if it was built elsewhere, in a region.
func (p *place) source(ctx context.Context, v *catalog.Version, a catalog.Artifact) (string, error) {
	own := p.store.Path(a.Digest)
	if _, err := os.Stat(own); err == nil {
		return own, nil
	}
	files, err := p.copies(ctx, v, a.Digest)
	for _, f := range files {
		if _, err := os.Stat(f); err == nil {
			return f, nil
		}
	}
	return own, err
}
