package disk

import (
	"context"
	"encoding/binary"
	"fmt"

	"github.com/klauspost/compress/zlib"
)

// Sizes of stream-optimised disks (Virtual Disk Format 5.0, "Stream-Optimized Compressed Sparse Extents"), in sectors of
// 512 bytes.
const (
	vmdkGrain   = 128 // sectors of a grain
	vmdkEntries = 512 // grains of a grain table
	vmdkHead    = 128 // before the first grain
	vmdkMagic   = 0x564d444b
	vmdkFlags   = 1 | 1<<16 | 1<<17 // newline test, packed grains, markers
	vmdkInEnd   = 1<<64 - 1         // the directory's place is in the footer
)

// Kinds of marker.
const (
	vmdkEnd = iota
	vmdkTable
	vmdkDirectory
	vmdkFooter
)

// Vmdk is the container that is written and read as a stream: grains of 64 KiB packed with zlib, tables behind them.
// id tells disks apart.
func Vmdk(id uint32, past *Past) Container {
	return func(ctx context.Context, to Target, v Volume) error {
		if err := wholeSectors(v); err != nil {
			return err
		}
		m := &vmdk{to: to, capacity: v.Size() / 512}
		if err := m.write(append(m.head(0), pad([]byte(m.descriptor(id)), (vmdkHead-1)*512)...)); err != nil {
			return err
		}
		tables := (m.capacity + vmdkGrain*vmdkEntries - 1) / (vmdkGrain * vmdkEntries)
		m.directory = make([]uint32, tables)
		if err := pieces(ctx, v, vmdkGrain*512, vmdkPack, past, m.take); err != nil {
			return err
		}
		return m.end()
	}
}

// vmdkLevel of packing: as small as the standard tool's default within a few hundredths.
const vmdkLevel = 2

func vmdkPack() (pack, error) {
	w, err := zlib.NewWriterLevel(nil, vmdkLevel)
	return packed(w), err
}

// vmdk is a container on its way.
type vmdk struct {
	to        Target
	capacity  int64 // sectors
	at        int64 // sector that comes next
	directory []uint32
	table     []uint32 // of the grains that come
	number    int64    // of that table
	buf       []byte
}

func (m *vmdk) write(text []byte) error {
	m.at += int64(len(text)) / 512
	_, err := m.to.Write(text)
	return err
}

// head is the header, or the footer if the directory's place is given.
func (m *vmdk) head(directory int64) []byte {
	b := make([]byte, 512)
	le.PutUint32(b[0:], vmdkMagic)
	le.PutUint32(b[4:], 3)
	le.PutUint32(b[8:], vmdkFlags)
	le.PutUint64(b[12:], uint64(m.capacity))
	le.PutUint64(b[20:], vmdkGrain)
	le.PutUint64(b[28:], 1) // the descriptor, and its sectors
	le.PutUint64(b[36:], 20)
	le.PutUint32(b[44:], vmdkEntries)
	place := uint64(vmdkInEnd)
	if directory > 0 {
		place = uint64(directory)
	}
	le.PutUint64(b[56:], place)
	le.PutUint64(b[64:], vmdkHead)
	copy(b[73:], "\n \r\n")
	le.PutUint16(b[77:], 1) // deflate
	return b
}

func (m *vmdk) descriptor(id uint32) string {
	const heads, sectors = 255, 63
	return fmt.Sprintf(`# Disk DescriptorFile
version=1
CID=%08x
parentCID=ffffffff
createType="streamOptimized"

# Extent description
RW %d SPARSE "disk.vmdk"

# The Disk Data Base
#DDB

ddb.virtualHWVersion = "4"
ddb.geometry.cylinders = "%d"
ddb.geometry.heads = "%d"
ddb.geometry.sectors = "%d"
ddb.adapterType = "lsilogic"
`, id&0xfffffffe, m.capacity, m.capacity/(heads*sectors), heads, sectors)
}

// take writes a grain; when another table's grains begin, the table first.
func (m *vmdk) take(p *piece) error {
	if number := p.number / vmdkEntries; m.table == nil || number != m.number {
		if err := m.endTable(); err != nil {
			return err
		}
		m.number, m.table = number, make([]uint32, vmdkEntries)
	}
	m.table[p.number%vmdkEntries] = uint32(m.at)
	m.buf = binary.LittleEndian.AppendUint64(m.buf[:0], uint64(p.number)*vmdkGrain)
	m.buf = binary.LittleEndian.AppendUint32(m.buf, uint32(len(p.packed)))
	p.at = m.at*512 + int64(len(m.buf))
	m.buf = append(m.buf, p.packed...)
	m.buf = appendZeros(m.buf, int(roundUp(int64(len(m.buf)), 512))-len(m.buf))
	if m.at+int64(len(m.buf)/512) > 1<<32-1 {
		return fmt.Errorf("the disk holds more data than a vmdk can (2 TiB); use the format qcow2 or vhdx")
	}
	return m.write(m.buf)
}

func vmdkMarker(kind uint32, sectors int) []byte {
	b := make([]byte, 512)
	le.PutUint64(b[0:], uint64(sectors))
	le.PutUint32(b[12:], kind)
	return b
}

// endTable writes the table of the grains before.
func (m *vmdk) endTable() error {
	if m.table == nil {
		return nil
	}
	text := vmdkMarker(vmdkTable, vmdkEntries*4/512)
	m.directory[m.number] = uint32(m.at + 1)
	return m.write(append(text, words(m.table)...))
}

func (m *vmdk) end() error {
	if err := m.endTable(); err != nil {
		return err
	}
	directory := words(m.directory)
	directory = pad(directory, int(roundUp(int64(len(directory)), 512)))
	place := m.at + 1
	text := append(vmdkMarker(vmdkDirectory, len(directory)/512), directory...)
	text = append(text, vmdkMarker(vmdkFooter, 1)...)
	text = append(text, m.head(place)...)
	return m.write(append(text, vmdkMarker(vmdkEnd, 0)...))
}

func words(list []uint32) []byte {
	b := make([]byte, 0, 4*len(list))
	for _, n := range list {
		b = binary.LittleEndian.AppendUint32(b, n)
	}
	return b
}

// pad fills a text with zeros to a length.
func pad(b []byte, length int) []byte { return appendZeros(b, length-len(b)) }
