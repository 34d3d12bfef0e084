package store

import (
	"io"
	"runtime"

	"github.com/klauspost/compress/zstd"
)

// Compressor writes a zstd stream (RFC 8878) as frames of equal content size, packed by all
// processors at once. The frames do not depend on how many there are, so the same content
// gives the same bytes everywhere.
type Compressor struct {
	out   io.Writer
	enc   *zstd.Encoder
	block []byte
	tasks chan *frame // in order
	done  chan error
	slots chan struct{}
}

type frame struct {
	plain  []byte
	packed []byte
	ready  chan struct{}
}

const frameSize = 4 << 20 // bytes of content in a frame

// NewCompressor packs what it is given into w. Close it to write the rest.
func NewCompressor(w io.Writer) (*Compressor, error) {
	workers := runtime.GOMAXPROCS(0)
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(workers),
		zstd.WithWindowSize(frameSize), zstd.WithEncoderCRC(true))
	if err != nil {
		return nil, err
	}
	c := &Compressor{out: w, enc: enc, block: make([]byte, 0, frameSize), tasks: make(chan *frame, workers), done: make(chan error, 1),
		slots: make(chan struct{}, workers)}
	go c.write()
	return c, nil
}

func (c *Compressor) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		n := copy(c.block[len(c.block):cap(c.block)], p)
		c.block = c.block[:len(c.block)+n]
		p = p[n:]
		if len(c.block) == cap(c.block) {
			c.send()
		}
	}
	return total, nil
}

func (c *Compressor) send() {
	f := &frame{plain: c.block, ready: make(chan struct{})}
	c.slots <- struct{}{}
	c.tasks <- f
	go func() {
		f.packed = c.enc.EncodeAll(f.plain, make([]byte, 0, len(f.plain)/2))
		f.plain = nil
		<-c.slots
		close(f.ready)
	}()
	c.block = make([]byte, 0, frameSize)
}

func (c *Compressor) write() {
	var err error
	for f := range c.tasks {
		<-f.ready
		if err == nil {
			_, err = c.out.Write(f.packed)
		}
	}
	c.done <- err
}

// Close packs the rest and waits for everything to be written.
func (c *Compressor) Close() error {
	if len(c.block) > 0 {
		c.send()
	}
	close(c.tasks)
	return <-c.done
}
