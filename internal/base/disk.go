package base

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/reading"
)

// disk is a disk that a machine starts from: the file systems of its root, its /boot and its EFI system partition are the tree.
var disk = Kind{Name: "disk",
	Takes: func(from string) bool {
		for _, packed := range []string{".gz", ".xz", ".zst"} {
			from = strings.TrimSuffix(from, packed)
		}
		return artifact.NamesDisk(from)
	},
	Read: func(v definition.Values) (settings any, key string) {
		n := v.Count("partition")
		if n == 0 {
			return 0, ""
		}
		return int(n), fmt.Sprintf("partition %d", n)
	},
	Unpack: func(ctx context.Context, in io.Reader, file *os.File, settings any, to layer.Folder, limits layer.Limits) (layer.Index, error) {
		if IsPacked(file) {
			plain, err := unpackTo(ctx, in, filepath.Join(filepath.Dir(to.Dir), "disk"), limits.Bytes)
			if err != nil {
				return nil, err
			}
			defer func() { _ = errors.Join(plain.Close(), os.Remove(plain.Name())) }() // what stays goes with the folder
			return takeDisk(ctx, plain, settings, to, limits)
		}
		return beside(in, func() (layer.Index, error) { return takeDisk(ctx, file, settings, to, limits) })
	}}

// beside reads a file from front to back, so that it is verified, while somebody else reads it in an order of his own.
func beside(in io.Reader, read func() (layer.Index, error)) (layer.Index, error) {
	verified := make(chan error, 1)
	go func() {
		_, err := bounded.Copy(context.Background(), io.Discard, in, "it", math.MaxInt64) // in ends with the context
		verified <- err
	}()
	x, err := read()
	if e := <-verified; err == nil {
		err = e
	}
	return x, err
}

// takeDisk makes a tree of a disk, and keeps beside it how the disk was laid out.
func takeDisk(ctx context.Context, file *os.File, settings any, to layer.Folder, limits layer.Limits) (layer.Index, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	d, _, err := artifact.OpenDisk(file, info.Size())
	if err != nil {
		return nil, err
	}
	partition, _ := settings.(int)
	root, err := reading.Root(ctx, d, partition)
	if err != nil {
		return nil, err
	}
	x, err := layer.Take(ctx, root.Walk, to, limits)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(root)
	if err != nil {
		return nil, err
	}
	return x, os.WriteFile(filepath.Join(filepath.Dir(to.Dir), layer.DiskFile), text, 0o644)
}

// IsPacked says whether a file is compressed, by its first bytes.
func IsPacked(file io.ReaderAt) bool {
	head := make([]byte, 6)
	n, _ := file.ReadAt(head, 0) // what cannot be read fails later
	head = head[:n]
	return bytes.HasPrefix(head, gzipMark) || bytes.HasPrefix(head, zstdMark) || bytes.HasPrefix(head, xzMark)
}

// unpackTo unpacks a stream into a file with holes where there are zeros.
func unpackTo(ctx context.Context, in io.Reader, name string, most int64) (*os.File, error) {
	plain, done, err := decompress(in)
	if err != nil {
		return nil, err
	}
	defer done()
	out, err := os.Create(name)
	if err != nil {
		return nil, err
	}
	stored, at := int64(0), int64(0)
	buf, zeros := make([]byte, 256<<10), make([]byte, 256<<10)
	for {
		n, err := io.ReadFull(plain, buf)
		if e := ctx.Err(); e != nil {
			err = e
		}
		if n > 0 && !bytes.Equal(buf[:n], zeros[:n]) {
			if stored += int64(n); stored > most {
				err = fmt.Errorf("it unpacks to more than the %d MiB that are free", most>>20)
			} else if _, e := out.WriteAt(buf[:n], at); e != nil {
				err = e
			}
		}
		at += int64(n)
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return out, out.Truncate(at)
		}
		if err != nil {
			out.Close()
			return nil, fmt.Errorf("unpack it: %w", err)
		}
	}
}
