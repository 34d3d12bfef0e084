package reading

import (
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zlib"
)

// vmdk is a disk in one file with sparse grains, packed or not (Virtual Disk Format 5.0, "Hosted Sparse Extents" and "Stream-Optimized
// Compressed Sparse Extents").
type vmdk struct {
	file     io.ReaderAt
	length   int64
	grain    int64 // bytes
	perTable int64
	tables   []uint32 // sectors where the tables are
	packed   bool
	mu       sync.Mutex
	read     kept[[]byte]
	unpacked kept[[]byte]
}

const vmdkSector = 512

func openVmdk(file io.ReaderAt, length int64) (Disk, error) {
	h := make([]byte, 512)
	if err := readFull(file, h, 0, "the header"); err != nil {
		return nil, err
	}
	const atEnd = 1<<64 - 1
	if le.Uint64(h[56:]) == atEnd { // the header with its place comes last
		if err := readFull(file, h, length-1024, "the last header"); err != nil {
			return nil, err
		}
		if string(h[:4]) != "KDMV" {
			return nil, errors.New("it has no header at its end: it is cut short")
		}
	}
	flags, capacity, grain := le.Uint32(h[8:]), le.Uint64(h[12:]), le.Uint64(h[20:])
	v := &vmdk{file: file, length: length, perTable: int64(le.Uint32(h[44:])), packed: flags&(1<<16) != 0}
	switch {
	case le.Uint32(h[4:]) < 1 || le.Uint32(h[4:]) > 3:
		return nil, fmt.Errorf("version %d is not known here", le.Uint32(h[4:]))
	case capacity > mostDisk/vmdkSector:
		return nil, fmt.Errorf("it claims %d sectors", capacity)
	case grain < 1 || grain > 4096 || grain&(grain-1) != 0:
		return nil, fmt.Errorf("its grains of %d sectors are none", grain)
	case v.perTable < 1 || v.perTable > 4096:
		return nil, fmt.Errorf("its tables of %d entries are none", v.perTable)
	case v.packed && le.Uint16(h[77:]) != 1:
		return nil, fmt.Errorf("its compression %d is not known here", le.Uint16(h[77:]))
	}
	v.grain = int64(grain) * vmdkSector
	size := int64(capacity) * vmdkSector
	count := (size + v.grain*v.perTable - 1) / (v.grain * v.perTable)
	directory := int64(le.Uint64(h[56:]))
	if directory > length/vmdkSector || !inside(directory*vmdkSector, 4*count, length) {
		return nil, errors.New("its directory of tables lies beyond the file's end: it is cut short")
	}
	if 4*count > mostTables {
		return nil, fmt.Errorf("its %d tables are too many", count)
	}
	text := make([]byte, 4*count)
	if err := readFull(file, text, directory*vmdkSector, "the directory of tables"); err != nil {
		return nil, err
	}
	for i := range count {
		v.tables = append(v.tables, le.Uint32(text[4*i:]))
	}
	v.read.most, v.unpacked.most = max(2, mostTables/2/int(4*v.perTable)), max(2, mostTables/2/int(v.grain))
	return &blocks{size, v.grain, v.part}, nil
}

// part reads part of a grain.
func (v *vmdk) part(number, from int64, p []byte) error {
	v.mu.Lock()
	i := number / v.perTable
	table, err := v.read.get(i, func() ([]byte, error) {
		if v.tables[i] == 0 {
			return nil, nil
		}
		table := make([]byte, 4*v.perTable)
		return table, readFull(v.file, table, int64(v.tables[i])*vmdkSector, "a table of grains")
	})
	if err != nil {
		v.mu.Unlock()
		return err
	}
	at := int64(0)
	if table != nil {
		at = int64(le.Uint32(table[4*(number%v.perTable):])) * vmdkSector
	}
	if at <= vmdkSector || !v.packed { // 1 stands for zeros
		v.mu.Unlock()
		if at > vmdkSector {
			return readFull(v.file, p, at+from, "a grain")
		}
		clear(p)
		return nil
	}
	defer v.mu.Unlock()
	plain, err := v.unpacked.get(number, func() ([]byte, error) { return v.unpack(at) })
	if err == nil {
		copy(p, plain[from:])
	}
	return err
}

// unpack is a packed grain as it was: behind its number and length.
func (v *vmdk) unpack(at int64) ([]byte, error) {
	var head [12]byte
	if err := readFull(v.file, head[:], at, "a grain"); err != nil {
		return nil, err
	}
	length := int64(le.Uint32(head[8:]))
	if !inside(at+12, length, v.length) {
		return nil, errors.New("a packed grain lies beyond the file's end: it is cut short")
	}
	in, err := zlib.NewReader(io.NewSectionReader(v.file, at+12, length))
	if err != nil {
		return nil, fmt.Errorf("unpack a grain: %w", err)
	}
	plain := make([]byte, v.grain)
	if n, err := io.ReadFull(in, plain); err != nil && (err != io.ErrUnexpectedEOF || n == 0) { // the last may be shorter
		return nil, fmt.Errorf("unpack a grain: %w", err)
	}
	return plain, nil
}
