package layer

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Layout of a tar header block (POSIX.1-2001, pax, "ustar Interchange Format").
const (
	tarBlock  = 512
	offName   = 0
	offMode   = 100
	offUID    = 108
	offGID    = 116
	offSize   = 124
	offMTime  = 136
	offSum    = 148
	offType   = 156
	offLink   = 157
	offMagic  = 257
	offMajor  = 329
	offMinor  = 337
	lenName   = 100
	maxOctal8 = 0o7777777
	maxOctal  = 0o77777777777
)

// TarWriter writes a tree as a tar stream in pax form: the same nodes give the same bytes.
// Sparse files are written as GNU sparse members, version 1.0 (GNU tar manual, "PAX Format,
// Version 1.0"). The caller gives the nodes in order and calls Close.
type TarWriter struct {
	out *bufio.Writer
	buf []byte
}

// NewTarWriter writes to w.
func NewTarWriter(w io.Writer) *TarWriter {
	return &TarWriter{out: bufio.NewWriterSize(w, 1<<18), buf: make([]byte, 1<<18)}
}

// Close ends the archive with two zero blocks.
func (t *TarWriter) Close() error {
	if _, err := t.out.Write(make([]byte, 2*tarBlock)); err != nil {
		return err
	}
	return t.out.Flush()
}

// Add writes one node; full is the file that holds its content.
func (t *TarWriter) Add(ctx context.Context, n *Node, full string) error {
	if n.Kind != File || n.Same != "" || n.Size == 0 {
		return t.header(n, nil, 0)
	}
	file, err := os.Open(full)
	if err != nil {
		return err
	}
	defer file.Close()
	if n.Data == nil {
		if err := t.header(n, nil, n.Size); err != nil {
			return err
		}
		return t.copy(ctx, file, n, []Segment{{0, n.Size}})
	}
	table := sparseMap(n.Data, n.Size)
	stored := int64(len(table))
	for _, s := range n.Data {
		stored += s.Length
	}
	if err := t.header(n, table, stored); err != nil {
		return err
	}
	if _, err := t.out.Write(table); err != nil {
		return err
	}
	return t.copy(ctx, file, n, n.Data)
}

func (t *TarWriter) copy(ctx context.Context, file *os.File, n *Node, segments []Segment) error {
	var stored int64
	for _, s := range segments {
		section := io.NewSectionReader(file, s.Offset, s.Length)
		done, err := io.CopyBuffer(struct{ io.Writer }{t.out}, &interruptible{ctx, section}, t.buf)
		if err != nil {
			return err
		}
		if done != s.Length {
			return fmt.Errorf("%s changed while it was read: %d bytes missing", n.Path, s.Length-done)
		}
		stored += done
	}
	return t.pad(stored)
}

func (t *TarWriter) pad(size int64) error {
	if rest := size % tarBlock; rest != 0 {
		_, err := t.out.Write(make([]byte, tarBlock-rest))
		return err
	}
	return nil
}

