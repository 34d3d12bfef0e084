// Package layer holds file trees as Zygos keeps them: a layer is an index, which
// lists every entry with its owner, mode, extended attributes and content digest,
// and a folder with the contents, which the kernel's overlay can stack as it is.
//
// The index is the truth. What the folder's file system cannot hold (device nodes,
// foreign owners without a subordinate id range) stands in the index only, and
// reappears in every artifact. The digest of a layer is the digest of its index:
// the same content has the same digest whatever the time, folder or user.
//
// The package knows nothing of definitions, builds or machines.
package layer

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"
)

// Kind is the type of an entry.
type Kind string

// The kinds of entry. A Whiteout hides the entry of that name in lower layers.
const (
	Dir      Kind = "dir"
	File     Kind = "file"
	Symlink  Kind = "symlink"
	Char     Kind = "char"
	Block    Kind = "block"
	Fifo     Kind = "fifo"
	Whiteout Kind = "whiteout"
)

// Entry is one name in a layer. Path is relative to the root, slash-separated,
// "." for the root itself; it may hold any byte but NUL.
type Entry struct {
	Path   string
	Kind   Kind
	Mode   uint32 // permission, set-id and sticky bits (07777)
	UID    uint32
	GID    uint32
	MTime  int64     // seconds since 1970, UTC
	Size   int64     // bytes, files only
	Digest string    // hex SHA-256 of the content, files only
	Data   []Segment // of a file with holes, what lies between them; nil without holes
	Link   string    // target of a symlink
	// Same is the first path, in sorted order, of the hard-link group that a file belongs to.
	// It is empty for a file with one name and for the first name of a group.
	Same   string
	Major  uint32
	Minor  uint32
	Xattrs map[string][]byte
	Opaque bool // a folder that hides everything below it in lower layers
}

// IsDevice says whether the entry is a character or block device.
func (e *Entry) IsDevice() bool { return e.Kind == Char || e.Kind == Block }

// line is the index's form of an entry: one JSON object a line, keys in this order.
type line struct {
	Path   string            `json:"path"`
	Kind   Kind              `json:"kind"`
	Mode   string            `json:"mode,omitempty"`
	UID    uint32            `json:"uid,omitempty"`
	GID    uint32            `json:"gid,omitempty"`
	MTime  int64             `json:"mtime,omitempty"`
	Size   int64             `json:"size,omitempty"`
	Digest string            `json:"sha256,omitempty"`
	Data   [][2]int64        `json:"data,omitempty"` // offset, length
	Holes  bool              `json:"holes,omitempty"`
	Link   string            `json:"link,omitempty"`
	Same   string            `json:"same,omitempty"`
	Device []uint32          `json:"device,omitempty"`
	Xattrs map[string][]byte `json:"xattrs,omitempty"`
	Opaque bool              `json:"opaque,omitempty"`
}

// Index is a layer's list of entries, sorted by path; a folder precedes what it holds.
type Index []Entry

// Sort puts the entries into the index's order: the root first, and what a folder holds directly
// after it, by bytes.
func (x Index) Sort() {
	slices.SortFunc(x, func(a, b Entry) int { return order(a.Path, b.Path) })
}

// order compares paths: a slash comes before every other byte.
func order(a, b string) int {
	if a == "." || b == "." {
		return cmp.Compare(len(strings.TrimPrefix(a, ".")), len(strings.TrimPrefix(b, ".")))
	}
	n := min(len(a), len(b))
	for i := range n {
		switch {
		case a[i] == b[i]:
		case a[i] == '/':
			return -1
		case b[i] == '/':
			return 1
		default:
			return int(a[i]) - int(b[i])
		}
	}
	return len(a) - len(b)
}

// Bytes is the sum of the files' data, without holes and each hard-link group counted once.
func (x Index) Bytes() int64 {
	var n int64
	for i := range x {
		switch {
		case x[i].Same != "":
		case x[i].Data == nil:
			n += x[i].Size
		default:
			for _, s := range x[i].Data {
				n += s.Length
			}
		}
	}
	return n
}

