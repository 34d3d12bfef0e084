package build

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/plan"
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
	for _, a := range b.shape.Artifacts {
		began := time.Now()
		blob, err := b.captureOne(ctx, a, nodes)
		if err != nil {
			return nil, fmt.Errorf("capture %s: %w", a.Format, b.full(err, size(nodes)))
		}
		artifact := catalog.Artifact{Variant: b.shape.Variant, Format: a.Format, Digest: blob.Digest, Bytes: blob.Bytes}
		list = append(list, artifact)
		b.emit(Event{Kind: Captured, File: &artifact, Took: time.Since(began)})
	}
	return list, nil
}

// captured is a file that was captured before from the same tree in the same way.
type captured struct {
	Digest string `json:"digest"`
	Bytes  int64  `json:"bytes"`
}

// memory is where it is noted what an artifact of the tree came to.
func (b *branch) memory(a definition.Artifact) string {
	o := b.diskOptions(a)
	of := fmt.Sprintf("zygos capture 1\n%s\n%s\n", layer.TreeDigest(b.layers), a.Format)
	if a.Format != "tar" {
		of += fmt.Sprintf("%d\n%s\n%d\n", o.Size, o.Label, o.Epoch)
	}
	return b.State.Capture(plan.Digest([]byte(of)))
}

// captureOne takes what was captured before, or writes an artifact into the store.
func (b *branch) captureOne(ctx context.Context, a definition.Artifact, nodes []*layer.Node) (store.Blob, error) {
	memory := b.memory(a)
	var had captured
	if text, err := os.ReadFile(memory); err == nil && !b.plan.Anew() && json.Unmarshal(text, &had) == nil && b.store.Has(store.Blob(had)) {
		return store.Blob(had), nil
	}
	blob, err := b.write(ctx, a, nodes)
	if err != nil {
		return blob, err
	}
	if text, err := json.Marshal(captured(blob)); err == nil && os.MkdirAll(filepath.Dir(memory), 0o755) == nil {
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
	if a.Format == "tar" {
		err = b.writeTar(ctx, w, nodes)
	} else {
		err = b.writeRaw(ctx, w, a, nodes)
	}
	if err != nil {
		return store.Blob{}, err
	}
	return w.Commit()
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
	return func(n int64) { b.emit(Event{Kind: Progress, Text: doing, Done: done.Add(n), Total: total}) }
}

func (b *branch) writeTar(ctx context.Context, w *store.Writer, nodes []*layer.Node) error {
	packed, err := store.NewCompressor(w)
	if err != nil {
		return err
	}
	tell := b.progress("capture tar", nodes)
	tw := layer.NewTarWriter(packed)
	for _, n := range nodes {
		if err = tw.Add(ctx, n, b.content(n)); err != nil {
			break
		}
		tell(n.Size)
	}
	if err == nil {
		err = tw.Close()
	}
	return errors.Join(err, packed.Close())
}

// File types as in stat(2).
var fileTypes = map[layer.Kind]uint32{layer.Dir: unix.S_IFDIR, layer.File: unix.S_IFREG, layer.Symlink: unix.S_IFLNK,
	layer.Char: unix.S_IFCHR, layer.Block: unix.S_IFBLK, layer.Fifo: unix.S_IFIFO}

func (b *branch) writeRaw(ctx context.Context, w *store.Writer, a definition.Artifact, nodes []*layer.Node) error {
	files := make([]disk.File, len(nodes))
	for i, n := range nodes {
		files[i] = disk.File{Path: n.Path, Mode: fileTypes[n.Kind] | n.Mode, UID: n.UID, GID: n.GID, MTime: n.MTime, Size: n.Size,
			Link: n.Link, Same: n.Same, Major: n.Major, Minor: n.Minor, Xattrs: n.Xattrs, Source: b.content(n)}
		if n.Data != nil {
			files[i].Data = make([]disk.Segment, len(n.Data))
			for j, s := range n.Data {
				files[i].Data[j] = disk.Segment(s)
			}
		}
	}
	o := b.diskOptions(a)
	// The file system's id follows from the tree: the same tree has the same id, another tree another.
	id, err := hex.DecodeString(layer.TreeDigest(b.layers))
	if err != nil {
		return err
	}
	copy(o.UUID[:], id)
	o.UUID[6], o.UUID[8] = o.UUID[6]&0x0f|0x80, o.UUID[8]&0x3f|0x80 // RFC 9562, 5.8: version 8, made from a hash
	_, err = disk.WriteExt4(ctx, told{w, b.progress("capture raw", nodes)}, files, o)
	var small *disk.SizeError
	if errors.As(err, &small) {
		return fmt.Errorf("%w; give the artifact a larger size in images/%s.toml, or leave size out for the smallest", err, b.plan.Image)
	}
	return err
}

func (b *branch) diskOptions(a definition.Artifact) disk.Options {
	return disk.Options{Size: a.Size, Label: label(b.plan.Image), Epoch: b.shape.Epoch, Note: func(text string) { b.emit(Event{Kind: Note, Text: text}) }}
}

// label is a file system label: 16 bytes at most.
func label(image string) string { return image[:min(len(image), 16)] }

// told is a store writer that reports what it is given.
type told struct {
	*store.Writer
	tell func(int64)
}

func (t told) Write(p []byte) (int, error) {
	t.tell(int64(len(p)))
	return t.Writer.Write(p)
}
