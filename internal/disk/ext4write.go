package disk

import (
	"context"
	"fmt"
	"io"
	"os"
)

// ext4output is where a file system goes, and what is open meanwhile.
type ext4output struct {
	Output
	ctx    context.Context
	source *os.File // the content file last read
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
		if out.source == nil || out.source.Name() != n.Source {
			out.closeSource()
			f, err := os.Open(n.Source)
			if err != nil {
				return err
			}
			out.source = f
		}
		at := int64(from) * blockSize
		length := min(int64(count)*blockSize, s.Length-at)
		if out.buf == nil {
			out.buf = make([]byte, 1<<18)
		}
		in := &interruptible{out.ctx, io.NewSectionReader(out.source, s.Offset+at, length)}
		done, err := io.CopyBuffer(out, in, out.buf)
		if err != nil {
			return err
		}
		if done != length {
			return fmt.Errorf("%s changed while it was read: %d bytes missing", n.Path, length-done)
		}
		if rest := done % blockSize; rest != 0 {
			_, err = out.Write(make([]byte, blockSize-rest))
		}
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

func (out *ext4output) closeSource() {
	if out.source != nil {
		out.source.Close()
		out.source = nil
	}
}

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