// sparseMap is the list of segments in front of a sparse member's data: decimal numbers, one a
// line, first their count, padded to a block. The last one ends where the file does: an empty one, if
// the file ends in a hole.
func sparseMap(segments []Segment, size int64) []byte {
	if n := len(segments); n == 0 || segments[n-1].Offset+segments[n-1].Length < size {
		segments = append(segments[:n:n], Segment{size, 0})
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%d\n", len(segments))
	for _, s := range segments {
		fmt.Fprintf(&b, "%d\n%d\n", s.Offset, s.Length)
	}
	table := []byte(b.String())
	return append(table, make([]byte, (tarBlock-len(table)%tarBlock)%tarBlock)...)
}

var tarTypes = map[Kind]byte{Dir: '5', File: '0', Symlink: '2', Char: '3', Block: '4', Fifo: '6'}

func (t *TarWriter) header(n *Node, sparse []byte, stored int64) error {
	name, link := n.Path, n.Link
	if n.Path != "." {
		name = "./" + n.Path
	}
	if n.Kind == Dir {
		name += "/"
	}
	kind, ok := tarTypes[n.Kind]
	if !ok {
		return fmt.Errorf("%s: an entry of kind %q has no place in an archive", n.Path, n.Kind)
	}
	if n.Same != "" {
		kind, link, stored = '1', "./"+n.Same, 0
	}
	records := map[string]string{}
	if n.Same == "" {
		for attribute, value := range n.Xattrs {
			key, text := attributeRecord(attribute, value)
			records[key] = text
		}
	}
	if sparse != nil {
		records["GNU.sparse.major"], records["GNU.sparse.minor"] = "1", "0"
		records["GNU.sparse.name"] = name
		records["GNU.sparse.realsize"] = strconv.FormatInt(n.Size, 10)
	}
	h := make([]byte, tarBlock)
	text := func(at, width int, key, value string) {
		if len(value) > width || !plainASCII(value) {
			records[key] = value
		}
		copy(h[at:at+width], value)
	}
	number := func(at, width int, key string, value, most int64) {
		if value > most || value < 0 {
			records[key] = strconv.FormatInt(value, 10)
			value = 0
		}
		copy(h[at:], fmt.Sprintf("%0*o", width-1, value))
	}
	text(offName, lenName, "path", name)
	text(offLink, lenName, "linkpath", link)
	if !utf8.ValidString(name) || !utf8.ValidString(link) {
		records["hdrcharset"] = "BINARY" // names are bytes (POSIX.1-2008, pax Extended Header)
	}
	number(offMode, 8, "", int64(n.Mode), maxOctal8)
	number(offUID, 8, "uid", int64(n.UID), maxOctal8)
	number(offGID, 8, "gid", int64(n.GID), maxOctal8)
	number(offSize, 12, "size", stored, maxOctal)
	number(offMTime, 12, "mtime", n.MTime, maxOctal)
	if n.IsDevice() {
		number(offMajor, 8, "", int64(n.Major), maxOctal8)
		number(offMinor, 8, "", int64(n.Minor), maxOctal8)
	}
	h[offType] = kind
	if err := t.extended(records); err != nil {
		return err
	}
	return t.block(h)
}

// escapes are how GNU tar writes the name of an attribute, since a record's key ends at the first '='.
var escapes, unescapes = strings.NewReplacer("%", "%25", "=", "%3D"), strings.NewReplacer("%25", "%", "%3D", "=")

const attributeKey = "SCHILY.xattr."

// AttributeKey is the record's key of an extended attribute.
func AttributeKey(name string) string { return attributeKey + escapes.Replace(name) }

// attributeRecord is an extended attribute as a record of a pax header; an ACL comes in words, which
// more programs read.
func attributeRecord(name string, value []byte) (key, text string) {
	for key, attribute := range aclRecords {
		if attribute != name {
			continue
		}
		text := aclText(value)
		if again, err := parseACL(text, func(bool, string) (uint32, bool) { return 0, false }); err == nil && bytes.Equal(again, value) {
			return key, text
		}
	}
	return AttributeKey(name), string(value)
}

// extended writes a pax extended header (type x) with the records, if there are any.
func (t *TarWriter) extended(records map[string]string) error {
	if len(records) == 0 {
		return nil
	}
	var b strings.Builder
	for _, key := range sortedNames(records) {
		b.WriteString(paxRecord(key, records[key]))
	}
	h := make([]byte, tarBlock)
	copy(h[offName:], "pax")
	for _, field := range []struct{ at, width int }{{offMode, 8}, {offUID, 8}, {offGID, 8}, {offMTime, 12}} {
		copy(h[field.at:], fmt.Sprintf("%0*o", field.width-1, 0))
	}
	copy(h[offSize:], fmt.Sprintf("%011o", b.Len()))
	h[offType] = 'x'
	if err := t.block(h); err != nil {
		return err
	}
	if _, err := t.out.WriteString(b.String()); err != nil {
		return err
	}
	return t.pad(int64(b.Len()))
}

// block completes a header block with magic and checksum and writes it.
func (t *TarWriter) block(h []byte) error {
	copy(h[offMagic:], "ustar\x0000")
	copy(h[offSum:], "        ")
	sum := 0
	for _, c := range h {
		sum += int(c)
	}
	copy(h[offSum:], fmt.Sprintf("%06o\x00 ", sum))
	_, err := t.out.Write(h)
	return err
}

// paxRecord is "LENGTH KEY=VALUE\n", where the length counts itself.
func paxRecord(key, value string) string {
	size := len(key) + len(value) + 3
	size += len(strconv.Itoa(size))
	record := strconv.Itoa(size) + " " + key + "=" + value + "\n"
	if len(record) != size {
		record = strconv.Itoa(len(record)) + " " + key + "=" + value + "\n"
	}
	return record
}

func plainASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}
