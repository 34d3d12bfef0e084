package disk

import (
	"context"
	"fmt"
	"hash/crc32"
	"unicode/utf16"
)

// Places and sizes of VHDX ([MS-VHDX], version 8.0).
const (
	vhdxUnit     = 64 << 10 // of the structures in front: identifier, two headers, two region tables
	vhdxMiB      = 1 << 20
	vhdxLog      = 1 * vhdxMiB // where the log is, and its size
	vhdxMetadata = 2 * vhdxMiB
	vhdxTable    = 3 * vhdxMiB // the block allocation table
	vhdxBlock    = 2 * vhdxMiB
	vhdxRatio    = 1 << 23 * 512 / vhdxBlock // blocks to a sector bitmap
	vhdxPresent  = 6                         // state of a block: all of it is there
	vhdxMost     = 64 << 40
)

// Identifiers, in the byte order of the file.
var (
	vhdxRegionTable = guid(0x2dc27766, 0xf623, 0x4200, 0x9d64115e9bfd4a08)
	vhdxRegionMeta  = guid(0x8b7ca206, 0x4790, 0x4b9a, 0xb8fe575f050f886e)
	vhdxFile        = guid(0xcaa16737, 0xfa36, 0x4d43, 0xb3b633f0aa44e76b)
	vhdxDiskSize    = guid(0x2fa54224, 0xcd1b, 0x4876, 0xb2115dbed83bf4b8)
	vhdxDiskID      = guid(0xbeca12ab, 0xb2e6, 0x4523, 0x93efc309e000c746)
	vhdxLogical     = guid(0x8141bf1d, 0xa96f, 0x4709, 0xba47f233a8faab5f)
	vhdxPhysical    = guid(0xcda348c7, 0x445d, 0x4471, 0x9cc9e9885251c556)
)

func guid(a uint32, b, c uint16, d uint64) (id [16]byte) {
	le.PutUint32(id[0:], a)
	le.PutUint16(id[4:], b)
	le.PutUint16(id[6:], c)
	for i := range 8 {
		id[8+i] = byte(d >> (56 - 8*i))
	}
	return id
}

// Vhdx is the container for large disks: blocks of 2 MiB, those that have extents, behind tables that say where.
func Vhdx(id [16]byte) Container {
	return func(ctx context.Context, to Target, v Volume) error {
		if err := wholeSectors(v); err != nil {
			return err
		}
		if v.Size() > vhdxMost {
			return fmt.Errorf("a disk of %d TiB is more than a vhdx holds (64 TiB)", v.Size()>>40)
		}
		blocks := (v.Size() + vhdxBlock - 1) / vhdxBlock
		entries := blocks + (blocks-1)/vhdxRatio // a bitmap's entry after each so many, never used here
		table := make([]byte, roundUp(max(entries, 1)*8, vhdxMiB))
		there := inBlocks(v, vhdxBlock)
		at := int64(vhdxTable + len(table))
		for _, number := range there {
			le.PutUint64(table[8*(number+number/vhdxRatio):], uint64(at)|vhdxPresent)
			at += vhdxBlock
		}
		for _, text := range [][]byte{vhdxFront(id, uint32(len(table))), vhdxMetadataOf(id, v.Size()), table} {
			if _, err := to.Write(text); err != nil {
				return err
			}
		}
		return writeBlocks(ctx, to, v, vhdxBlock, there, nil)
	}
}

// castagnoli is the sum of headers and tables (CRC-32C), taken with its own field zero.
func castagnoli(b []byte) []byte {
	le.PutUint32(b[4:], crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)))
	return b
}

// vhdxFront is all up to the metadata: identifier, headers, region tables, an empty log.
func vhdxFront(id [16]byte, table uint32) []byte {
	b := make([]byte, vhdxMetadata)
	copy(b, "vhdxfile")
	for i, r := range utf16.Encode([]rune("Zygos")) {
		le.PutUint16(b[8+2*i:], r)
	}
	for i := range 2 {
		h := b[(1+i)*vhdxUnit:][:4096]
		copy(h, "head")
		le.PutUint64(h[8:], uint64(1+i)) // the second is the newer one
		copy(h[16:], id[:])              // of what is written to the file
		copy(h[32:], id[:])              // of what is written to the disk
		le.PutUint16(h[66:], 1)          // version
		le.PutUint32(h[68:], vhdxLog)
		le.PutUint64(h[72:], vhdxLog)
		castagnoli(h)
		r := b[(3+i)*vhdxUnit:][:vhdxUnit]
		copy(r, "regi")
		le.PutUint32(r[8:], 2)
		region := func(at int, name [16]byte, offset uint64, length uint32) {
			copy(r[at:], name[:])
			le.PutUint64(r[at+16:], offset)
			le.PutUint32(r[at+24:], length)
			le.PutUint32(r[at+28:], 1) // required
		}
		region(16, vhdxRegionTable, vhdxTable, table)
		region(48, vhdxRegionMeta, vhdxMetadata, vhdxMiB)
		castagnoli(r)
	}
	return b
}

// vhdxMetadataOf is the region that says what disk this is.
func vhdxMetadataOf(id [16]byte, size int64) []byte {
	b := make([]byte, vhdxMiB)
	copy(b, "metadata")
	at, n := vhdxUnit, 0
	item := func(name [16]byte, flags uint32, text []byte) {
		e := b[32+32*n:]
		copy(e, name[:])
		le.PutUint32(e[16:], uint32(at))
		le.PutUint32(e[20:], uint32(len(text)))
		le.PutUint32(e[24:], flags)
		at += copy(b[at:], text)
		n++
	}
	const required, disk = 1 << 2, 1 << 1
	item(vhdxFile, required, append(le.AppendUint32(nil, vhdxBlock), 0, 0, 0, 0))
	item(vhdxDiskSize, required|disk, le.AppendUint64(nil, uint64(size)))
	item(vhdxDiskID, required|disk, id[:])
	item(vhdxLogical, required|disk, le.AppendUint32(nil, 512))
	item(vhdxPhysical, required|disk, le.AppendUint32(nil, 4096))
	le.PutUint16(b[10:], uint16(n))
	return b
}
