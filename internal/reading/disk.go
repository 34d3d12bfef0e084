// Package reading opens disks that others made: containers, partition tables and file systems, all in this process and without
// believing any of it. What is wrong is an error in words; nothing loops, and no memory is taken for what a disk merely claims.
package reading

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

var le, be = binary.LittleEndian, binary.BigEndian

// Disk is a disk to read, byte by byte. Where nothing is stored there are zeros.
type Disk interface {
	io.ReaderAt
	Size() int64 // bytes
}

// vmdkMark begins a sparse extent (Virtual Disk Format 5.0, Hosted Sparse Extents).
const vmdkMark = "KDMV"

// raw is a disk as it is.
type raw struct {
	io.ReaderAt
	size int64
}

func (r raw) Size() int64 { return r.size }

// Part is a part of a disk.
func Part(d Disk, at, length int64) Disk {
	at = min(max(at, 0), d.Size())
	length = min(max(length, 0), d.Size()-at)
	return raw{io.NewSectionReader(d, at, length), length}
}

// mostDisk is the largest disk that is read, in bytes: beyond it, a file system's numbers overflow here.
const mostDisk = 1 << 50

// Open finds out what a file is and opens it; form names the container, "raw" for none.
func Open(file io.ReaderAt, size int64) (d Disk, form string, err error) {
	head := make([]byte, 512)
	n, err := file.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, "", err
	}
	head = head[:n]
	switch {
	case bytes.HasPrefix(head, []byte("QFI\xfb")):
		form = "qcow2"
		d, err = openQcow2(file, size)
	case bytes.HasPrefix(head, []byte(vmdkMark)):
		form = "vmdk"
		d, err = openVmdk(file, size)
	case bytes.HasPrefix(head, []byte("# Disk DescriptorFile")):
		return nil, "", errors.New("it only describes a disk whose bytes are in other files; convert it to one file: qemu-img convert -O qcow2")
	case bytes.HasPrefix(head, []byte("vhdxfile")):
		form = "vhdx"
		d, err = openVhdx(file, size)
	case len(head) == 512 && bytes.Equal(head[257:262], []byte("ustar")):
		return openOva(file, size)
	default:
		form = "raw"
		d = raw{file, size}
		foot := make([]byte, 512)
		if _, e := file.ReadAt(foot, size-512); size >= 512 && e == nil && bytes.HasPrefix(foot, []byte("conectix")) {
			form = "vhd"
			d, err = openVhd(file, size, foot)
		}
	}
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", form, err)
	}
	if d.Size() > mostDisk {
		return nil, "", fmt.Errorf("%s: it claims %d TiB, and %d is the most", form, d.Size()>>40, int64(mostDisk>>40))
	}
	return d, form, nil
}

// blocks reads a disk that is stored in blocks of one size.
type blocks struct {
	size  int64 // of the disk
	block int64
	// find reads part of a block from an offset in it, into p, which does not reach beyond it.
	find func(number, from int64, p []byte) error
}

func (b *blocks) Size() int64 { return b.size }

// ReadAt is io.ReaderAt.
func (b *blocks) ReadAt(p []byte, at int64) (n int, err error) {
	if at < 0 {
		return 0, errors.New("a place before the disk")
	}
	if at >= b.size {
		return 0, io.EOF
	}
	short := int64(len(p)) > b.size-at
	if short {
		p = p[:b.size-at]
	}
	for n < len(p) {
		number, from := (at+int64(n))/b.block, (at+int64(n))%b.block
		part := p[n:min(len(p), n+int(b.block-from))]
		if err := b.find(number, from, part); err != nil {
			return n, err
		}
		n += len(part)
	}
	if short {
		return n, io.EOF
	}
	return n, nil
}

// readFull reads all of p, or says that the file is cut short.
func readFull(r io.ReaderAt, p []byte, at int64, what string) error {
	if at < 0 {
		return fmt.Errorf("%s would lie before the file's start", what)
	}
	n, err := r.ReadAt(p, at)
	if n == len(p) {
		return nil
	}
	if err == nil || err == io.EOF {
		return fmt.Errorf("%s lies beyond the file's end: it is cut short", what)
	}
	return err
}

// inside is whether a range lies in a file of a size.
func inside(at, length, size int64) bool {
	return at >= 0 && length >= 0 && at <= size && length <= size-at
}

// kept remembers the last few things that were read, by number.
type kept[T any] struct {
	most  int
	order []int64
	by    map[int64]T
}

func (k *kept[T]) get(number int64, read func() (T, error)) (T, error) {
	if v, ok := k.by[number]; ok {
		return v, nil
	}
	v, err := read()
	if err != nil {
		return v, err
	}
	if k.by == nil {
		k.by = map[int64]T{}
	}
	if len(k.order) >= k.most {
		delete(k.by, k.order[0])
		k.order = k.order[1:]
	}
	k.by[number] = v
	k.order = append(k.order, number)
	return v, nil
}
