package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// ext4output is where a file system goes, and what is open meanwhile.
type ext4output struct {
	Output
	ctx    context.Context
	source string // the content file that is open, "" for none
	fd     int
	buf    []byte
}

func writePadded(p []byte) writing {
	block := make([]byte, blockSize)
	copy(block, p)
	return func(out *ext4output) error {
		_, err := out.Write(block)
		return err
	}
}

// writeContent copies a part of a file's data: count blocks from the from-th.
func writeContent(n *node, s Extent, from, count uint32) writing {
	return func(out *ext4output) error {
		if n.Source == "" {
			return writeText(out, n.Text[s.Offset:][int64(from)*blockSize:], int64(count)*blockSize)
		}
		if err := out.open(n.Source); err != nil {
			return err
		}
		at := s.Offset + int64(from)*blockSize
		end := min(at+int64(count)*blockSize, s.Offset+s.Length)
		for at < end {
			if err := out.ctx.Err(); err != nil {
				return err
			}
			got, err := unix.Pread(out.fd, out.buf[:min(end-at, int64(len(out.buf)))], at)
			if err != nil && !errors.Is(err, unix.EINTR) {
				return &os.PathError{Op: "read", Path: n.Source, Err: err}
			}
			if err == nil && got == 0 {
				return fmt.Errorf("%s changed while it was read: %d bytes missing", n.Path, end-at)
			}
			if _, err := out.Write(out.buf[:max(got, 0)]); err != nil {
				return err
			}
			at += int64(max(got, 0))
		}
		_, err := out.Write(nothing[:-(end-s.Offset)&(blockSize-1)])
		return err
	}
}

// writeText writes the first bytes of a text, or all of it and zeros.
func writeText(out Output, text []byte, length int64) error {
	text = text[:min(int64(len(text)), length)]
	if _, err := out.Write(text); err != nil {
		return err
	}
	return out.Zero(length - int64(len(text)))
}

// open opens a content file, unless it is open. There are very many small ones: nothing is allocated for one.
func (out *ext4output) open(name string) error {
	if out.source == name {
		return nil
	}
	out.closeSource()
	if out.buf == nil {
		out.buf = make([]byte, 1<<18)
	}
	for {
		fd, err := unix.Open(name, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return &os.PathError{Op: "open", Path: name, Err: err}
		}
		out.source, out.fd = name, fd
		return nil
	}
}

func (out *ext4output) closeSource() {
	if out.source != "" {
		unix.Close(out.fd)
		out.source = ""
	}
}

// interruptible reads until a context ends.
type interruptible struct {
	ctx context.Context
	r   io.Reader
}

func (i *interruptible) Read(p []byte) (int, error) {
	if err := i.ctx.Err(); err != nil {
		return 0, err
	}
	return i.r.Read(p)
}

func (fs *ext4) Size() int64 { return int64(fs.blocks) * blockSize }

func (fs *ext4) Extents() (list []Extent) {
	for _, c := range fs.chunks {
		at, length := int64(c.start)*blockSize, int64(c.count)*blockSize
		switch last := len(list) - 1; {
		case c.write == nil:
		case last >= 0 && list[last].Offset+list[last].Length == at:
			list[last].Length += length
		default:
			list = append(list, Extent{at, length})
		}
	}
	return list
}

// Write puts out all chunks in order, zeros between them.
func (fs *ext4) Write(ctx context.Context, to Output) error {
	out := &ext4output{Output: to, ctx: ctx}
	defer out.closeSource()
	at := uint32(0)
	zero := func(to uint32) error {
		if to == at {
			return nil
		}
		err := out.Zero(int64(to-at) * blockSize)
		at = to
		return err
	}
	for _, c := range fs.chunks {
		if err := zero(c.start); err != nil {
			return err
		}
		if c.write == nil {
			continue
		}
		if err := c.write(out); err != nil {
			return err
		}
		at = c.start + c.count
	}
	return zero(fs.blocks)
}
