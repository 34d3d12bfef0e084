package disk

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

// Sizes of FAT32 (Microsoft, FAT: General Overview of On-Disk Format 1.03).
const (
	fatReserved = 32    // sectors in front
	fatLeast    = 65525 // clusters; with fewer, readers take it for FAT16
	fatEnd      = 0x0fffffff
	fatEntry    = 32 // bytes of a name
	fatVolume   = 0x08
	fatDir      = 0x10
	fatArchive  = 0x20
	fatLong     = 0x0f
	fatYears    = 1980 // times count from there
)

// FATFile is a file of a FAT file system: a text, or what lies in a file.
type FATFile struct {
	Path   string // with '/' and not at its start
	Text   []byte
	Source string // "" for Text
	Size   int64
	Dir    bool // a folder, which may have nothing in it
	Marks  byte // attributes that it has for more: FATHidden and others
}

// Attributes of a FAT file (FAT: General Overview, Directory Structure).
const (
	FATReadOnly = 0x01
	FATHidden   = 0x02
	FATSystem   = 0x04
)

// FATOptions are what is said of a FAT file system.
type FATOptions struct {
	Size  int64 // bytes
	Label string
	ID    uint32
	Epoch int64 // the time of all files, seconds since 1970
}

// fatNode is a file or a folder.
type fatNode struct {
	name     string
	file     *FATFile // nil for a folder
	marks    byte
	children []*fatNode
	parent   *fatNode
	first    uint32 // cluster
	clusters uint32
	text     []byte // of a folder
}

// fat is a file system while it is planned and written.
type fat struct {
	o       FATOptions
	root    *fatNode
	order   []*fatNode // by first cluster
	cluster int64      // bytes
	count   uint32     // of clusters
	length  int64      // sectors of a table
	next    uint32
}

// FAT lays out a FAT32 file system with files, and the folders above them.
func FAT(files []FATFile, o FATOptions) (Volume, error) {
	f := &fat{o: o, root: &fatNode{}, cluster: 4096, next: 2}
	for f.cluster > sector && o.Size/f.cluster < fatLeast+1024 {
		f.cluster /= 2
	}
	sectors := o.Size / sector
	per := f.cluster / sector
	for f.length = 1; f.length*(sector/4) < (sectors-fatReserved-2*f.length)/per+2; f.length++ {
	}
	f.count = uint32(max(0, (sectors-fatReserved-2*f.length)/per))
	if f.count < fatLeast {
		return nil, fmt.Errorf("a FAT32 file system needs at least 33 MiB, and %d MiB were given", o.Size>>20)
	}
	for i := range files {
		if err := f.add(&files[i]); err != nil {
			return nil, err
		}
	}
	if err := f.place(f.root); err != nil {
		return nil, err
	}
	if f.next-2 > f.count {
		return nil, &SizeError{Size: o.Size, Needed: o.Size + int64(f.next-2-f.count)*f.cluster}
	}
	return f, nil
}

// fatHolds says whether FAT can hold a name (FAT: General Overview, Long Directory Entries): no control characters, none that have a
// meaning, and readers drop dots and blanks at the end.
func fatHolds(name string) bool {
	return name != "" && len(name) <= 200 && utf8.ValidString(name) && !strings.ContainsAny(name, "\\:*?\"<>|") &&
		strings.TrimRight(name, ". ") == name && strings.IndexFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f }) < 0
}

func (f *fat) add(file *FATFile) error {
	at := f.root
	names := strings.Split(path.Clean(file.Path), "/")
	for i, name := range names {
		if !fatHolds(name) {
			return fmt.Errorf("%q has a name that FAT cannot hold", file.Path)
		}
		j := slices.IndexFunc(at.children, func(n *fatNode) bool { return strings.EqualFold(n.name, name) })
		last := i == len(names)-1
		switch {
		case j >= 0 && last && file.Dir && at.children[j].file == nil:
			at.children[j].marks = file.Marks
		case j >= 0 && (last || at.children[j].file != nil):
			return fmt.Errorf("%s: FAT has no two files of this name, however it is written", file.Path)
		case j >= 0:
			at = at.children[j]
		default:
			n := &fatNode{name: name, parent: at}
			if last {
				n.marks = file.Marks
			}
			if last && !file.Dir {
				n.file = file
			}
			at.children = append(at.children, n)
			at = n
		}
	}
	return nil
}

