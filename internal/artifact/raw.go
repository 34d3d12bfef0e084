package artifact

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"

	"golang.org/x/sys/unix"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/store"
)

// raw is a disk that holds one ext4 file system from its first byte on.
var raw = Format{Name: "raw", Extension: ".raw", MediaType: "application/vnd.zygos.disk.v1.raw", Keys: []string{"size", "boot"},
	Write: writeRaw}

// File types as in stat(2).
var fileTypes = map[layer.Kind]uint32{layer.Dir: unix.S_IFDIR, layer.File: unix.S_IFREG, layer.Symlink: unix.S_IFLNK,
	layer.Char: unix.S_IFCHR, layer.Block: unix.S_IFBLK, layer.Fifo: unix.S_IFIFO}

func writeRaw(ctx context.Context, to *store.Writer, t *Tree, o Options) error {
	files := make([]disk.File, len(t.Nodes))
	for i, n := range t.Nodes {
		files[i] = disk.File{Path: n.Path, Mode: fileTypes[n.Kind] | n.Mode, UID: n.UID, GID: n.GID, MTime: n.MTime, Size: n.Size,
			Link: n.Link, Same: n.Same, Major: n.Major, Minor: n.Minor, Xattrs: n.Xattrs, Source: t.Content(n)}
		if n.Data != nil {
			files[i].Data = make([]disk.Segment, len(n.Data))
			for j, s := range n.Data {
				files[i].Data[j] = disk.Segment(s)
			}
		}
	}
	options := disk.Options{Size: o.Size, Label: o.Label[:min(len(o.Label), longestLabel)], Epoch: o.Epoch, Note: t.Note}
	// The file system's id follows from the tree: the same tree has the same id, another tree another.
	id, err := hex.DecodeString(t.Digest)
	if err != nil {
		return err
	}
	copy(options.UUID[:], id)
	options.UUID[6], options.UUID[8] = options.UUID[6]&0x0f|0x80, options.UUID[8]&0x3f|0x80 // RFC 9562, 5.8: version 8, made from a hash
	_, err = disk.WriteExt4(ctx, counting{to, t.Tell}, files, options)
	var small *disk.SizeError
	if errors.As(err, &small) {
		return fmt.Errorf("%w; give the artifact a larger size in images/%s.toml, or leave size out for the smallest", err, o.Label)
	}
	return err
}

// longestLabel is the bytes of an ext4 label.
const longestLabel = 16

// counting is a store writer that reports what it is given.
type counting struct {
	*store.Writer
	tell func(int64)
}

func (c counting) Write(p []byte) (int, error) {
	c.tell(int64(len(p)))
	return c.Writer.Write(p)
}
