package disk

import (
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"unicode/utf16"
)

// Partition is a part of a disk.
type Partition struct {
	Volume
	Name   string
	Type   [16]byte // in the byte order of RFC 9562
	ID     [16]byte
	Length int64 // bytes; 0 for the volume's size
}

// length is the bytes of a partition.
func (p *Partition) length() int64 { return max(p.Length, p.Size()) }

// Types of partition (UAPI.8, Discoverable Partitions Specification; UEFI specification 2.10, table 5.7).
var (
	TypeESP     = [16]byte{0xc1, 0x2a, 0x73, 0x28, 0xf8, 0x1f, 0x11, 0xd2, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b}
	TypeLinux   = [16]byte{0x0f, 0xc6, 0x3d, 0xaf, 0x84, 0x83, 0x47, 0x72, 0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4}
	TypeSwap    = [16]byte{0x06, 0x57, 0xfd, 0x6d, 0xa4, 0xab, 0x43, 0xc4, 0x84, 0xe5, 0x09, 0x33, 0xc8, 0x4b, 0x4f, 0x4f}
	TypeRootX64 = [16]byte{0x4f, 0x68, 0xbc, 0xe3, 0xe8, 0xcd, 0x4d, 0xb1, 0x96, 0xe7, 0xfb, 0xca, 0xf9, 0x84, 0xb7, 0x09}
	TypeRootARM = [16]byte{0xb9, 0x21, 0xb0, 0x45, 0x1d, 0xf0, 0x41, 0xc3, 0xaf, 0x44, 0x4c, 0x6f, 0x28, 0x0d, 0x3f, 0xae}
)

const (
	sector      = 512
	gptEntries  = 128
	gptEntry    = 128 // bytes
	gptTable    = gptEntries * gptEntry / sector
	gptHead     = 92
	alignment   = 1 << 20 // of partitions
	gptInFront  = alignment
	gptBehind   = alignment              // the second table, at the very end
	GPTOverhead = gptInFront + gptBehind // bytes of a disk that no partition has
)

// gpt is a disk with a partition table.
type gpt struct {
	size   int64
	id     [16]byte
	parts  []Partition
	starts []int64 // bytes
}

// GPT is a disk with a GUID partition table (UEFI specification 2.10, chapter 5) over partitions, one after the other;
// each starts and ends at a whole MiB.
func GPT(id [16]byte, parts ...Partition) (Volume, error) {
	d := &gpt{id: id, parts: parts}
	at := int64(gptInFront)
	for _, p := range parts {
		if p.length()%sector != 0 {
			return nil, fmt.Errorf("partition %s has %d bytes, which is no whole number of sectors", p.Name, p.length())
		}
		d.starts = append(d.starts, at)
		at = roundUp(at+p.length(), alignment)
	}
	d.size = at + gptBehind
	return d, nil
}

func (d *gpt) Size() int64 { return d.size }

func (d *gpt) Extents() []Extent {
	list := []Extent{{0, (2 + gptTable) * sector}}
	for i, p := range d.parts {
		for _, e := range p.Extents() {
			list = append(list, Extent{d.starts[i] + e.Offset, e.Length})
		}
	}
	return append(list, Extent{d.size - (1+gptTable)*sector, (1 + gptTable) * sector})
}

func (d *gpt) Write(ctx context.Context, out Output) error {
	table := d.table()
	last := d.size/sector - 1
	if err := writeAll(out, d.protective(), d.head(table, 1, last, 2), table); err != nil {
		return err
	}
	at := int64((2 + gptTable) * sector)
	for i, p := range d.parts {
		if err := out.Zero(d.starts[i] - at); err != nil {
			return err
		}
		if err := p.Write(ctx, out); err != nil {
			return err
		}
		at = d.starts[i] + p.Size()
	}
	if err := out.Zero(d.size - (1+gptTable)*sector - at); err != nil {
		return err
	}
	return writeAll(out, table, d.head(table, last, 1, last-gptTable))
}

func writeAll(out Output, texts ...[]byte) error {
	for _, text := range texts {
		if _, err := out.Write(text); err != nil {
			return err
		}
	}
	return nil
}

// protective is the first sector, which tells those who do not know the table that the disk is in use.
func (d *gpt) protective() []byte {
	b := make([]byte, sector)
	e := b[446:]
	copy(e, []byte{0, 0, 2, 0, 0xee, 0xff, 0xff, 0xff})
	le.PutUint32(e[8:], 1)
	le.PutUint32(e[12:], uint32(min(d.size/sector-1, 1<<32-1)))
	b[510], b[511] = 0x55, 0xaa
	return b
}

// mixed is an id as it stands in the table: its first three fields little-endian.
func mixed(id [16]byte) []byte {
	b := make([]byte, 16)
	le.PutUint32(b[0:], binary.BigEndian.Uint32(id[0:]))
	le.PutUint16(b[4:], binary.BigEndian.Uint16(id[4:]))
	le.PutUint16(b[6:], binary.BigEndian.Uint16(id[6:]))
	copy(b[8:], id[8:])
	return b
}

func (d *gpt) table() []byte {
	b := make([]byte, gptEntries*gptEntry)
	for i, p := range d.parts {
		e := b[i*gptEntry:]
		copy(e, mixed(p.Type))
		copy(e[16:], mixed(p.ID))
		le.PutUint64(e[32:], uint64(d.starts[i]/sector))
		le.PutUint64(e[40:], uint64((d.starts[i]+p.length())/sector-1))
		for j, r := range utf16.Encode([]rune(p.Name)) {
			le.PutUint16(e[56+2*j:], r)
		}
	}
	return b
}

func (d *gpt) head(table []byte, here, other, tableAt int64) []byte {
	b := make([]byte, sector)
	copy(b, "EFI PART")
	le.PutUint32(b[8:], 0x00010000)
	le.PutUint32(b[12:], gptHead)
	le.PutUint64(b[24:], uint64(here))
	le.PutUint64(b[32:], uint64(other))
	le.PutUint64(b[40:], 2+gptTable)
	le.PutUint64(b[48:], uint64(d.size/sector-2-gptTable))
	copy(b[56:], mixed(d.id))
	le.PutUint64(b[72:], uint64(tableAt))
	le.PutUint32(b[80:], gptEntries)
	le.PutUint32(b[84:], gptEntry)
	le.PutUint32(b[88:], crc32.ChecksumIEEE(table))
	le.PutUint32(b[16:], crc32.ChecksumIEEE(b[:gptHead]))
	return b
}
