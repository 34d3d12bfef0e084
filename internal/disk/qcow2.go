package disk

import (
	"context"
	"encoding/binary"
	"fmt"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

// Sizes of qcow2 (QEMU, docs/interop/qcow2.txt, version 3).
const (
	qcowBits     = 16 // of a cluster
	qcowCluster  = 1 << qcowBits
	qcowEntries  = qcowCluster / 8 // of a table
	qcowRefcount = qcowCluster / 2 // 16-bit counts in a block of them
	qcowHead     = 112             // bytes of the header
	qcowCopied   = 1 << 63         // nobody else refers to the cluster
	qcowPacked   = 1 << 62
	qcowSector   = 512
	qcowOffset   = 62 - (qcowBits - 8) // bits of a packed cluster's offset
	qcowWindow   = 4 << 10             // with which readers unpack deflate
	qcowZstd     = 1 << 3              // incompatible feature: the compression is not zlib
)

// Compressions of containers.
const (
	Zlib = "zlib"
	Zstd = "zstd"
	None = "none"
)

// Qcow2 is the container of QEMU, version 3, with clusters of 64 KiB packed one by one. What comes first is the
// header, then the tables of those parts that have extents, the clusters in order, and the reference counts.
func Qcow2(compression string, past *Past) Container {
	return func(ctx context.Context, to Target, v Volume) error {
		q := &qcow2{to: to, size: v.Size(), zstd: compression == Zstd}
		if err := q.begin(v); err != nil {
			return err
		}
		if err := pieces(ctx, v, qcowCluster, qcowPack(compression), past, q.take); err != nil {
			return err
		}
		return q.end()
	}
}

func qcowPack(compression string) func() (pack, error) {
	return func() (pack, error) {
		switch compression {
		case None:
			return nil, nil
		case Zstd:
			enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest),
				zstd.WithWindowSize(qcowCluster), zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true))
			return func(plain, into []byte) ([]byte, error) { return enc.EncodeAll(plain, into), nil }, err
		}
		w, err := flate.NewWriterWindow(nil, qcowWindow)
		return packed(w), err
	}
}

// qcow2 is a container on its way.
type qcow2 struct {
	to     Target
	size   int64
	zstd   bool
	l1     []uint64         // offsets of the second tables
	l2     map[int][]uint64 // second tables, by their number in the first
	counts []uint16         // references to the file's clusters
	next   int64            // where the next packed cluster goes
	at     int64            // what of the file was written or reserved
}

// begin reserves the header and all tables, whose places are known from the extents.
func (q *qcow2) begin(v Volume) error {
	const reach = qcowEntries * qcowCluster // bytes of disk that a second table describes
	q.l1 = make([]uint64, (q.size+reach-1)/reach)
	q.l2 = map[int][]uint64{}
	q.next = (1 + int64(len(q.l1)*8+qcowCluster-1)/qcowCluster) * qcowCluster
	for _, e := range v.Extents() {
		for i := int(e.Offset / reach); i <= int((e.Offset+e.Length-1)/reach); i++ {
			if q.l2[i] == nil {
				q.l1[i] = uint64(q.next) | qcowCopied
				q.l2[i] = make([]uint64, qcowEntries)
				q.next += qcowCluster
			}
		}
	}
	q.refer(0, q.next)
	return q.reserve(q.next)
}

// refer counts a reference to each cluster of a part of the file.
func (q *qcow2) refer(from, to int64) {
	for i := from / qcowCluster; i <= (to-1)/qcowCluster; i++ {
		for int64(len(q.counts)) <= i {
			q.counts = append(q.counts, 0)
		}
		q.counts[i]++
	}
}

// reserve makes the file so long.
func (q *qcow2) reserve(to int64) error {
	if to <= q.at {
		return nil
	}
	err := q.to.Reserve(to - q.at)
	q.at = to
	return err
}

// take puts a cluster behind those before it.
func (q *qcow2) take(p *piece) error {
	entry := uint64(0)
	text := p.packed
	if at := q.next; text != nil && len(text) < qcowCluster {
		end := at + int64(len(text))
		sectors := (end-1)/qcowSector - at/qcowSector
		entry = qcowPacked | uint64(sectors)<<qcowOffset | uint64(at)
		q.refer(at/qcowSector*qcowSector, (at/qcowSector+sectors+1)*qcowSector)
		q.next, p.at = end, at
	} else {
		text = p.plain
		at = roundUp(at, qcowCluster)
		entry = qcowCopied | uint64(at)
		q.next = at + qcowCluster
		q.refer(at, q.next)
	}
	q.l2[int(p.number/qcowEntries)][p.number%qcowEntries] = entry
	// Zeros between clusters are those that were reserved: the file is written in one direction all the same.
	if err := q.reserve(q.next - int64(len(text))); err != nil {
		return err
	}
	q.at = q.next
	_, err := q.to.Write(text)
	return err
}

