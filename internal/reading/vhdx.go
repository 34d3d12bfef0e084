package reading

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
)

// Identifiers of regions and metadata ([MS-VHDX], version 8.0), as they lie in the file.
var (
	vhdxTable    = id("6677c22d23f600429d64115e9bfd4a08")
	vhdxMetadata = id("06a27c8b90479a4bb8fe575f050f886e")
	vhdxFile     = id("3767a1ca36fa434db3b633f0aa44e76b")
	vhdxSize     = id("2442a52f1bcd7648b2115dbed83bf4b8")
	vhdxSector   = id("1dbf41816fa90947ba47f233a8faab5f")
)

func id(text string) (b [16]byte) {
	_, _ = hex.Decode(b[:], []byte(text)) // the form is known
	return b
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// summed says whether a structure has the checksum that it names, which is taken with its field zero.
func summed(b []byte, at int) bool {
	want := le.Uint32(b[at:])
	sum := crc32.Update(0, castagnoli, b[:at])
	sum = crc32.Update(sum, castagnoli, make([]byte, 4))
	return crc32.Update(sum, castagnoli, b[at+4:]) == want
}

// openVhdx opens a disk whose log is empty.
func openVhdx(file io.ReaderAt, length int64) (Disk, error) {
	var head []byte
	for i := range int64(2) {
		h := make([]byte, 4096)
		if err := readFull(file, h, (1+i)*64<<10, "a header"); err != nil {
			return nil, err
		}
		if string(h[:4]) == "head" && summed(h, 4) && (head == nil || le.Uint64(h[8:]) > le.Uint64(head[8:])) {
			head = h
		}
	}
	if head == nil {
		return nil, errors.New("it has no sound header")
	}
	if !bytes.Equal(head[48:64], make([]byte, 16)) {
		return nil, errors.New("it was not closed, and its log waits to be carried out; open and close it where it was made, " +
			"or convert it: qemu-img convert")
	}
	regions := make([]byte, 64<<10)
	for i := range int64(2) {
		if err := readFull(file, regions, (3+i)*64<<10, "the table of regions"); err != nil {
			return nil, err
		}
		if string(regions[:4]) == "regi" && summed(regions, 4) {
			break
		}
		if i == 1 {
			return nil, errors.New("it has no sound table of regions")
		}
	}
	var bat, metadata, batLength int64
	for i := range min(le.Uint32(regions[8:]), 2047) {
		r := regions[16+32*i:]
		switch at := int64(le.Uint64(r[16:])); {
		case bytes.HasPrefix(r, vhdxTable[:]):
			bat, batLength = at, int64(le.Uint32(r[24:]))
		case bytes.HasPrefix(r, vhdxMetadata[:]):
			metadata = at
		case le.Uint32(r[28:])&1 != 0:
			return nil, errors.New("it needs a region that is not known here")
		}
	}
	if bat == 0 || metadata == 0 {
		return nil, errors.New("it has no table of blocks")
	}
	block, size, sector, err := vhdxMeta(file, metadata)
	if err != nil {
		return nil, err
	}
	const full, partly = 6, 7
	ratio := (1 << 23) * sector / block
	count := (size + block - 1) / block
	if ratio < 1 || !inside(bat, batLength, length) || 8*(count+count/ratio) > batLength {
		return nil, errors.New("its table does not cover the disk: it is damaged or cut short")
	}
	t := &table{file: file, at: bat, width: 8}
	return &blocks{size, block, func(number, from int64, p []byte) error {
		b, err := t.entry(number + number/ratio)
		if err != nil {
			return err
		}
		switch e := le.Uint64(b); e & 7 {
		case full:
			return readFull(file, p, int64(e>>20)<<20+from, "a block")
		case partly:
			return errors.New("it only holds what differs from another file; make one file of both: qemu-img convert")
		}
		clear(p)
		return nil
	}}, nil
}

// vhdxMeta reads what disk it is: bytes of a block, of the disk, of a sector.
func vhdxMeta(file io.ReaderAt, at int64) (block, size, sector int64, err error) {
	b := make([]byte, 64<<10)
	if err := readFull(file, b, at, "the metadata"); err != nil {
		return 0, 0, 0, err
	}
	if !bytes.HasPrefix(b, []byte("metadata")) {
		return 0, 0, 0, errors.New("its metadata are none")
	}
	for i := range min(le.Uint16(b[10:]), 2047) {
		e := b[32+32*int(i):]
		item := make([]byte, 8)
		if n := le.Uint32(e[20:]); n < 4 {
			continue
		} else if n < 8 {
			item = item[:4]
		}
		if err := readFull(file, item, at+int64(le.Uint32(e[16:])), "the metadata"); err != nil {
			return 0, 0, 0, err
		}
		switch {
		case bytes.HasPrefix(e, vhdxFile[:]):
			if block = int64(le.Uint32(item)); len(item) > 4 && le.Uint32(item[4:])&2 != 0 {
				return 0, 0, 0, errors.New("it only holds what differs from another file; make one file of both: qemu-img convert")
			}
		case bytes.HasPrefix(e, vhdxSize[:]) && len(item) == 8:
			size = int64(le.Uint64(item))
		case bytes.HasPrefix(e, vhdxSector[:]):
			sector = int64(le.Uint32(item))
		}
	}
	switch {
	case block < 1<<20 || block > 256<<20 || block&(block-1) != 0:
		err = fmt.Errorf("its blocks of %d bytes are none", block)
	case size <= 0 || size > 64<<40:
		err = fmt.Errorf("it claims a disk of %d bytes", size)
	case sector != 512 && sector != 4096:
		err = fmt.Errorf("its sectors of %d bytes are none", sector)
	}
	return block, size, sector, err
}
