package reading

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/layer"
)

// Rooted is a file system whose names can be read one after the other.
type Rooted interface {
	// Walk gives each name below the root as an archive would have it (POSIX.1-2001), a folder before what it holds, below a folder "at".
	// The root itself is given as "at" too. What is answered with errHidden is not there, with all that is below it.
	Walk(at string, give func(h *tar.Header, content io.Reader) error) error
	// ReadFile is a file's content, of at most so many bytes; nil if there is no such file.
	ReadFile(name string, most int64) ([]byte, error)
}

var errHidden = errors.New("another file system hides it")

// Bounds of a file system.
const (
	mostNames = 100_000 // of a file system, beside 8 for each inode
	mostDepth = 200
	mostSize  = 64 << 30 // of one file, with its holes
)

const rootInode = 2

// Walk is Rooted.
func (fs *Ext4) Walk(at string, give func(*tar.Header, io.Reader) error) error {
	w := &ext4Walk{fs: fs, give: give, first: map[uint32]string{}, folders: map[uint32]bool{}}
	root, err := fs.inode(rootInode)
	if err != nil {
		return err
	}
	if root.links() == 0 {
		return damaged("its root is deleted")
	}
	if err := w.folder(root, at, 0); err != errHidden {
		return err
	}
	return nil
}

type ext4Walk struct {
	fs      *Ext4
	give    func(*tar.Header, io.Reader) error
	first   map[uint32]string // name of a file that has several
	folders map[uint32]bool   // that were seen: a tree has each once
	names   int
	bytes   int64 // of all files, with their holes
}

func (w *ext4Walk) folder(n *inode, name string, depth int) error {
	if n.kind() != unix.S_IFDIR {
		return damaged("inode %d is no folder", n.number)
	}
	if w.folders[n.number] || depth > mostDepth {
		return damaged("folder /%s holds itself, or is too deep", name)
	}
	w.folders[n.number] = true
	h, err := w.header(n, name)
	if err != nil {
		return err
	}
	h.Typeflag = tar.TypeDir
	if err := w.give(h, nil); err != nil {
		return err
	}
	list, err := w.fs.list(n)
	if err != nil {
		return fmt.Errorf("/%s: %w", name, err)
	}
	for _, e := range list {
		if w.names++; w.names > w.fs.mostNames() {
			return damaged("it has more than %d names", w.fs.mostNames())
		}
		child, err := w.fs.inode(e.inode)
		if err != nil {
			return fmt.Errorf("/%s: %w", path.Join(name, e.name), err)
		}
		if depth == 0 && e.name == "lost+found" && child.kind() == unix.S_IFDIR {
			continue // of the file system, and not of the tree
		}
		below := path.Join(name, e.name)
		if child.links() == 0 {
			return damaged("/%s is inode %d, which is deleted", below, e.inode)
		}
		if child.kind() == unix.S_IFDIR {
			err = w.folder(child, below, depth+1)
		} else {
			err = w.file(child, below)
		}
		if err != nil && err != errHidden {
			return err
		}
	}
	return nil
}

func (fs *Ext4) mostNames() int { return mostNames + 8*int(fs.inodes) }

// header is what an archive says of an inode.
func (w *ext4Walk) header(n *inode, name string) (*tar.Header, error) {
	h := &tar.Header{Name: name, Mode: int64(n.mode() & 0o7777), Uid: int(n.uid()), Gid: int(n.gid()), ModTime: time.Unix(n.mtime(), 0),
		PAXRecords: map[string]string{}}
	attributes, err := w.fs.attributes(n)
	if err != nil {
		return nil, fmt.Errorf("/%s: %w", name, err)
	}
	for key, value := range attributes {
		if k := n.kind(); strings.HasPrefix(key, "user.") && k != unix.S_IFREG && k != unix.S_IFDIR {
			continue // nobody sees these (xattr(7))
		}
		h.PAXRecords[layer.AttributeKey(key)] = string(value)
	}
	return h, nil
}

