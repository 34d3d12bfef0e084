package disk

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"hash/crc32"
	"slices"
	"unicode/utf16"
)

// Placed is a volume at a place of a disk.
type Placed struct {
	Offset int64 // bytes
	Volume
}

// laid is a disk of volumes, each where it was placed.
type laid struct {
	size  int64
	parts []Placed
}

// Laid is a disk of a size with volumes at their places, and zeros between them.
func Laid(size int64, parts []Placed) (Volume, error) {
	parts = slices.SortedFunc(slices.Values(parts), func(a, b Placed) int { return cmp.Compare(a.Offset, b.Offset) })
	at := int64(0)
	for _, p := range parts {
		if p.Offset < at || p.Offset+p.Volume.Size() > size {
			return nil, fmt.Errorf("what lies at byte %d of the disk, %d bytes, has no room there", p.Offset, p.Volume.Size())
		}
		at = p.Offset + p.Volume.Size()
	}
	return &laid{size, parts}, nil
}

func (l *laid) Size() int64 { return l.size }

func (l *laid) Extents() (list []Extent) {
	for _, p := range l.parts {
		for _, e := range p.Extents() {
			if k := len(list) - 1; k >= 0 && list[k].Offset+list[k].Length == p.Offset+e.Offset {
				list[k].Length += e.Length
			} else if e.Length > 0 {
				list = append(list, Extent{p.Offset + e.Offset, e.Length})
			}
		}
	}
	return list
}

func (l *laid) Write(ctx context.Context, out Output) error {
	at := int64(0)
	for _, p := range l.parts {
		if err := out.Zero(p.Offset - at); err != nil {
			return err
		}
		if err := p.Volume.Write(ctx, out); err != nil {
			return err
		}
		at = p.Offset + p.Volume.Size()
	}
	return out.Zero(l.size - at)
}

// Text is a volume of bytes that are at hand.
type Text []byte

// Size is Volume.
func (t Text) Size() int64 { return int64(len(t)) }

// Extents is Volume.
func (t Text) Extents() []Extent { return []Extent{{0, int64(len(t))}} }

// Write is Volume.
func (t Text) Write(_ context.Context, out Output) error { return writeAll(out, t) }

// Entry is a partition as a table that was there before names it.
type Entry struct {
	Number         int
	Offset, Length int64    // bytes
	Type           [16]byte // GPT, as it lies on the disk
	Kind           byte     // MBR
	ID             [16]byte // GPT, as it lies on the disk
	Name           string   // GPT
	Flags          uint64   // GPT: attributes; MBR: 128 for the active one
	Link           int64    // MBR: of a logical one, the byte where the sector lies that names it; 0 for others
}

// GPTAs is a GUID partition table (UEFI specification 2.10, chapter 5) with entries as they are, in front of a disk of a size and at its
// end. front is what starts the disk without UEFI, in the first sector; id is the disk's, as it lies there.
func GPTAs(size int64, id [16]byte, front []byte, list []Entry) ([]Placed, error) {
	table := make([]byte, gptEntries*gptEntry)
	for _, p := range list {
		if p.Number < 1 || p.Number > gptEntries {
			return nil, fmt.Errorf("partition %d is beyond the %d of a partition table", p.Number, gptEntries)
		}
		e := table[(p.Number-1)*gptEntry:]
		copy(e, p.Type[:])
		copy(e[16:], p.ID[:])
		le.PutUint64(e[32:], uint64(p.Offset/sector))
		le.PutUint64(e[40:], uint64((p.Offset+p.Length)/sector-1))
		le.PutUint64(e[48:], p.Flags)
		for j, r := range utf16.Encode([]rune(p.Name)) {
			if j < 36 {
				le.PutUint16(e[56+2*j:], r)
			}
		}
	}
	d := &gpt{size: size}
	first := d.protective()
	copy(first, front[:min(440, len(front))])
	last := size/sector - 1
	head := func(here, other, tableAt int64) []byte {
		b := d.head(table, here, other, tableAt)
		copy(b[56:], id[:])
		clear(b[16:20])
		le.PutUint32(b[16:], crc32.ChecksumIEEE(b[:gptHead]))
		return b
	}
	return []Placed{{0, Text(bytes.Join([][]byte{first, head(1, last, 2), table}, nil))},
		{size - (1+gptTable)*sector, Text(append(bytes.Clone(table), head(last, 1, last-gptTable)...))}}, nil
}

// MBRAs is what lies in front of a disk, with entries in the table of its first sector, and the sectors in the extended one that name the
// logical ones.
func MBRAs(front []byte, list []Entry, extended *Entry) ([]Placed, error) {
	b := make([]byte, max(sector, (len(front)+sector-1)/sector*sector))
	copy(b, front)
	clear(b[446:510])
	var logical []Entry
	for _, p := range list {
		if p.Link > 0 {
			logical = append(logical, p)
		}
	}
	slices.SortFunc(logical, func(a, b Entry) int { return cmp.Compare(a.Number, b.Number) })
	if extended != nil {
		for _, p := range logical {
			extended.Length = max(extended.Length, p.Offset+p.Length-extended.Offset)
		}
		list = append(list, *extended)
	}
	for _, p := range list {
		if (p.Offset+p.Length)/sector > 1<<32-1 {
			return nil, fmt.Errorf("partition %d ends beyond the 2 TiB of such a table", p.Number)
		}
		if p.Link == 0 {
			if p.Number < 1 || p.Number > 4 {
				return nil, fmt.Errorf("there is no partition %d in such a table", p.Number)
			}
			p.write(b[446+16*(p.Number-1):], 0)
		}
	}
	b[510], b[511] = 0x55, 0xaa
	placed := []Placed{{0, Text(b)}}
	for i, p := range logical {
		b := make([]byte, sector)
		p.write(b[446:], p.Link)
		if i+1 < len(logical) { // where the next is named
			next := logical[i+1]
			link := Entry{Kind: 5, Offset: next.Link, Length: next.Offset + next.Length - next.Link}
			link.write(b[462:], extended.Offset)
		}
		b[510], b[511] = 0x55, 0xaa
		if i == 0 && p.Link != extended.Offset { // the chain begins where the extended one does
			first := make([]byte, sector)
			link := Entry{Kind: 5, Offset: p.Link, Length: p.Offset + p.Length - p.Link}
			link.write(first[462:], extended.Offset)
			first[510], first[511] = 0x55, 0xaa
			placed = append(placed, Placed{extended.Offset, Text(first)})
		}
		placed = append(placed, Placed{p.Link, Text(b)})
	}
	return placed, nil
}

// write is an entry of an MBR; from is what its place is counted from, in bytes.
func (p *Entry) write(e []byte, from int64) {
	copy(e, []byte{byte(p.Flags), 0xfe, 0xff, 0xff, p.Kind, 0xfe, 0xff, 0xff}) // cylinders that nobody reads
	le.PutUint32(e[8:], uint32((p.Offset-from)/sector))
	le.PutUint32(e[12:], uint32(p.Length/sector))
}