// Encode writes the index in its canonical form and returns the layer's digest
// as 64 hexadecimal digits.
func (x Index) Encode(w io.Writer) (string, error) {
	hash := sha256.New()
	out := bufio.NewWriterSize(io.MultiWriter(w, hash), 1<<16)
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	for i := range x {
		e := &x[i]
		l := line{Path: escape(e.Path), Kind: e.Kind, UID: e.UID, GID: e.GID, MTime: e.MTime, Size: e.Size,
			Digest: e.Digest, Link: escape(e.Link), Same: escape(e.Same), Opaque: e.Opaque}
		if e.Kind != Whiteout {
			l.Mode = fmt.Sprintf("%04o", e.Mode)
		}
		l.Holes = e.Data != nil
		for _, s := range e.Data {
			l.Data = append(l.Data, [2]int64{s.Offset, s.Length})
		}
		if e.IsDevice() {
			l.Device = []uint32{e.Major, e.Minor}
		}
		if len(e.Xattrs) > 0 {
			l.Xattrs = make(map[string][]byte, len(e.Xattrs))
			for name, value := range e.Xattrs {
				l.Xattrs[escape(name)] = value
			}
		}
		if err := enc.Encode(l); err != nil {
			return "", err
		}
	}
	if err := out.Flush(); err != nil {
		return "", err
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}

// Digest is the layer's digest: of the index in its canonical form.
func (x Index) Digest() string {
	digest, _ := x.Encode(io.Discard) // writing to nowhere cannot fail
	return digest
}

// Decode reads an index that Encode wrote.
func Decode(text []byte) (Index, error) {
	lines := bytes.SplitAfter(text, []byte("\n"))
	if last := len(lines) - 1; len(lines[last]) == 0 {
		lines = lines[:last]
	}
	if len(lines) == 0 {
		return nil, nil
	}
	x := make(Index, len(lines))
	var group errgroup.Group
	const part = 1000
	for from := 0; from < len(lines); from += part {
		group.Go(func() error {
			for i := from; i < min(from+part, len(lines)); i++ {
				if err := x[i].decode(lines[i]); err != nil {
					return fmt.Errorf("layer index, entry %d: %w", i+1, err)
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return x, nil
}

func (e *Entry) decode(text []byte) error {
	var l line
	if err := json.Unmarshal(text, &l); err != nil {
		return err
	}
	*e = Entry{Kind: l.Kind, UID: l.UID, GID: l.GID, MTime: l.MTime, Size: l.Size, Digest: l.Digest, Opaque: l.Opaque}
	var errs [4]error
	e.Path, errs[0] = unescape(l.Path)
	e.Link, errs[1] = unescape(l.Link)
	e.Same, errs[2] = unescape(l.Same)
	if l.Mode != "" {
		var mode uint64
		mode, errs[3] = strconv.ParseUint(l.Mode, 8, 32)
		e.Mode = uint32(mode)
	}
	if l.Holes {
		e.Data = make([]Segment, len(l.Data))
		for i, s := range l.Data {
			e.Data[i] = Segment{s[0], s[1]}
		}
	}
	if len(l.Device) == 2 {
		e.Major, e.Minor = l.Device[0], l.Device[1]
	}
	for name, value := range l.Xattrs {
		if name, err := unescape(name); err == nil {
			if e.Xattrs == nil {
				e.Xattrs = map[string][]byte{}
			}
			e.Xattrs[name] = value
		}
	}
	return errors.Join(errs[:]...)
}

const hexDigits = "0123456789ABCDEF"

// escape writes '%', control bytes and bytes that are not part of valid UTF-8 as %XX,
// so that any file name fits a JSON string and comes back byte for byte.
func escape(s string) string {
	clean := true
	for _, r := range s {
		if r == '%' || r < 0x20 || r == 0x7f || r == '\uFFFD' || r == '\u2028' || r == '\u2029' {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		if r >= 0x20 && r != '%' && r != 0x7f && r != '\uFFFD' && r != '\u2028' && r != '\u2029' {
			b.WriteRune(r)
			continue
		}
		width := 1
		if strings.HasPrefix(s[i:], string(r)) {
			width = len(string(r))
		}
		for _, c := range []byte(s[i : i+width]) {
			b.WriteByte('%')
			b.WriteByte(hexDigits[c>>4])
			b.WriteByte(hexDigits[c&15])
		}
	}
	return b.String()
}

func unescape(s string) (string, error) {
	if !strings.Contains(s, "%") {
		return s, nil
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b.WriteByte(s[i])
			continue
		}
		if i+2 >= len(s) {
			return "", fmt.Errorf("%q ends inside an escape", s)
		}
		c, err := hex.DecodeString(s[i+1 : i+3])
		if err != nil {
			return "", fmt.Errorf("%q: %w", s, err)
		}
		b.WriteByte(c[0])
		i += 2
	}
	return b.String(), nil
}

// sameState says whether two entries describe the same thing, times apart.
func sameState(a, b *Entry) bool {
	return a.Kind == b.Kind && a.Mode == b.Mode && a.UID == b.UID && a.GID == b.GID &&
		a.Size == b.Size && a.Digest == b.Digest && a.Link == b.Link && a.Major == b.Major && a.Minor == b.Minor &&
		maps.EqualFunc(a.Xattrs, b.Xattrs, bytes.Equal)
}

// sortedNames lists a map's keys in order, for output that must be the same each time.
func sortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