// end writes the reference counts, and the tables in front of all.
func (q *qcow2) end() error {
	first := roundUp(q.next, qcowCluster)
	blocks, tables := int64(0), int64(0) // they count themselves
	for {
		total := first/qcowCluster + blocks + tables
		needed := (total + qcowRefcount - 1) / qcowRefcount
		if b, t := needed, (needed*8+qcowCluster-1)/qcowCluster; b != blocks || t != tables {
			blocks, tables = b, t
			continue
		}
		break
	}
	table := first + blocks*qcowCluster
	q.refer(first, table+tables*qcowCluster)
	if err := q.reserve(first); err != nil {
		return err
	}
	be := binary.BigEndian
	counts := make([]byte, blocks*qcowCluster)
	for i, n := range q.counts {
		be.PutUint16(counts[2*i:], n)
	}
	places := make([]byte, tables*qcowCluster)
	for i := range blocks {
		be.PutUint64(places[8*i:], uint64(first+i*qcowCluster))
	}
	for _, text := range [][]byte{counts, places} {
		if _, err := q.to.Write(text); err != nil {
			return err
		}
	}
	head := make([]byte, qcowHead+8) // the end of the header's extensions is zeros
	copy(head, "QFI\xfb")
	be.PutUint32(head[4:], 3)
	be.PutUint32(head[20:], qcowBits)
	be.PutUint64(head[24:], uint64(q.size))
	be.PutUint32(head[36:], uint32(len(q.l1)))
	be.PutUint64(head[40:], qcowCluster) // where the first table is
	be.PutUint64(head[48:], uint64(table))
	be.PutUint32(head[56:], uint32(tables))
	be.PutUint32(head[96:], 4) // counts have 1 << 4 bits
	be.PutUint32(head[100:], qcowHead)
	if q.zstd {
		be.PutUint64(head[72:], qcowZstd)
		head[104] = 1
	}
	return q.tables(head)
}

func (q *qcow2) tables(head []byte) error {
	put := func(at int64, text []byte) error {
		_, err := q.to.WriteAt(text, at)
		return err
	}
	if err := put(0, head); err != nil {
		return err
	}
	if err := put(qcowCluster, bigEndian(q.l1)); err != nil {
		return err
	}
	for i, table := range q.l2 {
		if err := put(int64(q.l1[i]&^qcowCopied), bigEndian(table)); err != nil {
			return err
		}
	}
	return nil
}

func bigEndian(list []uint64) []byte {
	b := make([]byte, 0, 8*len(list))
	for _, n := range list {
		b = binary.BigEndian.AppendUint64(b, n)
	}
	return b
}

func roundUp(n, to int64) int64 { return (n + to - 1) / to * to }

// wholeSectors refuses a size that no disk has.
func wholeSectors(v Volume) error {
	if v.Size()%512 != 0 {
		return fmt.Errorf("a disk of %d bytes has no whole number of sectors of 512 bytes; give it a size in KiB or MiB", v.Size())
	}
	return nil
}

// Overlay is an empty qcow2 that takes what is written to a disk of so many bytes, which stays as it is in another file, of a
// format by QEMU's name.
func Overlay(backing, format string, size int64) ([]byte, error) {
	if len(backing) > 1023 {
		return nil, fmt.Errorf("the path %s is too long for an overlay", backing)
	}
	q := &qcow2{size: size, l1: make([]uint64, (size+qcowEntries*qcowCluster-1)/(qcowEntries*qcowCluster))}
	tables := roundUp(int64(len(q.l1)*8), qcowCluster)
	b := make([]byte, 3*qcowCluster+tables) // header, places of counts, counts, first table
	be := binary.BigEndian
	copy(b, "QFI\xfb")
	be.PutUint32(b[4:], 3)
	be.PutUint32(b[20:], qcowBits)
	be.PutUint64(b[24:], uint64(size))
	be.PutUint32(b[36:], uint32(len(q.l1)))
	be.PutUint64(b[40:], 3*qcowCluster)
	be.PutUint64(b[48:], qcowCluster)
	be.PutUint32(b[56:], 1)
	be.PutUint32(b[96:], 4)
	be.PutUint32(b[100:], qcowHead)
	be.PutUint32(b[qcowHead:], 0xe2792aca) // the extension that names the format
	be.PutUint32(b[qcowHead+4:], uint32(len(format)))
	copy(b[qcowHead+8:], format)
	be.PutUint64(b[8:], 1024)
	be.PutUint32(b[16:], uint32(len(backing)))
	copy(b[1024:], backing)
	be.PutUint64(b[qcowCluster:], 2*qcowCluster)
	for i := range len(b) / qcowCluster {
		be.PutUint16(b[2*qcowCluster+2*i:], 1)
	}
	return b, nil
}
