package build

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/state"
	"zygos/internal/store"
)

// capture writes the artifacts into the store.
func (b *branch) capture(ctx context.Context) ([]catalog.Artifact, error) {
	tree, err := b.merged()
	if err != nil {
		return nil, err
	}
	nodes := tree.Nodes()
	var list []catalog.Artifact
	for _, a := range b.shape.Artifacts { // before the first is written
		if b.plan.Adopted != "" {
			break
		}
		if f := artifact.Find(a.Format); f != nil {
			t := artifact.Tree{Digest: layer.TreeDigest(b.layers), Nodes: nodes, Merged: tree, Content: b.content}
			if err := t.Ready(f, b.options(a)); err != nil {
				return nil, fmt.Errorf("capture %s: %w", a.Called(), err)
			}
		}
	}
	for _, a := range b.shape.Artifacts {
		began := time.Now()
		blob, err := b.captureOne(ctx, a, nodes)
		if err != nil {
			return nil, fmt.Errorf("capture %s: %w", a.Called(), b.Full(err, size(nodes)))
		}
		file := catalog.Artifact{Variant: b.shape.Variant, Name: a.Called(), Format: a.Format, Digest: blob.Digest, Bytes: blob.Bytes}
		list = append(list, file)
		b.emit(record.Captured{File: file, Took: time.Since(began)})
		if err := b.boots(ctx, a, blob); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// memory is where it is noted what an artifact of the tree came to.
func (b *branch) memory(a definition.Artifact) string {
	o := b.options(a)
	of := fmt.Sprintf("zygos capture 2\n%s\n%s\n", layer.TreeDigest(b.layers), a.Format)
	if format := artifact.Find(a.Format); format == nil || !format.Plain {
		of += fmt.Sprintf("%d\n%s\n%d\n", o.Size, o.Label, o.Epoch)
		for _, name := range slices.Sorted(maps.Keys(o.Says)) {
			of += fmt.Sprintf("%s=%q\n", name, o.Says[name])
		}
		for _, name := range slices.Sorted(maps.Keys(o.Labels)) {
			of += fmt.Sprintf("label %s=%q\n", name, o.Labels[name])
		}
		of += fmt.Sprintf("%q\n", o.Makers)
	}
	return b.Dir.Capture(plan.Digest([]byte(of)))
}

// captureOne takes what was captured before, or writes an artifact into the store.
func (b *branch) captureOne(ctx context.Context, a definition.Artifact, nodes []*layer.Node) (store.Blob, error) {
	if b.adopts(a) {
		return b.adopt(ctx)
	}
	memory := b.memory(a)
	if had, known := state.Captured(memory); known && !b.plan.Force && b.store.Use(had) {
		return had, nil
	}
	blob, err := b.write(ctx, a, nodes)
	if err != nil {
		return blob, err
	}
	if text, err := json.Marshal(blob); err == nil && os.MkdirAll(filepath.Dir(memory), 0o755) == nil {
		_ = store.WriteFile(memory, text) // without it, the next build captures again
	}
	return blob, nil
}

func (b *branch) write(ctx context.Context, a definition.Artifact, nodes []*layer.Node) (store.Blob, error) {
	w, err := b.store.Create(ctx)
	if err != nil {
		return store.Blob{}, err
	}
	defer w.Discard()
	format := artifact.Find(a.Format)
	if format == nil {
		return store.Blob{}, &artifact.UnknownError{Format: a.Format}
	}
	layout, err := b.Layers.Disk(b.layers[0])
	if err != nil {
		return store.Blob{}, err
	}
	t := artifact.Tree{Digest: layer.TreeDigest(b.layers), Nodes: nodes, Merged: b.tree, Content: b.content, Layout: layout,
		Tell: b.progress("capture "+a.Called(), nodes),
		Note: func(text string) { b.emit(record.Note{Text: text}) }}
	name, packing := "", ""
	if format.Packs {
		name = b.Dir.Pieces(b.plan.Image, b.shape.Variant, a.Called())
		packing = fmt.Sprintf("%s %q %s", a.Format, a.Says["compression"], disk.Packer())
		var done func()
		t.Past, done = b.past(name, packing)
		defer done()
	}
	if err := format.Write(ctx, w, &t, b.options(a)); err != nil {
		return store.Blob{}, err
	}
	blob, err := w.Commit()
	if err == nil && t.Past != nil {
		keepPieces(name, packing, blob, t.Past)
	}
	return blob, err
}

// adopts reports whether an artifact is the file that the version is made of, and not captured from its tree.
func (b *branch) adopts(a definition.Artifact) bool { return b.plan.Adopted != "" && a.Format != "tar" }

// adopt keeps the file that the version is made of.
func (b *branch) adopt(ctx context.Context) (store.Blob, error) {
	w, err := b.store.Create(ctx)
	if err != nil {
		return store.Blob{}, err
	}
	defer w.Discard()
	file, err := os.Open(b.plan.Adopted)
	if err != nil {
		return store.Blob{}, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return store.Blob{}, err
	}
	done := int64(0)
	if _, err := io.Copy(w, io.TeeReader(file, written(func(n int) {
		done += int64(n)
		b.emit(record.Progress{Doing: "keep " + filepath.Base(file.Name()), Done: done, Total: info.Size()})
	}))); err != nil {
		return store.Blob{}, err
	}
	blob, err := w.Commit()
	if err == nil && blob.Digest.String() != b.plan.Base.Digest {
		err = fmt.Errorf("%s changed while it was read; run the command again", b.plan.Adopted)
	}
	return blob, err
}

// written is told how many bytes were written.
type written func(n int)

func (w written) Write(p []byte) (int, error) {
	w(len(p))
	return len(p), nil
}

// size is how many bytes of content a tree holds.
func size(nodes []*layer.Node) (bytes int64) {
	for _, n := range nodes {
		if n.Same == "" {
			bytes += n.Size
		}
	}
	return bytes
}

// progress reports bytes of content.
func (b *branch) progress(doing string, nodes []*layer.Node) func(n int64) {
	total := size(nodes)
	var done atomic.Int64
	return func(n int64) { b.emit(record.Progress{Doing: doing, Done: min(done.Add(n), total), Total: total}) }
}

// options is what the format may need to know.
func (b *branch) options(a definition.Artifact) artifact.Options {
	return artifact.Options{Size: a.Size, Says: a.Says, Label: b.plan.Image, Labels: b.plan.Labels,
		Makers: b.allMakers(), Epoch: b.shape.Epoch}
}

// allMakers names what made each layer of the tree: a stage, the seal, or the base.
func (b *branch) allMakers() []string {
	list := make([]string, len(b.layers)-len(b.makers), len(b.layers))
	for i := range list {
		list[i] = b.plan.Base.Name + "@" + b.plan.Base.Version
	}
	return append(list, b.makers...)
}
