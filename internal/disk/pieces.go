package disk

import (
	"bytes"
	"context"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"
)

// pack makes something smaller of a piece of a disk, appended to into; nil leaves it as it is.
type pack func(plain, into []byte) ([]byte, error)

// packed packs with a writer that can begin anew.
func packed(w interface {
	io.WriteCloser
	Reset(to io.Writer)
}) pack {
	return func(plain, into []byte) ([]byte, error) {
		to := bytes.NewBuffer(into)
		w.Reset(to)
		_, err := w.Write(plain)
		if err == nil {
			err = w.Close()
		}
		return to.Bytes(), err
	}
}

// piece is a part of a disk on its way through pieces.
type piece struct {
	number int64 // from the front of the disk
	plain  []byte
	packed []byte
	buf    []byte // that packed lies in
	sum    check  // of plain, where the past is known
	at     int64  // where take put what was packed; 0 if it was left as it is
}

// batch is some pieces that one processor packs in one go.
type batch struct {
	pieces []piece
	ready  chan error // of the packing; one value
}

const batchSize = 1 << 20 // bytes of content

// pieces cuts a volume into pieces of so many bytes, the last filled with zeros. Those that are not all zeros are
// packed, by all processors at once, and taken in order; what take keeps of one it copies.
// newPack is called once for each processor. Pieces that the past knows are not packed again.
func pieces(ctx context.Context, v Volume, size int, newPack func() (pack, error), past *Past, take func(p *piece) error) error {
	workers := runtime.GOMAXPROCS(0)
	most := max(1, batchSize/size)
	free := make(chan *batch, workers+2) // bounds the memory
	for range cap(free) {
		free <- &batch{ready: make(chan error, 1)}
	}
	work := make(chan *batch, cap(free))
	order := make(chan *batch, cap(free))
	group, ctx := errgroup.WithContext(ctx)
	for range workers {
		do, err := newPack()
		if err != nil {
			close(work)
			return err
		}
		group.Go(func() error {
			for b := range work {
				b.ready <- b.pack(do, past)
			}
			return nil
		})
	}
	group.Go(func() error {
		for b := range order {
			if err := <-b.ready; err != nil {
				return err
			}
			for i := range b.pieces {
				b.pieces[i].at = 0
				if err := take(&b.pieces[i]); err != nil {
					return err
				}
				past.note(&b.pieces[i])
			}
			b.pieces = b.pieces[:0]
			free <- b
		}
		return nil
	})
	group.Go(func() error {
		defer close(work)
		defer close(order)
		c := &cutter{size: size, most: most}
		c.next = func() (*batch, error) {
			if c.batch != nil && len(c.batch.pieces) > 0 {
				order <- c.batch
				work <- c.batch
			}
			select {
			case c.batch = <-free:
				return c.batch, nil
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		if _, err := c.next(); err != nil {
			return err
		}
		if err := v.Write(ctx, c); err != nil {
			return err
		}
		if err := c.end(); err != nil {
			return err
		}
		if len(c.batch.pieces) > 0 {
			order <- c.batch
			work <- c.batch
		}
		return nil
	})
	return group.Wait()
}

func (b *batch) pack(do pack, past *Past) error {
	for i := range b.pieces {
		p := &b.pieces[i]
		if do == nil {
			p.packed = nil
			continue
		}
		if past != nil {
			p.sum = checkOf(p.plain)
			if cap(p.buf) == 0 {
				p.buf = make([]byte, len(p.plain))
			}
			if packed, ok := past.find(p.sum, p.buf); ok {
				p.packed = packed
				continue
			}
		}
		var err error
		if p.packed, err = do(p.plain, p.buf[:0]); err != nil {
			return err
		}
		p.buf = p.packed
	}
	return nil
}

// cutter is an output that fills batches with pieces.
type cutter struct {
	size, most int
	batch      *batch
	next       func() (*batch, error) // hands over the batch and brings an empty one
	at         int64                  // bytes so far
	open       bool                   // the last piece of the batch is not full yet
}

// piece is the piece that bytes at the current place go into.
func (c *cutter) piece() (*piece, error) {
	b := c.batch
	if !c.open {
		if len(b.pieces) == c.most {
			var err error
			if b, err = c.next(); err != nil {
				return nil, err
			}
		}
		if len(b.pieces) < cap(b.pieces) {
			b.pieces = b.pieces[:len(b.pieces)+1] // with its buffers
		} else {
			b.pieces = append(b.pieces, piece{plain: make([]byte, 0, c.size)})
		}
		p := &b.pieces[len(b.pieces)-1]
		p.number, p.plain = c.at/int64(c.size), p.plain[:0]
		p.plain = appendZeros(p.plain, int(c.at%int64(c.size)))
		c.open = true
	}
	return &b.pieces[len(b.pieces)-1], nil
}

// full ends a piece, and drops it if it is all zeros.
func (c *cutter) full() {
	c.open = false
	b := c.batch
	if p := &b.pieces[len(b.pieces)-1]; isZero(p.plain) {
		b.pieces = b.pieces[:len(b.pieces)-1]
	}
}

func (c *cutter) Write(text []byte) (int, error) {
	done := 0
	for len(text) > 0 {
		p, err := c.piece()
		if err != nil {
			return done, err
		}
		n := min(len(text), c.size-len(p.plain))
		p.plain = append(p.plain, text[:n]...)
		text, done = text[n:], done+n
		if c.at += int64(n); len(p.plain) == c.size {
			c.full()
		}
	}
	return done, nil
}

func (c *cutter) Zero(n int64) error {
	if c.open {
		p := &c.batch.pieces[len(c.batch.pieces)-1]
		part := min(n, int64(c.size-len(p.plain)))
		p.plain = appendZeros(p.plain, int(part))
		n -= part
		if c.at += part; len(p.plain) == c.size {
			c.full()
		}
	}
	c.at += n
	return nil
}

// end fills the last piece.
func (c *cutter) end() error {
	if c.open {
		p := &c.batch.pieces[len(c.batch.pieces)-1]
		p.plain = appendZeros(p.plain, c.size-len(p.plain))
		c.full()
	}
	return nil
}

var nothing [64 << 10]byte

func appendZeros(b []byte, n int) []byte {
	for n > 0 {
		part := min(n, len(nothing))
		b = append(b, nothing[:part]...)
		n -= part
	}
	return b
}

func isZero(b []byte) bool {
	for len(b) > 0 {
		part := min(len(b), len(nothing))
		if !bytes.Equal(b[:part], nothing[:part]) {
			return false
		}
		b = b[part:]
	}
	return true
}
