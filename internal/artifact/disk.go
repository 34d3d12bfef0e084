package artifact

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"

	"golang.org/x/sys/unix"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/store"
)

// onDisks are the options of all disks, and more of one format.
func onDisks(more ...*Option) []*Option { return append([]*Option{&size, &boot}, more...) }

// contained writes a tree's disk in a container.
func contained(container func(*Tree, Options) disk.Container) func(context.Context, *store.Writer, *Tree, Options) error {
	return func(ctx context.Context, to *store.Writer, t *Tree, o Options) error {
		volume, err := root(ctx, t, o)
		if err != nil {
			return err
		}
		return container(t, o)(ctx, to, disk.Told(volume, t.Tell))
	}
}

// uuid is an id made from a hash (RFC 9562, 5.8: version 8).
func uuid(hash []byte) (id [16]byte) {
	copy(id[:], hash)
	id[6], id[8] = id[6]&0x0f|0x80, id[8]&0x3f|0x80
	return id
}

// idOf is the id of a part of the tree's disks: another tree has another.
func (t *Tree) idOf(part string) [16]byte {
	sum := sha256.Sum256([]byte(t.Digest + "\n" + part))
	return uuid(sum[:])
}

// File types as in stat(2).
var fileTypes = map[layer.Kind]uint32{layer.Dir: unix.S_IFDIR, layer.File: unix.S_IFREG, layer.Symlink: unix.S_IFLNK,
	layer.Char: unix.S_IFCHR, layer.Block: unix.S_IFBLK, layer.Fifo: unix.S_IFIFO}

// root lays out the file system of a tree.
func root(ctx context.Context, t *Tree, o Options) (disk.Volume, error) {
	files := make([]disk.File, len(t.Nodes))
	for i, n := range t.Nodes {
		files[i] = disk.File{Path: n.Path, Mode: fileTypes[n.Kind] | n.Mode, UID: n.UID, GID: n.GID, MTime: n.MTime, Size: n.Size,
			Link: n.Link, Same: n.Same, Major: n.Major, Minor: n.Minor, Xattrs: n.Xattrs, Source: t.Content(n)}
		if n.Data != nil {
			files[i].Data = make([]disk.Extent, len(n.Data))
			for j, s := range n.Data {
				files[i].Data[j] = disk.Extent(s)
			}
		}
	}
	options := disk.Options{Size: o.Size, Label: o.Label[:min(len(o.Label), longestLabel)], Epoch: o.Epoch, Note: t.Note}
	// The file system's id follows from the tree: the same tree has the same id, another tree another.
	id, err := hex.DecodeString(t.Digest)
	if err != nil {
		return nil, err
	}
	options.UUID = uuid(id)
	volume, err := disk.Ext4(ctx, files, options)
	var small *disk.SizeError
	if errors.As(err, &small) {
		return nil, fmt.Errorf("%w; give the artifact a larger size in images/%s.toml, or leave size out for the smallest", err, o.Label)
	}
	return volume, err
}

// longestLabel is the bytes of an ext4 label.
const longestLabel = 16
