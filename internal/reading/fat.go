package reading

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"
	"unicode/utf16"
)

// FAT is a file system of the EFI system partition (Microsoft FAT Specification, 2005): FAT12, FAT16 or FAT32.
type FAT struct {
	// Marks are the attributes of names that are read-only, hidden or of the system, by path of the tree, once it was walked.
	Marks map[string]byte
	ID    uint32
	Label string
	disk  Disk

	cluster  int64 // bytes
	data     int64 // where the clusters begin
	clusters uint32
	bits     int
	table    []byte
	root     []byte // of FAT12 and FAT16, which has a place of its own
	first    uint32 // cluster of the root, FAT32
	names    int
	bytes    int64 // of the files that were walked
}

func fatDamaged(form string, args ...any) error {
	return fmt.Errorf("the FAT file system is damaged: %s; repair it with fsck.fat", fmt.Sprintf(form, args...))
}

// OpenFAT opens the file system on a part of a disk.
func OpenFAT(d Disk) (*FAT, error) {
	b := make([]byte, 512)
	if err := readFull(d, b, 0, "the first sector"); err != nil {
		return nil, err
	}
	bytesPer, perCluster, reserved, tables := int64(le.Uint16(b[11:])), int64(b[13]), int64(le.Uint16(b[14:])), int64(b[16])
	rootNames, total, length := int64(le.Uint16(b[17:])), int64(le.Uint16(b[19:])), int64(le.Uint16(b[22:]))
	if total == 0 {
		total = int64(le.Uint32(b[32:]))
	}
	f := &FAT{disk: d}
	wide := length == 0
	extra := 36
	if wide {
		length, extra, f.first = int64(le.Uint32(b[36:])), 64, le.Uint32(b[44:])
	}
	f.ID, f.Label = le.Uint32(b[extra+3:]), strings.TrimRight(string(b[extra+7:extra+18]), " \x00")
	if bytesPer < 512 || bytesPer > 4096 || bytesPer&(bytesPer-1) != 0 || perCluster < 1 || perCluster&(perCluster-1) != 0 || reserved < 1 ||
		tables < 1 || tables > 2 || length < 1 || total*bytesPer > d.Size() {
		return nil, fatDamaged("its first sector makes no sense")
	}
	rootLength := (rootNames*32 + bytesPer - 1) / bytesPer * bytesPer
	f.cluster, f.data = perCluster*bytesPer, (reserved+tables*length)*bytesPer+rootLength
	if count := (total*bytesPer - f.data) / f.cluster; count < 1 || count > 1<<28 || f.data > d.Size() {
		return nil, fatDamaged("it has %d clusters", count)
	} else {
		f.clusters = uint32(count)
	}
	switch {
	case wide:
		f.bits = 32
	case f.clusters < 4085:
		f.bits = 12
	default:
		f.bits = 16
	}
	size := min(length*bytesPer, (int64(f.clusters)+2)*int64(f.bits)/8+4)
	if size > 32<<20 || !inside(reserved*bytesPer, size, d.Size()) {
		return nil, fatDamaged("its table has %d bytes", size)
	}
	f.table = make([]byte, size)
	if err := readFull(d, f.table, reserved*bytesPer, "the table of clusters"); err != nil {
		return nil, err
	}
	if !wide {
		f.root = make([]byte, rootLength)
		return f, readFull(d, f.root, f.data-rootLength, "the root")
	}
	return f, nil
}

// next is the cluster behind one; ok is false at the end.
func (f *FAT) next(c uint32) (next uint32, ok bool, err error) {
	at := int(c) * f.bits / 8
	if at+4 > len(f.table)+3 || at+f.bits/8 > len(f.table) {
		return 0, false, fatDamaged("a cluster %d of %d", c, f.clusters)
	}
	switch f.bits {
	case 12:
		next = uint32(le.Uint16(append(f.table[at:min(at+2, len(f.table)):len(f.table)], 0, 0)))
		if c%2 == 1 {
			next >>= 4
		}
		next &= 0xfff
		ok = next < 0xff7
	case 16:
		next = uint32(le.Uint16(f.table[at:]))
		ok = next < 0xfff7
	default:
		next = le.Uint32(f.table[at:]) & 0x0fffffff
		ok = next < 0x0ffffff7
	}
	if ok && (next < 2 || next >= f.clusters+2) {
		return 0, false, fatDamaged("a chain of clusters leads to %d", next)
	}
	return next, ok, nil
}

// chain reads clusters from a first one on, at most so many bytes.
func (f *FAT) chain(first uint32, most int64) ([]byte, error) {
	var out []byte
	for c := first; int64(len(out)) < most; {
		if c < 2 || c >= f.clusters+2 {
			return nil, fatDamaged("a cluster %d of %d", c, f.clusters)
		}
		p := make([]byte, f.cluster)
		if err := readFull(f.disk, p, f.data+int64(c-2)*f.cluster, "a cluster"); err != nil {
			return nil, err
		}
		out = append(out, p...)
		next, ok, err := f.next(c)
		if err != nil {
			return nil, err
		}
		if !ok {
			break
		}
		c = next
	}
	return out[:min(int64(len(out)), most)], nil
}

const (
	mostFolder = 2 << 20 // bytes: 65536 names
	mostFATs   = 100_000 // names
)

// fatEntry is a name.
type fatEntry struct {
	name  string
	dir   bool
	first uint32
	size  int64
	time  int64
	marks byte // read-only, hidden, system
}

