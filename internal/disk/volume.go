// Package disk writes what disks hold in this process: no mount, no helper program, one pass from front
// to back. Everything on a disk is a Volume; a partition table is one made of others, and a container
// writes one into a file. The package knows plain descriptions of files and nothing of layers or images.
package disk

import (
	"context"
	"io"
)

// Volume is what a disk, or a part of one, holds: known in size and extents before a byte of it is written.
type Volume interface {
	Size() int64 // bytes
	// Extents are where it may hold other bytes than zeros, in order and apart from each other.
	Extents() []Extent
	// Write gives its bytes from the first to the last; the same ones each time.
	Write(ctx context.Context, out Output) error
}

// Extent is a run of bytes.
type Extent struct{ Offset, Length int64 }

// Output takes bytes from front to back. Zero stands for n zero bytes, which it may keep as a hole.
type Output interface {
	io.Writer
	Zero(n int64) error
}

// Target is what a container is written to: from front to back too, but for what is known only later.
type Target interface {
	Output
	// Reserve leaves n bytes that WriteAt will write; what it does not write stays zeros.
	Reserve(n int64) error
	// WriteAt writes where the file was reserved or written already.
	io.WriterAt
}

// Container writes a volume into a file, in the form that its readers know.
type Container func(ctx context.Context, to Target, v Volume) error

// Raw is the container that adds nothing.
func Raw(ctx context.Context, to Target, v Volume) error { return v.Write(ctx, to) }

// Told is a volume that reports how many of its bytes were written, zeros apart.
func Told(v Volume, tell func(n int64)) Volume { return told{v, tell} }

type told struct {
	Volume
	tell func(int64)
}

func (t told) Write(ctx context.Context, out Output) error {
	return t.Volume.Write(ctx, telling{out, t.tell})
}

type telling struct {
	Output
	tell func(int64)
}

func (t telling) Write(p []byte) (int, error) {
	t.tell(int64(len(p)))
	return t.Output.Write(p)
}