func (w *ext4Walk) file(n *inode, name string) error {
	if first := w.first[n.number]; first != "" {
		return w.give(&tar.Header{Name: name, Typeflag: tar.TypeLink, Linkname: first}, nil)
	}
	if n.flags()&flagEncrypted != 0 {
		return fmt.Errorf("/%s is encrypted (fscrypt); a base needs plain files", name)
	}
	h, err := w.header(n, name)
	if err != nil {
		return err
	}
	var content io.Reader
	switch n.kind() {
	case unix.S_IFREG:
		h.Typeflag, h.Size = tar.TypeReg, n.size()
		if w.bytes += max(h.Size, 0); h.Size < 0 || h.Size > mostSize || w.bytes > 4*w.fs.disk.Size()+mostSize {
			return damaged("/%s claims %d bytes", name, h.Size)
		}
		if content, err = w.fs.open(n); err != nil {
			return fmt.Errorf("/%s: %w", name, err)
		}
	case unix.S_IFLNK:
		h.Typeflag = tar.TypeSymlink
		if h.Linkname, err = w.fs.target(n); err != nil {
			return fmt.Errorf("/%s: %w", name, err)
		}
	case unix.S_IFCHR, unix.S_IFBLK:
		h.Typeflag = tar.TypeChar
		if n.kind() == unix.S_IFBLK {
			h.Typeflag = tar.TypeBlock
		}
		if old := le.Uint32(n.raw[40:]); old != 0 { // 8 bits each
			h.Devmajor, h.Devminor = int64(old>>8&0xff), int64(old&0xff)
		} else {
			wide := le.Uint32(n.raw[44:])
			h.Devmajor, h.Devminor = int64(wide>>8&0xfff), int64(wide&0xff|wide>>12&0xfff00)
		}
	case unix.S_IFIFO:
		h.Typeflag = tar.TypeFifo
	case unix.S_IFSOCK:
		return nil // of a process that is gone
	default:
		return damaged("/%s is of no kind that is known", name)
	}
	if err = w.give(h, content); err == nil && n.links() > 1 && n.kind() == unix.S_IFREG {
		w.first[n.number] = name
	}
	return err
}

// open is a file's content, holes as zeros.
func (fs *Ext4) open(n *inode) (io.Reader, error) {
	if n.flags()&flagInline != 0 {
		text, err := fs.inline(n)
		if err == nil && int64(len(text)) < n.size() {
			err = damaged("inode %d holds %d bytes of %d", n.number, len(text), n.size())
		}
		if err != nil {
			return nil, err
		}
		return bytes.NewReader(text[:n.size()]), nil
	}
	runs, err := fs.runs(n)
	return &content{fs: fs, runs: runs, size: n.size()}, err
}

// content reads a file from front to back.
type content struct {
	fs   *Ext4
	runs []run
	size int64
	at   int64
}

func (c *content) Read(p []byte) (int, error) {
	if c.at >= c.size {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), c.size-c.at)]
	block := c.fs.block
	for len(c.runs) > 0 && c.at >= (c.runs[0].logical+c.runs[0].count)*block {
		c.runs = c.runs[1:]
	}
	end := c.size // of what is alike
	from := int64(0)
	if len(c.runs) > 0 {
		if r := c.runs[0]; c.at < r.logical*block {
			end = r.logical * block
		} else {
			end = (r.logical + r.count) * block
			if r.at > 0 {
				from = r.at*block + c.at - r.logical*block
			}
		}
	}
	p = p[:min(int64(len(p)), end-c.at)]
	c.at += int64(len(p))
	if from == 0 {
		clear(p)
		return len(p), nil
	}
	return len(p), c.fs.data(p, from)
}

// data reads a part of the disk, in which blocks may be newer in the journal: those of a file only where it is written there too.
func (fs *Ext4) data(p []byte, at int64) error {
	if len(fs.replayed) == 0 {
		return readFull(fs.disk, p, at, "a file")
	}
	for n := 0; n < len(p); {
		number, from := (at+int64(n))/fs.block, (at+int64(n))%fs.block
		part := p[n:min(len(p), n+int(fs.block-from))]
		if _, ok := fs.replayed[number]; ok {
			b := make([]byte, fs.block)
			if err := fs.read(number, b); err != nil {
				return err
			}
			copy(part, b[from:])
		} else if err := readFull(fs.disk, part, at+int64(n), "a file"); err != nil {
			return err
		}
		n += len(part)
	}
	return nil
}

