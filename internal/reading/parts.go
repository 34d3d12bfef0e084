package reading

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"unicode/utf16"
)

// Table is a disk's partition table, and what it keeps beside partitions.
type Table struct {
	Scheme string      `json:"scheme"`          // "gpt", "mbr", or "" for a disk that is one file system
	ID     string      `json:"id,omitempty"`    // of the disk, in hexadecimal digits as they lie on it
	Size   int64       `json:"size"`            // of the disk, bytes
	Front  []byte      `json:"front,omitempty"` // of the disk, before the first partition and without zeros at its end: what starts it
	Parts  []Partition `json:"parts"`
	// Extended is the partition of an MBR that holds the logical ones, nil for none; it is none of Parts.
	Extended *Partition `json:"extended,omitempty"`
}

// Partition is an entry of the table.
type Partition struct {
	Number int    `json:"number"`
	Offset int64  `json:"offset"` // bytes
	Length int64  `json:"length"`
	Type   string `json:"type"`         // GPT: identifier in hexadecimal digits as it lies on the disk; MBR: two digits
	ID     string `json:"id,omitempty"` // GPT
	Name   string `json:"name,omitempty"`
	Flags  uint64 `json:"flags,omitempty"` // GPT: attributes; MBR: 128 for the active one
	Link   int64  `json:"link,omitempty"`  // of a logical one, the byte where the sector lies that names it
	// Content is what a partition holds that is no part of the tree, without zeros at its end; Lost says that it holds more than is kept.
	Content []byte `json:"content,omitempty"`
	Lost    bool   `json:"lost,omitempty"`
}

const (
	sector    = 512
	mostParts = 1024
)

// Partitions reads the table of a disk (UEFI Specification 2.10, chapter 5); a disk without one has the scheme "".
func Partitions(d Disk) (*Table, error) {
	first := make([]byte, sector)
	if d.Size() < 2*sector {
		return nil, errors.New("it is too small for a disk")
	}
	if err := readFull(d, first, 0, "the first sector"); err != nil {
		return nil, err
	}
	t := &Table{Size: d.Size()}
	if le.Uint16(first[510:]) != 0xaa55 {
		return &Table{Size: d.Size()}, nil
	}
	for i := range 4 {
		if first[446+16*i+4] == 0xee {
			return t, t.gpt(d)
		}
	}
	return t, t.mbr(d, first)
}

// gpt reads the table behind the first sector, or the one at the disk's end if that is damaged.
func (t *Table) gpt(d Disk) error {
	err := t.gptAt(d, sector)
	if err != nil {
		if e := t.gptAt(d, d.Size()/sector*sector-sector); e == nil {
			return nil
		}
	}
	return err
}

func (t *Table) gptAt(d Disk, at int64) error {
	h := make([]byte, sector)
	if err := readFull(d, h, at, "the partition table"); err != nil {
		return err
	}
	length, count, size := le.Uint32(h[12:]), int64(le.Uint32(h[80:])), int64(le.Uint32(h[84:]))
	switch {
	case !bytes.HasPrefix(h, []byte("EFI PART")):
		return errors.New("the first sector names a GPT, and there is none; disks with sectors of 4096 bytes are not read here")
	case length < 92 || length > sector:
		return fmt.Errorf("the head of its GPT has %d bytes", length)
	case count < 1 || count > mostParts || size < 128 || size > 4096 || size%8 != 0:
		return fmt.Errorf("its GPT has %d entries of %d bytes", count, size)
	}
	want := le.Uint32(h[16:])
	clear(h[16:20])
	if crc32.ChecksumIEEE(h[:length]) != want {
		return errors.New("the head of its GPT is damaged: its checksum is another one")
	}
	text := make([]byte, count*size)
	lba := le.Uint64(h[72:])
	if lba > uint64(d.Size()/sector) {
		return errors.New("the entries of its GPT lie beyond the disk")
	}
	if err := readFull(d, text, int64(lba)*sector, "the partition table"); err != nil {
		return err
	}
	if crc32.ChecksumIEEE(text) != le.Uint32(h[88:]) {
		return errors.New("the entries of its GPT are damaged: their checksum is another one")
	}
	t.Scheme, t.ID, t.Parts = "gpt", fmt.Sprintf("%x", h[56:72]), nil
	for i := range count {
		e := text[i*size:]
		if bytes.Equal(e[:16], make([]byte, 16)) {
			continue
		}
		from, to := le.Uint64(e[32:]), le.Uint64(e[40:])
		var name []uint16
		for j := 56; j < 128 && le.Uint16(e[j:]) != 0; j += 2 {
			name = append(name, le.Uint16(e[j:]))
		}
		p := Partition{Number: int(i) + 1, Type: fmt.Sprintf("%x", e[:16]), ID: fmt.Sprintf("%x", e[16:32]), Name: string(utf16.Decode(name)),
			Flags: le.Uint64(e[48:])}
		if err := t.add(d, p, from, to); err != nil {
			return err
		}
	}
	return nil
}

