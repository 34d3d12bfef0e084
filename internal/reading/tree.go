package reading

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"path"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/layer"
)

// Rooted is a file system whose names can be read one after the other.
type Rooted interface {
	// Walk gives each name below the root as an archive would have it (POSIX.1-2001), a folder before what it holds, below a folder "at".
	// The root itself is given as "at" too.
	Walk(at string, give func(h *tar.Header, content io.Reader) error) error
	// ReadFile is a file's content, of at most so many bytes; nil if there is no such file.
	ReadFile(name string, most int64) ([]byte, error)
}

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
	return w.folder(root, at, 0)
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
		if depth == 0 && e.name == "lost+found" {
			continue // of the file system, and not of the tree
		}
		if w.names++; w.names > w.fs.mostNames() {
			return damaged("it has more than %d names", w.fs.mostNames())
		}
		child, err := w.fs.inode(e.inode)
		if err != nil {
			return fmt.Errorf("/%s: %w", path.Join(name, e.name), err)
		}
		below := path.Join(name, e.name)
		if child.kind() == unix.S_IFDIR {
			err = w.folder(child, below, depth+1)
		} else {
			err = w.file(child, below)
		}
		if err != nil {
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
	if n.links() > 1 && n.kind() == unix.S_IFREG {
		w.first[n.number] = name
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
	return w.give(h, content)
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
			if size < 8 || size%4 != 0 || at+size > len(b) || (number != 0 && (length == 0 || 8+length > size)) {
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
	left := (n.size() + fs.block - 1) / fs.block
	for _, r := range runs {
		for i := range r.count {
			if r.logical+i >= left {
				return list, nil
			}
			if r.at == 0 {
				return nil, damaged("a folder has a hole")
			}
			b := make([]byte, fs.block)
			if err := fs.read(r.at+i, b); err != nil {
				return nil, err
			}
			if err := take(b); err != nil {
				return nil, err
			}
			if len(list) > fs.mostNames() {
				return nil, damaged("a folder has more than %d names", fs.mostNames())
			}
		}
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

// Prefixes of names of extended attributes, by their number (Linux, fs/ext4/xattr.h).
var prefixes = map[byte]string{0: "", 1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default", 4: "trusted.",
	6: "security.", 7: "system."}

const attributeMagic = 0xea020000

// attributes reads an inode's extended attributes: those in it, and those in a block of their own.
func (fs *Ext4) attributes(n *inode) (map[string][]byte, error) {
	found := map[string][]byte{}
	if at := 128 + n.extra(); at+4 <= len(n.raw) && n.extra() > 0 && le.Uint32(n.raw[at:]) == attributeMagic {
		if err := fs.entries(n.raw[at+4:], n.raw[at+4:], found); err != nil {
			return nil, err
		}
	}
	block := int64(le.Uint32(n.raw[104:]))
	if fs.incompat&incompat64bit != 0 {
		block |= int64(le.Uint16(n.raw[118:])) << 32
	}
	if block != 0 {
		b, err := fs.meta(block)
		if err != nil {
			return nil, err
		}
		if le.Uint32(b) != attributeMagic {
			return nil, damaged("the block of its attributes is none")
		}
		if err := fs.entries(b[32:], b, found); err != nil {
			return nil, err
		}
	}
	delete(found, "system.data") // what an inode holds of its own content
	return found, nil
}

// entries reads attributes whose values lie in a text.
func (fs *Ext4) entries(b, values []byte, found map[string][]byte) error {
	for len(b) >= 4 && le.Uint32(b) != 0 {
		if len(b) < 16 {
			return damaged("an attribute is cut short")
		}
		length, index, offset, inum, size := int(b[0]), b[1], int(le.Uint16(b[2:])), le.Uint32(b[4:]), int(le.Uint32(b[8:]))
		prefix, known := prefixes[index]
		if 16+length > len(b) || size > 1<<16 || size < 0 {
			return damaged("an attribute has a name of %d bytes, a value of %d", length, size)
		}
		name := prefix + string(b[16:16+length])
		var value []byte
		switch {
		case inum != 0:
			n, err := fs.inode(inum)
			if err != nil {
				return err
			}
			if n.flags()&flagEAInode == 0 || n.size() != int64(size) {
				return damaged("the value of an attribute is none")
			}
			r, err := fs.open(n)
			if err != nil {
				return err
			}
			if value, err = io.ReadAll(r); err != nil {
				return err
			}
		case offset > len(values) || size > len(values)-offset:
			return damaged("the value of an attribute lies outside")
		default:
			value = bytes.Clone(values[offset : offset+size])
		}
		if index == 2 || index == 3 {
			var err error
			if value, err = plainACL(value); err != nil {
				return err
			}
		}
		if known {
			found[name] = value
		}
		if (16+length+3)/4*4 > len(b) {
			break
		}
		b = b[(16+length+3)/4*4:]
	}
	return nil
}

// plainACL turns an ACL of ext4's form (version 1) into that of extended attributes (version 2, 8 bytes an entry).
func plainACL(value []byte) ([]byte, error) {
	if len(value) < 4 || le.Uint32(value) != 1 {
		return nil, damaged("an ACL is none")
	}
	out := le.AppendUint32(nil, 2)
	for b := value[4:]; len(b) > 0; {
		if len(b) < 4 {
			return nil, damaged("an ACL is cut short")
		}
		out = append(out, b[:4]...)
		if tag := le.Uint16(b); tag == 0x02 || tag == 0x08 { // a named user or group
			if len(b) < 8 {
				return nil, damaged("an ACL is cut short")
			}
			out, b = append(out, b[4:8]...), b[8:]
		} else {
			out, b = le.AppendUint32(out, 1<<32-1), b[4:]
		}
	}
	return out, nil
}

// inline is content that lies in the inode: 60 bytes, and what an attribute holds.
func (fs *Ext4) inline(n *inode) ([]byte, error) {
	text := bytes.Clone(n.raw[40:100])
	at := 128 + n.extra()
	if at+4 > len(n.raw) || n.extra() == 0 || le.Uint32(n.raw[at:]) != attributeMagic {
		return nil, damaged("inode %d is to hold its content, and has no room for it", n.number)
	}
	found := map[string][]byte{}
	if err := fs.entries(n.raw[at+4:], n.raw[at+4:], found); err != nil {
		return nil, err
	}
	return append(text, found["system.data"]...), nil
}
