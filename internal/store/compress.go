package store

import (
	"io"
	"runtime"

	"github.com/klauspost/compress/zstd"
)

// Compressor writes a zstd stream (RFC 8878) as frames of equal content size, packed by all
// processors at once. The frames do not depend on how many there are, so the same content
// gives the same bytes everywhere. It takes the encoder's fastest level: on a root file system
// that is as fast as the zstd program at its default and one tenth larger.
type Compressor struct {
	out   io.Writer
	enc   *zstd.Encoder
	next  *frame      // being filled
	tasks chan *frame // in order
	done  chan error
	free  chan *frame // bounds how many are on their way, and keeps their buffers
}

type frame struct {
	plain  []byte
	packed []byte
	ready  chan struct{} // holds one token when packed is complete
}

const frameSize = 4 << 20 // bytes of content in a frame

// NewCompressor packs what it is given into w. Close it to write the rest.
func NewCompressor(w io.Writer) (*Compressor, error) {
	workers := runtime.GOMAXPROCS(0)
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(workers),
		zstd.WithWindowSize(frameSize), zstd.WithEncoderCRC(true))
	if err != nil {
		return nil, err
	}
	frames := workers + 1 // one is filled while the others are packed
	c := &Compressor{out: w, enc: enc, tasks: make(chan *frame, frames), done: make(chan error, 1), free: make(chan *frame, frames)}
	for range frames {
		c.free <- &frame{plain: make([]byte, 0, frameSize), ready: make(chan struct{}, 1)}
	}
	c.next = <-c.free
	go c.write()
	return c, nil
}

func (c *Compressor) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		f := c.next
		n := copy(f.plain[len(f.plain):frameSize], p)
		f.plain = f.plain[:len(f.plain)+n]
		p = p[n:]
		if len(f.plain) == frameSize {
			c.send()
		}
	}
	return total, nil
}

func (c *Compressor) send() {
	f := c.next
	c.tasks <- f
	go func() {
		f.packed = c.enc.EncodeAll(f.plain, f.packed[:0])
		f.ready <- struct{}{}
	}()
	c.next = <-c.free
}

func (c *Compressor) write() {
	var err error
	for f := range c.tasks {
		<-f.ready
		if err == nil {
			_, err = c.out.Write(f.packed)
		}
		f.plain = f.plain[:0]
		c.free <- f
	}
	c.done <- err
}

// Close packs the rest and waits for everything to be written.
func (c *Compressor) Close() error {
	if len(c.next.plain) > 0 {
		c.send()
	}
	close(c.tasks)
	return <-c.done
}