func (f *FAT) list(text []byte) (list []fatEntry, err error) {
	var long []uint16
	for ; len(text) >= 32 && text[0] != 0; text = text[32:] {
		e := text[:32]
		switch {
		case e[0] == 0xe5:
			long = nil
		case e[11] == 0x0f: // a part of a long name, the last first
			var part []uint16
			for _, at := range []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
				if c := le.Uint16(e[at:]); c != 0 && c != 0xffff {
					part = append(part, c)
				} else {
					break
				}
			}
			if e[0]&0x40 != 0 {
				long = nil
			}
			if long = append(part, long...); len(long) > 255 {
				return nil, fatDamaged("a name is too long")
			}
		case e[11]&0x08 != 0: // the label
			long = nil
		default:
			name := string(utf16.Decode(long))
			if long = nil; name == "" {
				name = shortName(e)
			}
			if name == "." || name == ".." {
				continue
			}
			if name == "" || strings.ContainsAny(name, "/\x00") {
				return nil, fatDamaged("a folder holds the name %q", name)
			}
			one := fatEntry{name: name, marks: e[11] & 0x07, dir: e[11]&0x10 != 0, first: uint32(le.Uint16(e[26:])), size: int64(le.Uint32(e[28:])),
				time: fatTime(le.Uint16(e[24:]), le.Uint16(e[22:]))}
			if f.bits == 32 {
				one.first |= uint32(le.Uint16(e[20:])) << 16
			}
			list = append(list, one)
		}
	}
	return list, nil
}

// shortName is a name of 8 and 3 letters, in small ones where flags say so.
func shortName(e []byte) string {
	base, ext := strings.TrimRight(string(e[:8]), " "), strings.TrimRight(string(e[8:11]), " ")
	if e[12]&0x08 != 0 {
		base = strings.ToLower(base)
	}
	if e[12]&0x10 != 0 {
		ext = strings.ToLower(ext)
	}
	if ext != "" {
		base += "." + ext
	}
	return strings.ToValidUTF8(base, "_")
}

func fatTime(date, clock uint16) int64 {
	return time.Date(1980+int(date>>9), time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63), int(clock&31)*2, 0,
		time.UTC).Unix()
}

func (f *FAT) rootText() ([]byte, error) {
	if f.root != nil {
		return f.root, nil
	}
	return f.chain(f.first, mostFolder)
}

// Walk is Rooted; everything belongs to root, which alone may read it.
func (f *FAT) Walk(at string, give func(*tar.Header, io.Reader) error) error {
	text, err := f.rootText()
	if err != nil {
		return err
	}
	f.names, f.bytes, f.Marks = 0, 0, map[string]byte{}
	if err := give(&tar.Header{Name: at, Typeflag: tar.TypeDir, Mode: 0o700, ModTime: time.Unix(0, 0)}, nil); err != nil {
		return err
	}
	return f.walk(text, at, 0, give)
}

func (f *FAT) walk(text []byte, at string, depth int, give func(*tar.Header, io.Reader) error) error {
	list, err := f.list(text)
	if err != nil {
		return err
	}
	for _, e := range list {
		if f.names++; f.names > mostFATs || depth > mostDepth/4 {
			return fatDamaged("its folders hold each other, or too many names")
		}
		if e.marks != 0 {
			f.Marks[path.Join(at, e.name)] = e.marks
		}
		h := &tar.Header{Name: path.Join(at, e.name), Typeflag: tar.TypeReg, Mode: 0o600, ModTime: time.Unix(e.time, 0)}
		if e.dir {
			h.Typeflag, h.Mode = tar.TypeDir, 0o700
			if err := give(h, nil); err == errHidden {
				continue
			} else if err != nil {
				return err
			}
			inner, err := f.chain(e.first, mostFolder)
			if err == nil {
				err = f.walk(inner, h.Name, depth+1, give)
			}
			if err != nil {
				return err
			}
			continue
		}
		content, err := f.file(&e)
		if err != nil {
			return fmt.Errorf("/%s: %w", h.Name, err)
		}
		h.Size = e.size
		if err := give(h, content); err != nil && err != errHidden {
			return err
		}
	}
	return nil
}

// file is a file's content.
func (f *FAT) file(e *fatEntry) (io.Reader, error) {
	if f.bytes += e.size; e.size > f.disk.Size() || f.bytes > 2*f.disk.Size() {
		return nil, fatDamaged("a file claims %d bytes", e.size)
	}
	return &fatContent{f: f, next: e.first, left: e.size}, nil
}

// fatContent reads a file, cluster by cluster.
type fatContent struct {
	f    *FAT
	next uint32
	left int64
	rest []byte // of the cluster
}

func (c *fatContent) Read(p []byte) (n int, err error) {
	if c.left == 0 {
		return 0, io.EOF
	}
	if len(c.rest) == 0 {
		if c.rest, err = c.f.chain(c.next, c.f.cluster); err != nil {
			return 0, err
		}
		ok := false
		if c.next, ok, err = c.f.next(c.next); err == nil && !ok && c.left > int64(len(c.rest)) {
			err = fatDamaged("a file has %d bytes less than it claims", c.left-int64(len(c.rest)))
		}
		if err != nil {
			return 0, err
		}
	}
	n = copy(p, c.rest[:min(int64(len(c.rest)), c.left)])
	c.rest, c.left = c.rest[n:], c.left-int64(n)
	return n, nil
}

// ReadFile is Rooted.
func (f *FAT) ReadFile(string, int64) ([]byte, error) { return nil, errors.ErrUnsupported }
