package disk

import (
	"context"
	"encoding/binary"
	"fmt"
)

// Sizes of virtual hard disks (Virtual Hard Disk Image Format Specification 1.0).
const (
	vhdBlock  = 2 << 20 // bytes of disk in a block
	vhdBitmap = 512     // before a block: which of its sectors hold data
	vhdFoot   = 512
	vhdHead   = 1024
	vhdFixed  = 2 // types
	vhdSparse = 3
	vhdEpoch  = 946684800 // 2000-01-01, from which times count
	vhdMost   = 2040 << 30
)

// VhdOptions are what is said of a virtual hard disk.
type VhdOptions struct {
	Fixed bool
	ID    [16]byte
	Epoch int64 // seconds since 1970
}

// Vhd is the container with a footer behind the disk. One of fixed size is the disk itself, and a whole number of MiB;
// otherwise only the blocks of 2 MiB that have extents are there, and the table in front says where.
func Vhd(o VhdOptions) Container {
	return func(ctx context.Context, to Target, v Volume) error {
		if err := wholeSectors(v); err != nil {
			return err
		}
		if v.Size() > vhdMost {
			return fmt.Errorf("a disk of %d GiB is more than a vhd holds (%d GiB); use the format vhdx", v.Size()>>30, vhdMost>>30)
		}
		if o.Fixed {
			if err := v.Write(ctx, to); err != nil {
				return err
			}
			size := roundUp(v.Size(), 1<<20)
			if size > v.Size() {
				if err := to.Zero(size - v.Size()); err != nil {
					return err
				}
			}
			_, err := to.Write(vhdFooter(o, vhdFixed, size))
			return err
		}
		return vhdDynamic(ctx, to, v, o)
	}
}

// vhdFooter is the last sector. Readers that do not go by the size but by cylinders, heads and sectors leave that to
// the field of the program that made it: "win " says that the size counts.
func vhdFooter(o VhdOptions, kind uint32, size int64) []byte {
	be := binary.BigEndian
	b := make([]byte, vhdFoot)
	copy(b, "conectix")
	be.PutUint32(b[8:], 2) // reserved, always set
	be.PutUint32(b[12:], 0x00010000)
	next := uint64(1<<64 - 1)
	if kind == vhdSparse {
		next = vhdFoot
	}
	be.PutUint64(b[16:], next)
	be.PutUint32(b[24:], uint32(max(0, o.Epoch-vhdEpoch)))
	copy(b[28:], "win ")
	be.PutUint32(b[32:], 0x00060001)
	copy(b[36:], "Wi2k")
	be.PutUint64(b[40:], uint64(size))
	be.PutUint64(b[48:], uint64(size))
	cylinders, heads, sectors := vhdGeometry(size / 512)
	be.PutUint16(b[56:], cylinders)
	b[58], b[59] = heads, sectors
	be.PutUint32(b[60:], kind)
	copy(b[68:], o.ID[:])
	be.PutUint32(b[64:], vhdSum(b))
	return b
}

// vhdSum is the checksum of a header: the complement of the sum of its bytes.
func vhdSum(b []byte) (sum uint32) {
	for _, c := range b {
		sum += uint32(c)
	}
	return ^sum
}

// vhdGeometry is the specification's appendix: cylinders, heads and sectors of a disk of so many sectors.
func vhdGeometry(total int64) (cylinders uint16, heads, sectors byte) {
	total = min(total, 65535*16*255)
	var s, h, rest int64
	if total >= 65535*16*63 {
		s, h = 255, 16
		rest = total / s
	} else {
		s = 17
		rest = total / s
		h = max((rest+1023)/1024, 4)
		if rest >= h*1024 || h > 16 {
			s, h = 31, 16
			rest = total / s
		}
		if rest >= h*1024 {
			s, h = 63, 16
			rest = total / s
		}
	}
	return uint16(rest / h), byte(h), byte(s)
}

func vhdDynamic(ctx context.Context, to Target, v Volume, o VhdOptions) error {
	be := binary.BigEndian
	blocks := (v.Size() + vhdBlock - 1) / vhdBlock
	table := make([]byte, roundUp(blocks*4, 512))
	for i := range table {
		table[i] = 0xff // not there
	}
	at := vhdFoot + vhdHead + int64(len(table))
	there := inBlocks(v, vhdBlock)
	for _, number := range there {
		be.PutUint32(table[4*number:], uint32(at/512))
		at += vhdBitmap + vhdBlock
	}
	head := make([]byte, vhdHead)
	copy(head, "cxsparse")
	be.PutUint64(head[8:], 1<<64-1)
	be.PutUint64(head[16:], vhdFoot+vhdHead)
	be.PutUint32(head[24:], 0x00010000)
	be.PutUint32(head[28:], uint32(blocks))
	be.PutUint32(head[32:], vhdBlock)
	be.PutUint32(head[36:], vhdSum(head))
	foot := vhdFooter(o, vhdSparse, v.Size())
	for _, text := range [][]byte{foot, head, table} {
		if _, err := to.Write(text); err != nil {
			return err
		}
	}
	bitmap := make([]byte, vhdBitmap)
	for i := range bitmap {
		bitmap[i] = 0xff
	}
	if err := writeBlocks(ctx, to, v, vhdBlock, there, bitmap); err != nil {
		return err
	}
	_, err := to.Write(foot)
	return err
}

// inBlocks lists the blocks of so many bytes that a volume's extents touch.
func inBlocks(v Volume, size int64) (list []int64) {
	for _, e := range v.Extents() {
		for i := e.Offset / size; i <= (e.Offset+e.Length-1)/size; i++ {
			if n := len(list); n == 0 || list[n-1] != i {
				list = append(list, i)
			}
		}
	}
	return list
}

// writeBlocks writes the blocks that are listed, whole, a text before each.
func writeBlocks(ctx context.Context, to Target, v Volume, size int64, there []int64, before []byte) error {
	b := &blocks{to: to, size: size, there: there, before: before}
	if err := v.Write(ctx, b); err != nil {
		return err
	}
	return b.Zero(roundUp(b.at, size) - b.at)
}

// blocks is an output that passes on blocks that are there.
type blocks struct {
	to     Target
	size   int64
	there  []int64 // that come
	before []byte
	at     int64
}

// part is how many of n bytes lie in one block, and whether it is there. It begins blocks.
func (b *blocks) part(n int64) (int64, bool, error) {
	number := b.at / b.size
	for len(b.there) > 0 && b.there[0] < number {
		b.there = b.there[1:]
	}
	there := len(b.there) > 0 && b.there[0] == number
	if b.at%b.size == 0 && there {
		if _, err := b.to.Write(b.before); err != nil {
			return 0, there, err
		}
	}
	if !there && len(b.there) > 0 {
		return min(n, b.there[0]*b.size-b.at), there, nil
	}
	if !there {
		return n, there, nil
	}
	return min(n, (number+1)*b.size-b.at), there, nil
}

func (b *blocks) Write(p []byte) (int, error) {
	done := 0
	for done < len(p) {
		n, there, err := b.part(int64(len(p) - done))
		if err == nil && there {
			_, err = b.to.Write(p[done : done+int(n)])
		}
		if err != nil {
			return done, err
		}
		done += int(n)
		b.at += n
	}
	return done, nil
}

func (b *blocks) Zero(n int64) error {
	for n > 0 {
		part, there, err := b.part(n)
		if err == nil && there {
			err = b.to.Zero(part)
		}
		if err != nil {
			return err
		}
		n -= part
		b.at += part
	}
	return nil
}
