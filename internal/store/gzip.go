package store

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
)

// gzipLevel of packing, the usual one.
const gzipLevel = 6

var deflaters = sync.Pool{New: func() any {
	w, err := flate.NewWriter(nil, gzipLevel)
	if err != nil {
		panic(err) // the level is one of those that there are
	}
	return w
}}

// NewGzip packs what it is given into out as one gzip member (RFC 1952), in parts that all processors pack at once; they
// do not depend on how many there are. Close it to write the rest.
func NewGzip(out io.Writer) (*Compressor, error) {
	w, err := shop()
	if err != nil {
		return nil, err
	}
	sum, size := uint32(0), uint32(0)
	c := newCompressor(out, w, func(plain, into []byte) []byte {
		d := deflaters.Get().(*flate.Writer)
		defer deflaters.Put(d)
		to := bytes.NewBuffer(into)
		d.Reset(to)
		_, _ = d.Write(plain) // what it writes to never fails
		_ = d.Flush()         // ends at a whole byte, as the next part begins
		return to.Bytes()
	})
	c.head = []byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff} // deflate, no name, no time, no system
	c.seen = func(plain []byte) {
		sum = crc32.Update(sum, crc32.IEEETable, plain)
		size += uint32(len(plain))
	}
	c.tail = func() []byte {
		b := []byte{3, 0} // the last block, with nothing in it
		b = binary.LittleEndian.AppendUint32(b, sum)
		return binary.LittleEndian.AppendUint32(b, size)
	}
	return c.begin(), nil
}
