// Package reading opens disks that others made: containers, partition tables and file systems, all in this process and without
// believing any of it. What is wrong is an error in words; nothing loops, and no memory is taken for what a disk merely claims.
package reading

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
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

// Form is a container.
type Form struct {
	Name string
	Is   func(head, foot []byte) bool // the first and the last 512 bytes of a file, fewer of a smaller one
	Open func(file io.ReaderAt, size int64) (Disk, error)
}

// Forms are the containers that are read.
var (
	Qcow2 = Form{Name: "qcow2", Is: begins("QFI\xfb"), Open: openQcow2}
	Vmdk  = Form{Name: "vmdk", Is: begins(vmdkMark), Open: openVmdk}
	Vhdx  = Form{Name: "vhdx", Is: begins("vhdxfile"), Open: openVhdx}
	Vhd   = Form{Name: "vhd", Is: func(_, foot []byte) bool { return bytes.HasPrefix(foot, []byte("conectix")) }, Open: openVhd}
	Ova   = Form{Name: "ova", Is: func(head, _ []byte) bool { return len(head) == 512 && string(head[257:262]) == "ustar" }, Open: openOva}
	Raw   = Form{Name: "raw", Is: func(_, _ []byte) bool { return true },
		Open: func(file io.ReaderAt, size int64) (Disk, error) { return raw{file, size}, nil }}
)

func begins(mark string) func(head, _ []byte) bool {
	return func(head, _ []byte) bool { return bytes.HasPrefix(head, []byte(mark)) }
}

// Open opens a file as the first of some forms that it is, or as it is. The error names the form.
func Open(file io.ReaderAt, size int64, forms ...*Form) (d Disk, form string, err error) {
	head, foot := make([]byte, 512), make([]byte, 512)
	n, err := file.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, "", err
	}
	head = head[:n]
	if bytes.HasPrefix(head, []byte("# Disk DescriptorFile")) {
		return nil, "", errors.New("it only describes a disk whose bytes are in other files; convert it to one file: qemu-img convert -O qcow2")
	}
	if size < 512 {
		foot = nil
	} else if _, err := file.ReadAt(foot, size-512); err != nil {
		foot = nil // what cannot be read is told by whoever needs it
	}
	at := &Raw
	if i := slices.IndexFunc(forms, func(f *Form) bool { return f.Is(head, foot) }); i >= 0 {
		at = forms[i]
	}
	if d, err = at.Open(file, size); err != nil {
		return nil, "", fmt.Errorf("%s: %w", at.Name, err)
	}
	if d.Size() > mostDisk {
		return nil, "", fmt.Errorf("%s: it claims %d TiB, and %d is the most", at.Name, d.Size()>>40, int64(mostDisk>>40))
	}
	return d, at.Name, nil
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