// mbr reads the four partitions of the first sector, and those in an extended one.
func (t *Table) mbr(d Disk, first []byte) error {
	entry := func(b []byte, i int) (kind byte, from, count uint64, flags byte) {
		e := b[446+16*i:]
		return e[4], uint64(le.Uint32(e[8:])), uint64(le.Uint32(e[12:])), e[0]
	}
	extended := func(kind byte) bool { return kind == 0x05 || kind == 0x0f || kind == 0x85 }
	for i := range 4 {
		kind, from, count, flags := entry(first, i)
		if flags&0x7f != 0 || (kind != 0 && count == 0) { // a file system's own first sector
			*t = Table{Size: d.Size()}
			return nil
		}
		switch {
		case kind == 0:
		case extended(kind):
			t.Extended = &Partition{Number: i + 1, Type: fmt.Sprintf("%02x", kind), Flags: uint64(flags), Offset: int64(from) * sector,
				Length: int64(count) * sector}
		default:
			if err := t.add(d, Partition{Number: i + 1, Type: fmt.Sprintf("%02x", kind), Flags: uint64(flags)}, from, from+count-1); err != nil {
				return err
			}
		}
	}
	if len(t.Parts) == 0 && t.Extended == nil {
		*t = Table{Size: d.Size()}
		return nil
	}
	t.Scheme, t.ID = "mbr", fmt.Sprintf("%x", first[440:444])
	if t.Extended == nil {
		return nil
	}
	outer := uint64(t.Extended.Offset / sector)
	number := 5
	for next, links := outer, 0; next != 0; links++ {
		if links > mostParts {
			return errors.New("its logical partitions have no end")
		}
		b := make([]byte, sector)
		if next > uint64(d.Size()/sector) {
			return errors.New("a logical partition lies beyond the disk")
		}
		if err := readFull(d, b, int64(next)*sector, "a logical partition"); err != nil {
			return err
		}
		if le.Uint16(b[510:]) != 0xaa55 {
			return errors.New("a logical partition is none")
		}
		if kind, from, count, flags := entry(b, 0); kind != 0 && count > 0 {
			p := Partition{Number: number, Type: fmt.Sprintf("%02x", kind), Flags: uint64(flags), Link: int64(next) * sector}
			if err := t.add(d, p, next+from, next+from+count-1); err != nil {
				return err
			}
			number++
		}
		kind, from, _, _ := entry(b, 1)
		if !extended(kind) {
			break
		}
		next = outer + from
	}
	return nil
}

// add takes a partition from one sector to another, both its own.
func (t *Table) add(d Disk, p Partition, from, to uint64) error {
	most := uint64(d.Size() / sector)
	if from < 1 || to < from || to >= most {
		return fmt.Errorf("partition %d lies from sector %d to %d, and the disk has %d: it is damaged or cut short", p.Number, from, to, most)
	}
	p.Offset, p.Length = int64(from)*sector, int64(to-from+1)*sector
	for _, o := range t.Parts {
		if p.Offset < o.Offset+o.Length && o.Offset < p.Offset+p.Length {
			return fmt.Errorf("partitions %d and %d overlap", o.Number, p.Number)
		}
	}
	t.Parts = append(t.Parts, p)
	return nil
}

// Part is the bytes of a partition.
func (p *Partition) Part(d Disk) Disk { return Part(d, p.Offset, p.Length) }

// systems are the first bytes by which file systems, and what holds others, are known.
var systems = []struct {
	at          int
	magic, name string
}{{0x438, "\x53\xef", "ext4"}, {0x36, "FAT", "vfat"}, {0x52, "FAT", "vfat"}, {0xff6, "SWAPSPACE2", "swap"}, {0, "XFSB", "xfs"},
	{0x10040, "_BHRfS_M", "btrfs"}, {0, "LUKS\xba\xbe", "LUKS"}, {0x218, "LVM2 001", "LVM"}, {0x200, "LABELONE", "LVM"},
	{0x1000, "\xfc\x4e\x2b\xa9", "RAID"}, {3, "NTFS", "NTFS"}, {0, "hsqs", "squashfs"}, {0x8001, "CD001", "ISO 9660"},
	{0x400, "\x10\x20\xf5\xf2", "f2fs"}}

// System is what file system lies on a part of a disk, by its first bytes: "ext4" (also ext2 and ext3), "vfat", "swap"; others by their
// names, which are not read here; "" for none that is known.
func System(d Disk) string {
	b := make([]byte, 128<<10)
	n, _ := d.ReadAt(b, 0) // a short one has less to say
	for _, s := range systems {
		if s.at < n && bytes.HasPrefix(b[s.at:n], []byte(s.magic)) {
			return s.name
		}
	}
	return ""
}
