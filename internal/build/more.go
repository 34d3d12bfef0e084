package build

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/store"
)

// CaptureMore makes one more artifact of a version from its layers, and adds it to the version and its record. A version
// of another state, or whose layers are gone, has none to make it from.
func (e *Engine) CaptureMore(ctx context.Context, v *catalog.Version, variant string, a definition.Artifact) (*catalog.Artifact, error) {
	made, err := record.Read(e.Dir, v.Build)
	if err != nil {
		return nil, fmt.Errorf("the record of %s is not in this state: %w", v.Ref(), err)
	}
	at := slices.IndexFunc(made.Plan.Shapes, func(s plan.Shape) bool { return s.Variant == variant })
	tree := v.Tree(variant)
	if at < 0 || tree == nil {
		return nil, fmt.Errorf("%s has no variant %q", v.Ref(), variant)
	}
	key := artifact.Key{Variant: variant, Name: a.Called(), Format: a.Format}
	if slices.ContainsFunc(v.Artifacts, func(had catalog.Artifact) bool { return had.Variant == variant && had.Name == key.Name }) {
		return nil, fmt.Errorf("%s has an artifact %q already; give this one another name with --name", v.Ref(), key.Name)
	}
	dir, hold, err := e.Hold(ctx, "capture-"+rand.Text(), tree.Layers)
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	if err := e.Layers.Ensure(ctx, tree.Layers, v.Ref(), "so its tree cannot be captured: build it again"); err != nil {
		return nil, err
	}
	made.Plan.Force, made.Plan.Adopted = false, "" // what comes later is captured from the tree
	r := &run{Engine: e, plan: made.Plan, dir: dir, store: &store.Store{Dir: e.Store.Dir, Temp: dir}}
	b := &branch{run: r, shape: &made.Plan.Shapes[at], layers: tree.Layers}
	for _, s := range made.Shapes[at].Stages {
		if s.Layer != layer.EmptyDigest {
			b.makers = append(b.makers, s.Name)
		}
	}
	if len(tree.Layers) > len(b.shape.Layers)+len(b.makers) {
		b.makers = append(b.makers, "seal")
	}
	merged, err := b.merged()
	if err != nil {
		return nil, err
	}
	began, nodes := time.Now(), merged.Nodes()
	blob, err := b.captureOne(ctx, a, nodes)
	if err != nil {
		return nil, fmt.Errorf("capture %s: %w", a.Called(), b.Full(err, size(nodes)))
	}
	file := catalog.Artifact{Variant: variant, Name: a.Called(), Format: a.Format, Digest: blob.Digest, Bytes: blob.Bytes}
	b.emit(record.Captured{File: file, Took: time.Since(began)})
	if err := b.boots(ctx, a, blob); err != nil {
		return nil, err
	}
	return &file, e.add(ctx, v, at, a, file)
}

// add writes an artifact into the store's list and the record, and last into the catalog.
func (e *Engine) add(ctx context.Context, v *catalog.Version, shape int, a definition.Artifact, file catalog.Artifact) error {
	return e.Alone(ctx, func() error {
		now, err := record.Read(e.Dir, v.Build) // another one may have added one meanwhile
		if err != nil {
			return err
		}
		now.Version.Artifacts = append(now.Version.Artifacts, file)
		s := &now.Plan.Shapes[shape]
		s.Artifacts = append(s.Artifacts, a)
		text, err := json.MarshalIndent(now, "", "  ")
		if err != nil {
			return err
		}
		if err := e.list(ctx, now.Version); err != nil {
			return err
		}
		if err := e.Ledger.AddArtifact(ctx, v.Image, v.Version, file); err != nil {
			return err
		}
		return store.WriteFile(e.Dir.Record(v.Build), append(text, '\n'))
	})
}