// place gives a folder and what is in it their clusters.
func (f *fat) place(n *fatNode) error {
	size := n.length()
	if n.file == nil {
		entries := 2 // "." and "..", or the label
		for _, c := range n.children {
			entries += 1 + (len(utf16.Encode([]rune(c.name)))+12)/13
		}
		size = int64(entries) * fatEntry
	} else if size > 1<<32-1 {
		return fmt.Errorf("%s has %d MiB, more than FAT holds in a file (4 GiB)", n.file.Path, size>>20)
	}
	if n.clusters = uint32((size + f.cluster - 1) / f.cluster); n.clusters > 0 {
		n.first = f.next
		f.order = append(f.order, n)
		f.next += n.clusters
	}
	for _, c := range n.children {
		if err := f.place(c); err != nil {
			return err
		}
	}
	if n.file == nil {
		n.text = f.entries(n)
	}
	return nil
}

// length is the bytes of a file.
func (n *fatNode) length() int64 {
	if n.file == nil {
		return 0
	}
	if n.file.Source == "" {
		return int64(len(n.file.Text))
	}
	return n.file.Size
}

// entries are the names in a folder.
func (f *fat) entries(n *fatNode) []byte {
	var b []byte
	used := map[[11]byte]bool{}
	if n == f.root {
		b = append(b, f.entry(label(f.o.Label), fatVolume, 0, 0)...)
	} else {
		b = append(b, f.entry(label("."), fatDir, n.first, 0)...)
		up := n.parent.first
		if n.parent == f.root {
			up = 0
		}
		b = append(b, f.entry(label(".."), fatDir, up, 0)...)
	}
	for _, c := range n.children {
		short := shortName(c.name, used)
		b = append(b, longNames(c.name, short)...)
		kind := byte(fatArchive)
		if c.file == nil {
			kind = fatDir
		}
		b = append(b, f.entry(short, kind|c.marks, c.first, uint32(c.length()))...)
	}
	return b
}

func label(text string) (b [11]byte) {
	copy(b[:], "           ")
	copy(b[:], strings.ToUpper(text))
	return b
}

func (f *fat) entry(name [11]byte, kind byte, first, size uint32) []byte {
	b := make([]byte, fatEntry)
	copy(b, name[:])
	b[11] = kind
	date, clock := fatTime(f.o.Epoch)
	le.PutUint16(b[14:], clock)
	le.PutUint16(b[16:], date)
	le.PutUint16(b[18:], date)
	le.PutUint16(b[20:], uint16(first>>16))
	le.PutUint16(b[22:], clock)
	le.PutUint16(b[24:], date)
	le.PutUint16(b[26:], uint16(first))
	le.PutUint32(b[28:], size)
	return b
}

// shortName is the 8.3 name of a file: its own in capitals where it fits, else one with a number.
func shortName(name string, used map[[11]byte]bool) (short [11]byte) {
	clean := func(s string, most int) string {
		s = strings.Map(func(r rune) rune {
			if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("$%'-_@~`!(){}^#&", r) {
				return r
			}
			return '_'
		}, strings.ToUpper(strings.ReplaceAll(s, ".", "")))
		return s[:min(len(s), most)]
	}
	stem, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		stem, ext = name[:i], name[i+1:]
	}
	fits := len(stem) <= 8 && len(ext) <= 3 && clean(stem, 8)+clean(ext, 3) == strings.ToUpper(stem+ext)
	for i := 0; ; i++ {
		short = label("")
		base := clean(stem, 8)
		if i > 0 || !fits {
			tail := fmt.Sprintf("~%d", max(i, 1))
			base = base[:min(len(base), 8-len(tail))] + tail
		}
		copy(short[:], base)
		copy(short[8:], clean(ext, 3))
		if !used[short] {
			used[short] = true
			return short
		}
	}
}

// longNames are the entries before a file's own that hold its name as it is written.
func longNames(name string, short [11]byte) []byte {
	sum := byte(0)
	for _, c := range short {
		sum = sum>>1 | sum<<7
		sum += c
	}
	units := utf16.Encode([]rune(name))
	parts := (len(units) + 12) / 13
	var b []byte
	for part := parts; part > 0; part-- {
		e := make([]byte, fatEntry)
		e[0] = byte(part)
		if part == parts {
			e[0] |= 0x40
		}
		e[11], e[13] = fatLong, sum
		for i, at := range []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
			unit := uint16(0xffff)
			switch j := (part-1)*13 + i; {
			case j < len(units):
				unit = units[j]
			case j == len(units):
				unit = 0
			}
			le.PutUint16(e[at:], unit)
		}
		b = append(b, e...)
	}
	return b
}

