package base

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"hash/crc64"
	"io"

	"github.com/ulikunitz/xz/lzma"
)

// xzReader reads streams one behind the other (The .xz File Format 1.1.0), and asks each block how much memory it wants before it gets it.
type xzReader struct {
	in     *bufio.Reader
	check  func() hash.Hash // of the stream's blocks, nil for none
	block  io.Reader        // nil between blocks
	read   int64            // of the block's compressed bytes
	sum    hash.Hash
	blocks uint64
	began  bool
	err    error
}

var errXZ = errors.New("it is damaged, or no xz")

func (x *xzReader) Read(p []byte) (n int, err error) {
	for n == 0 && x.err == nil {
		if x.block == nil {
			x.err = x.next()
			continue
		}
		n, err = x.block.Read(p)
		if x.sum != nil {
			x.sum.Write(p[:n])
		}
		if err == io.EOF {
			err = x.endBlock()
		}
		x.err = err
	}
	if n > 0 {
		return n, nil
	}
	return 0, x.err
}

// take reads exactly n bytes.
func (x *xzReader) take(n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := io.ReadFull(x.in, b)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return b, err
}

// next comes to a block, or to the end.
func (x *xzReader) next() error {
	if !x.began {
		return x.header()
	}
	first, err := x.take(1)
	if err != nil {
		return err
	}
	if first[0] == 0 {
		return x.index()
	}
	rest, err := x.take(int(first[0])*4 + 3)
	if err != nil {
		return err
	}
	b, end := append(first, rest...), int(first[0])*4
	if crc32.ChecksumIEEE(b[:end]) != binary.LittleEndian.Uint32(b[end:]) {
		return errXZ
	}
	flags, fields := b[1], bytes.NewReader(b[2:end])
	for _, has := range []byte{0x40, 0x80} { // sizes, which the index tells too
		if flags&has != 0 {
			if _, err := binary.ReadUvarint(fields); err != nil {
				return errXZ
			}
		}
	}
	filter := make([]byte, 3)
	if _, err := io.ReadFull(fields, filter); err != nil || flags&0x3f != 0 || filter[0] != 0x21 || filter[1] != 1 {
		return errors.New("it is packed with a filter that is not known here; pack it with xz as it is by default")
	}
	size, err := lzma.DecodeDictCap(filter[2])
	if err != nil {
		return errXZ
	}
	if size > mostWindow {
		return fmt.Errorf("it asks for more than %d MiB of memory", mostWindow>>20)
	}
	x.read = int64(len(b))
	x.block, err = lzma.Reader2Config{DictCap: int(max(size, lzma.MinDictCap))}.NewReader2(&counted{x.in, &x.read})
	if x.sum = nil; x.check != nil {
		x.sum = x.check()
	}
	x.blocks++
	return err
}

// header begins a stream.
func (x *xzReader) header() error {
	b, err := x.take(12)
	if err != nil {
		return err
	}
	if !bytes.HasPrefix(b, xzMark) || b[6] != 0 || crc32.ChecksumIEEE(b[6:8]) != binary.LittleEndian.Uint32(b[8:]) {
		return errXZ
	}
	x.began, x.blocks = true, 0
	switch b[7] {
	case 0:
		x.check = nil
	case 1:
		x.check = func() hash.Hash { return crc32.NewIEEE() }
	case 4:
		x.check = func() hash.Hash { return crc64.New(crc64.MakeTable(crc64.ECMA)) }
	case 10:
		x.check = sha256.New
	default:
		return fmt.Errorf("its blocks have checks of the kind %d, which is not known here", b[7])
	}
	return nil
}

// endBlock checks what was read.
func (x *xzReader) endBlock() error {
	x.block = nil
	padding, err := x.take(int(-x.read & 3))
	if err != nil || len(bytes.Trim(padding, "\x00")) > 0 {
		return errors.Join(errXZ, err)
	}
	if x.sum == nil {
		return nil
	}
	want, err := x.take(x.sum.Size())
	if err != nil {
		return err
	}
	got := x.sum.Sum(nil)
	if x.sum.Size() < 32 { // numbers, the lowest byte first
		for i, j := 0, len(got)-1; i < j; i, j = i+1, j-1 {
			got[i], got[j] = got[j], got[i]
		}
	}
	if !bytes.Equal(got, want) {
		return errors.New("it is damaged: the check of a block is another one")
	}
	return nil
}

// index ends a stream, and finds another one behind it.
func (x *xzReader) index() error {
	sum := crc32.NewIEEE()
	sum.Write([]byte{0})
	length := int64(1)
	in := &counted{io.TeeReader(x.in, sum), &length}
	records, err := binary.ReadUvarint(in)
	if err != nil || records != x.blocks {
		return errXZ
	}
	for range 2 * records {
		if _, err := binary.ReadUvarint(in); err != nil {
			return errXZ
		}
	}
	if _, err := io.CopyN(io.Discard, in, -length&3); err != nil {
		return errXZ
	}
	b, err := x.take(16)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	if le.Uint32(b) != sum.Sum32() || string(b[14:]) != "YZ" || le.Uint32(b[4:]) != crc32.ChecksumIEEE(b[8:14]) {
		return errXZ
	}
	x.began = false
	for {
		b, err := x.in.Peek(4)
		switch {
		case err == io.EOF && len(b) == 0:
			return io.EOF
		case len(b) < 4:
			return errors.Join(errXZ, err)
		case !bytes.Equal(b, []byte{0, 0, 0, 0}):
			return nil
		}
		_, _ = x.in.Discard(4) // they are there
	}
}

// counted counts what is read.
type counted struct {
	io.Reader
	n *int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	*c.n += int64(n)
	return n, err
}

// ReadByte is io.ByteReader.
func (c *counted) ReadByte() (byte, error) {
	var b [1]byte
	_, err := io.ReadFull(c, b[:])
	return b[0], err
}