// target is where a symbolic link leads.
func (fs *Ext4) target(n *inode) (string, error) {
	if n.size() <= 0 || n.size() > 4095 {
		return "", damaged("its target has %d bytes", n.size())
	}
	if n.flags()&(flagInline|flagExtents) == 0 && n.size() < 60 {
		return string(n.raw[40 : 40+n.size()]), nil
	}
	r, err := fs.open(n)
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(r)
	if err == nil && (n.size() >= fs.block || bytes.IndexByte(text, 0) >= 0) {
		err = damaged("its target is none")
	}
	return string(text), err
}

// named is a name in a folder.
type named struct {
	name  string
	inode uint32
}

// list reads a folder. Its index, if it has one, lies in what looks like unused names.
func (fs *Ext4) list(n *inode) (list []named, err error) {
	take := func(b []byte) error {
		for at := 0; at+8 <= len(b); {
			number, size, length := le.Uint32(b[at:]), int(le.Uint16(b[at+4:])), int(b[at+6])
			if size == 0xffff || (size == 0 && len(b) == 1<<16) {
				size = 1 << 16
			}
			rest := len(b) - at - size
			if size < 12 || size%4 != 0 || rest < 0 || (rest > 0 && rest < 12) || (number != 0 && (length == 0 || 8+length > size)) {
				return damaged("a name at byte %d of a folder is none", at)
			}
			if name := string(b[at+8 : at+8+min(length, size-8)]); number != 0 && name != "." && name != ".." {
				if bytes.ContainsAny([]byte(name), "/\x00") {
					return damaged("a folder holds the name %q", name)
				}
				list = append(list, named{name, number})
			}
			at += size
		}
		return fs.worked(int64(len(b)) / 8)
	}
	if n.flags()&flagInline != 0 {
		text, err := fs.inline(n)
		if err != nil {
			return nil, err
		}
		// The first four bytes are the parent; what is in an attribute stands by itself.
		head := min(60, len(text))
		if err := take(text[4:head]); err != nil || head == len(text) {
			return list, err
		}
		return list, take(text[head:])
	}
	runs, err := fs.runs(n)
	if err != nil {
		return nil, err
	}
	next, end := int64(0), (n.size()+fs.block-1)/fs.block
	for _, r := range runs {
		for i := range r.count {
			if r.logical+i >= end {
				break
			}
			if next++; r.at == 0 || r.logical+i >= next {
				return nil, damaged("a folder has a hole")
			}
			b := make([]byte, fs.block)
			if err := fs.read(r.at+i, b); err != nil {
				return nil, err
			}
			// Blocks of an index have theirs elsewhere, and are not needed.
			index := n.flags()&flagIndex != 0 && (r.logical+i == 0 || int(le.Uint16(b[4:])) == len(b))
			if tail := b[len(b)-12:]; fs.sums && !index && string(tail[:8]) == "\x00\x00\x00\x00\x0c\x00\x00\xde" &&
				crc(fs.seed, le.AppendUint32(nil, n.number), n.raw[100:104], b[:len(b)-12]) != le.Uint32(tail[8:]) {
				return nil, damaged("the checksum of a block of a folder is another one")
			}
			if err := take(b); err != nil {
				return nil, err
			}
			if len(list) > fs.mostNames() {
				return nil, damaged("a folder has more than %d names", fs.mostNames())
			}
		}
	}
	if next < end {
		return nil, damaged("a folder has a hole")
	}
	return list, nil
}

// ReadFile is Rooted.
func (fs *Ext4) ReadFile(name string, most int64) ([]byte, error) {
	n, err := fs.inode(rootInode)
	if err != nil {
		return nil, err
	}
	for _, part := range splitPath(name) {
		if n.kind() != unix.S_IFDIR {
			return nil, nil
		}
		list, err := fs.list(n)
		if err != nil {
			return nil, err
		}
		found := uint32(0)
		for _, e := range list {
			if e.name == part {
				found = e.inode
			}
		}
		if found == 0 {
			return nil, nil
		}
		if n, err = fs.inode(found); err != nil {
			return nil, err
		}
	}
	if n.kind() != unix.S_IFREG {
		return nil, nil
	}
	if n.size() > most {
		return nil, fmt.Errorf("/%s has %d bytes, which is more than it should", name, n.size())
	}
	r, err := fs.open(n)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

func splitPath(name string) (parts []string) {
	for dir, base := path.Split(path.Clean("/" + name)); base != ""; dir, base = path.Split(path.Clean(dir)) {
		parts = append([]string{base}, parts...)
	}
	return parts
}