func (f *fat) Size() int64 { return f.o.Size / sector * sector }

// data is where the clusters begin.
func (f *fat) data() int64 { return (fatReserved + 2*f.length) * sector }

func (f *fat) Extents() []Extent {
	table := roundUp(int64(f.next)*4, sector)
	used := int64(f.next-2) * f.cluster
	return []Extent{{0, 8 * sector}, {fatReserved * sector, table}, {(fatReserved + f.length) * sector, table}, {f.data(), used}}
}

func (f *fat) Write(ctx context.Context, out Output) error {
	if err := writeAll(out, f.front()); err != nil {
		return err
	}
	table := f.table()
	for range 2 {
		if err := writeAll(out, table); err != nil {
			return err
		}
		if err := out.Zero(f.length*sector - int64(len(table))); err != nil {
			return err
		}
	}
	for _, n := range f.order {
		done, err := n.write(ctx, out)
		if err == nil {
			err = out.Zero(int64(n.clusters)*f.cluster - done)
		}
		if err != nil {
			return err
		}
	}
	return out.Zero(f.Size() - f.data() - int64(f.next-2)*f.cluster)
}

func (n *fatNode) write(ctx context.Context, out Output) (int64, error) {
	if n.file == nil || n.file.Source == "" {
		text := n.text
		if n.file != nil {
			text = n.file.Text
		}
		_, err := out.Write(text)
		return int64(len(text)), err
	}
	in, err := os.Open(n.file.Source)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	done, err := io.Copy(struct{ io.Writer }{out}, &interruptible{ctx, io.LimitReader(in, n.file.Size)})
	if err == nil && done != n.file.Size {
		err = fmt.Errorf("%s changed while it was read: %d bytes missing", n.file.Path, n.file.Size-done)
	}
	return done, err
}

// front is the reserved sectors: the boot sector and the free count, and their copies.
func (f *fat) front() []byte {
	b := make([]byte, fatReserved*sector)
	boot := b[:sector]
	copy(boot, "\xeb\x58\x90MSWIN4.1")
	le.PutUint16(boot[11:], sector)
	boot[13] = byte(f.cluster / sector)
	le.PutUint16(boot[14:], fatReserved)
	boot[16] = 2
	boot[21] = 0xf8
	le.PutUint16(boot[24:], 63)
	le.PutUint16(boot[26:], 255)
	le.PutUint32(boot[32:], uint32(f.o.Size/sector))
	le.PutUint32(boot[36:], uint32(f.length))
	le.PutUint32(boot[44:], f.root.first)
	le.PutUint16(boot[48:], 1)
	le.PutUint16(boot[50:], 6)
	boot[64], boot[66] = 0x80, 0x29
	le.PutUint32(boot[67:], f.o.ID)
	name := label(f.o.Label)
	copy(boot[71:], name[:])
	copy(boot[82:], "FAT32   ")
	boot[510], boot[511] = 0x55, 0xaa
	info := b[sector : 2*sector]
	le.PutUint32(info[0:], 0x41615252)
	le.PutUint32(info[484:], 0x61417272)
	le.PutUint32(info[488:], f.count-(f.next-2))
	le.PutUint32(info[492:], f.next)
	le.PutUint32(info[508:], 0xaa550000)
	b[3*sector-2], b[3*sector-1] = 0x55, 0xaa
	copy(b[6*sector:], bytes.Clone(b[:3*sector]))
	return b
}

// table says for each cluster in use which one follows.
func (f *fat) table() []byte {
	b := make([]byte, roundUp(int64(f.next)*4, sector))
	le.PutUint32(b[0:], 0x0ffffff8)
	le.PutUint32(b[4:], fatEnd)
	for _, n := range f.order {
		for i := range n.clusters {
			next := n.first + i + 1
			if i == n.clusters-1 {
				next = fatEnd
			}
			le.PutUint32(b[4*(n.first+i):], next)
		}
	}
	return b
}

// fatTime is a time as FAT keeps it: a date and a clock of two seconds.
func fatTime(epoch int64) (date, clock uint16) {
	t := time.Unix(epoch, 0).UTC()
	if t.Year() < fatYears {
		return 1<<5 | 1, 0
	}
	return uint16(min(t.Year()-fatYears, 127))<<9 | uint16(t.Month())<<5 | uint16(t.Day()),
		uint16(t.Hour())<<11 | uint16(t.Minute())<<5 | uint16(t.Second()/2)
}
