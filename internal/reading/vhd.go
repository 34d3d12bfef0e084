package reading

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync"
)

// openVhd opens a disk of the kinds fixed and dynamic (Virtual Hard Disk Image Format Specification, 1.0), by its footer.
func openVhd(file io.ReaderAt, length int64) (Disk, error) {
	foot := make([]byte, 512)
	if _, err := file.ReadAt(foot, length-512); err != nil {
		return nil, err
	}
	size := int64(be.Uint64(foot[48:]))
	if size < 0 || size > mostDisk {
		return nil, fmt.Errorf("it claims a disk of %d bytes", uint64(size))
	}
	switch kind := be.Uint32(foot[60:]); kind {
	case 2:
		if size > length-512 {
			return nil, errors.New("it is cut short")
		}
		return raw{io.NewSectionReader(file, 0, size), size}, nil
	case 3:
	case 4:
		return nil, errors.New("it only holds what differs from another file; make one file of both: qemu-img convert -O vhdx")
	default:
		return nil, fmt.Errorf("its kind %d is not known here", kind)
	}
	h := make([]byte, 1024)
	if err := readFull(file, h, int64(be.Uint64(foot[16:])), "the header of blocks"); err != nil {
		return nil, err
	}
	at, entries, block := int64(be.Uint64(h[16:])), int64(be.Uint32(h[28:])), int64(be.Uint32(h[32:]))
	switch {
	case !bytes.HasPrefix(h, []byte("cxsparse")):
		return nil, errors.New("it has no header of blocks")
	case block < 512 || block > 1<<28 || block&(block-1) != 0:
		return nil, fmt.Errorf("its blocks of %d bytes are none", block)
	case (size+block-1)/block > entries || !inside(at, 4*entries, length):
		return nil, errors.New("its table does not cover the disk: it is damaged or cut short")
	}
	bitmap := (block/512/8 + 511) / 512 * 512 // of sectors, in front of each block
	t := &table{file: file, at: at, width: 4}
	return &blocks{size, block, func(number, from int64, p []byte) error {
		b, err := t.entry(number)
		if err != nil {
			return err
		}
		if sector := be.Uint32(b); sector != 1<<32-1 {
			return readFull(file, p, int64(sector)*512+bitmap+from, "a block")
		}
		clear(p)
		return nil
	}}, nil
}

// table reads entries of one width, a page at a time.
type table struct {
	file  io.ReaderAt
	at    int64
	width int64
	mu    sync.Mutex
	pages kept[[]byte]
}

const tablePage = 32 << 10 // bytes

func (t *table) entry(number int64) ([]byte, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pages.most = 64
	at := number * t.width
	page, err := t.pages.get(at/tablePage, func() ([]byte, error) {
		page := make([]byte, tablePage)
		n, err := t.file.ReadAt(page, t.at+at/tablePage*tablePage)
		if err == io.EOF {
			err = nil
		}
		return page[:n], err
	})
	if err == nil && at%tablePage+t.width > int64(len(page)) {
		err = errors.New("its table lies beyond the file's end: it is cut short")
	}
	if err != nil {
		return nil, err
	}
	return page[at%tablePage:][:t.width], nil
}
