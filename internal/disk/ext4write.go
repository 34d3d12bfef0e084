package disk

import (
	"context"
	"fmt"
	"io"
	"os"
)

func writePadded(p []byte) func(Output) error {
	block := make([]byte, blockSize)
	copy(block, p)
	return func(out Output) error {
		_, err := out.Write(block)
		return err
	}
}

// writeContent copies a part of a file's segment: count blocks from the from-th.
func (fs *ext4) writeContent(n *node, s Segment, from, count uint32) func(Output) error {
	return func(out Output) error {
		if fs.source == nil || fs.source.Name() != n.Source {
			fs.closeSource()
			f, err := os.Open(n.Source)
			if err != nil {
				return err
			}
			fs.source = f
		}
		at := int64(from) * blockSize
		length := min(int64(count)*blockSize, s.Length-at)
		if fs.buf == nil {
			fs.buf = make([]byte, 1<<18)
		}
		done, err := io.CopyBuffer(out, &interruptible{fs.ctx, io.NewSectionReader(fs.source, s.Offset+at, length)}, fs.buf)
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

func (fs *ext4) closeSource() {
	if fs.source != nil {
		fs.source.Close()
		fs.source = nil
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

// write puts out all chunks in order, zeros between them.
func (fs *ext4) write(out Output) error {
	defer fs.closeSource()
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
