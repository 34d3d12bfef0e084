package reading

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

// mostTables is the memory for tables and unpacked clusters of a container, in bytes.
const mostTables = 16 << 20

// qcow2 is the container of QEMU (docs/interop/qcow2.txt), versions 2 and 3.
type qcow2 struct {
	file     io.ReaderAt
	length   int64
	bits     uint  // of a cluster
	l1       int64 // where the first table is
	entries  int64 // in it
	zstd     bool
	mu       sync.Mutex
	seconds  kept[[]byte]
	unpacked kept[[]byte]
	unzip    io.ReadCloser
	unzstd   *zstd.Decoder
}

func openQcow2(file io.ReaderAt, length int64) (Disk, error) {
	h := make([]byte, 112)
	if err := readFull(file, h[:72], 0, "the header"); err != nil {
		return nil, err
	}
	version := be.Uint32(h[4:])
	q := &qcow2{file: file, length: length, bits: uint(be.Uint32(h[20:])), l1: int64(be.Uint64(h[40:])), entries: int64(be.Uint32(h[36:]))}
	size := int64(be.Uint64(h[24:]))
	features := uint64(0)
	if version == 3 {
		if err := readFull(file, h, 0, "the header"); err != nil {
			return nil, err
		}
		features = be.Uint64(h[72:])
		q.zstd = features&8 != 0 && h[104] == 1
	}
	switch {
	case version != 2 && version != 3:
		return nil, fmt.Errorf("version %d is not known here; 2 and 3 are", version)
	case be.Uint64(h[8:]) != 0:
		return nil, errors.New("it only holds what differs from another file; make one file of both: qemu-img convert -O qcow2")
	case be.Uint32(h[32:]) != 0:
		return nil, errors.New("it is encrypted; decrypt it first: qemu-img convert")
	case features&2 != 0:
		return nil, errors.New("it is marked as corrupt; look at it with qemu-img check")
	case features&4 != 0:
		return nil, errors.New("its bytes are in another file; make one file of both: qemu-img convert -O qcow2")
	case features&16 != 0:
		return nil, errors.New("it has subclusters (extended_l2); convert it: qemu-img convert -O qcow2")
	case features&^uint64(1|8) != 0:
		return nil, fmt.Errorf("it needs features (%#x) that are not known here; convert it: qemu-img convert -O qcow2", features)
	case features&8 != 0 && h[104] > 1:
		return nil, fmt.Errorf("its compression %d is not known here", h[104])
	case q.bits < 9 || q.bits > 21:
		return nil, fmt.Errorf("its clusters of 2^%d bytes are none", q.bits)
	case size < 0 || size > mostDisk:
		return nil, fmt.Errorf("it claims a disk of %d bytes", uint64(size))
	}
	reach := int64(1) << (2*q.bits - 3) // bytes that a second table describes
	if (size+reach-1)/reach > q.entries || !inside(q.l1, 8*q.entries, length) {
		return nil, errors.New("its first table does not cover the disk: it is damaged or cut short")
	}
	cluster := 1 << q.bits
	q.seconds.most, q.unpacked.most = max(2, mostTables/2/cluster), max(2, mostTables/2/cluster)
	return &blocks{size, int64(cluster), q.read}, nil
}

// read reads part of a cluster.
func (q *qcow2) read(number, from int64, p []byte) error {
	q.mu.Lock()
	entry, err := q.entry(number)
	if err != nil {
		q.mu.Unlock()
		return err
	}
	const packed, offset = 1 << 62, 0x00fffffffffffe00
	if entry&packed == 0 {
		q.mu.Unlock()
		if at := int64(entry & offset); entry&1 == 0 && at != 0 { // the first bit: all zeros
			return readFull(q.file, p, at+from, "a cluster")
		}
		clear(p)
		return nil
	}
	defer q.mu.Unlock()
	plain, err := q.unpacked.get(number, func() ([]byte, error) { return q.unpack(entry) })
	if err == nil {
		copy(p, plain[from:])
	}
	return err
}

// entry is what the tables say of a cluster.
func (q *qcow2) entry(number int64) (uint64, error) {
	perTable := int64(1) << (q.bits - 3)
	i := number / perTable
	table, err := q.seconds.get(i, func() ([]byte, error) {
		var b [8]byte
		if i >= q.entries {
			return nil, errors.New("a cluster that no table describes")
		}
		if err := readFull(q.file, b[:], q.l1+8*i, "the first table"); err != nil {
			return nil, err
		}
		at := int64(be.Uint64(b[:]) & 0x00fffffffffffe00)
		if at == 0 {
			return nil, nil
		}
		table := make([]byte, 1<<q.bits)
		return table, readFull(q.file, table, at, "a table of clusters")
	})
	if err != nil || table == nil {
		return 0, err
	}
	return be.Uint64(table[8*(number%perTable):]), nil
}

// unpack is a packed cluster as it was.
func (q *qcow2) unpack(entry uint64) ([]byte, error) {
	shift := 62 - (q.bits - 8)
	at := int64(entry & (1<<shift - 1))
	sectors := int64(entry&(1<<62-1)) >> shift
	length := min((sectors+1)*512-at%512, q.length-at)
	if at >= q.length || length <= 0 {
		return nil, errors.New("a packed cluster lies beyond the file's end: it is cut short")
	}
	cluster := 1 << q.bits
	in := io.NewSectionReader(q.file, at, length)
	plain := make([]byte, cluster)
	var from io.Reader
	if q.zstd {
		if q.unzstd == nil {
			var err error
			if q.unzstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20)); err != nil {
				return nil, err
			}
		}
		text := make([]byte, length)
		if _, err := io.ReadFull(in, text); err != nil {
			return nil, err
		}
		if err := q.unzstd.Reset(bytes.NewReader(text)); err != nil {
			return nil, fmt.Errorf("unpack a cluster: %w", err)
		}
		from = q.unzstd
	} else {
		if q.unzip == nil {
			q.unzip = flate.NewReader(in)
		} else if err := q.unzip.(flate.Resetter).Reset(in, nil); err != nil {
			return nil, err
		}
		from = q.unzip
	}
	if _, err := io.ReadFull(from, plain); err != nil {
		return nil, fmt.Errorf("unpack a cluster: %w", err)
	}
	return plain, nil
}
