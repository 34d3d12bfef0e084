package store

import (
	"io"
	"runtime"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// Compressor writes a zstd stream (RFC 8878) as frames of equal content size, packed by all
// processors at once. The frames do not depend on how many there are, so the same content
// gives the same bytes everywhere. It takes the encoder's fastest level: on a root file system
// that is as fast as the zstd program at its default and one tenth larger.
type Compressor struct {
	out   io.Writer
	shop  *workshop
	next  *frame      // being filled
	tasks chan *frame // in order
	done  chan error
	pack  func(plain, into []byte) []byte
	head  []byte             // before all
	seen  func(plain []byte) // is shown what was packed, in order; nil for nobody
	tail  func() []byte      // what stands behind all; nil for nothing
}

// workshop is what all compressors of the process share, so that many at once take no more memory
// than one.
type workshop struct {
	enc  *zstd.Encoder
	free chan *frame // bounds how many are on their way, and keeps their buffers
}

var shop = sync.OnceValues(func() (*workshop, error) {
	workers := runtime.GOMAXPROCS(0)
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(workers),
		zstd.WithWindowSize(frameSize), zstd.WithEncoderCRC(true))
	if err != nil {
		return nil, err
	}
	frames := workers + 2 // some are filled while the others are packed
	w := &workshop{enc: enc, free: make(chan *frame, frames)}
	for range frames {
		w.free <- &frame{ready: make(chan struct{}, 1)}
	}
	return w, nil
})

type frame struct {
	plain  []byte
	packed []byte
	ready  chan struct{} // holds one token when packed is complete
}

const frameSize = 4 << 20 // bytes of content in a frame

// NewCompressor packs what it is given into out. Close it to write the rest.
func NewCompressor(out io.Writer) (*Compressor, error) {
	w, err := shop()
	if err != nil {
		return nil, err
	}
	return newCompressor(out, w, w.enc.EncodeAll).begin(), nil
}

func newCompressor(out io.Writer, w *workshop, pack func(plain, into []byte) []byte) *Compressor {
	return &Compressor{out: out, shop: w, tasks: make(chan *frame, cap(w.free)), done: make(chan error, 1), pack: pack}
}

func (c *Compressor) begin() *Compressor {
	go c.write()
	return c
}

func (c *Compressor) Write(p []byte) (int, error) {
	total := len(p)
	for len(p) > 0 {
		if c.next == nil {
			// Whoever waits here holds no frame, so those on their way come back.
			if c.next = <-c.shop.free; c.next.plain == nil {
				c.next.plain = make([]byte, 0, frameSize)
			}
		}
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
		f.packed = c.pack(f.plain, f.packed[:0])
		f.ready <- struct{}{}
	}()
	c.next = nil
}

func (c *Compressor) write() {
	_, err := c.out.Write(c.head)
	for f := range c.tasks {
		<-f.ready
		if c.seen != nil {
			c.seen(f.plain)
		}
		if err == nil {
			_, err = c.out.Write(f.packed)
		}
		f.plain = f.plain[:0]
		c.shop.free <- f
	}
	if err == nil && c.tail != nil {
		_, err = c.out.Write(c.tail())
	}
	c.done <- err
}

// Close packs the rest and waits for everything to be written.
func (c *Compressor) Close() error {
	if c.next != nil {
		c.send()
	}
	close(c.tasks)
	return <-c.done
}
