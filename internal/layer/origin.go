package layer

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// When an overlay copies a file from below, it notes which one it was, where no process in it can
// write: an attribute with a file handle (Linux, fs/overlayfs/overlayfs.h, struct ovl_fb: version,
// magic, length, flags, type of the handle, 16 bytes of the file system's id, handle).
const (
	originMark  = overlayMarks + "origin"
	originMagic = 0xfb
	originType  = 4 // where the handle's type stands
	originSize  = 21
)

// originOf is the mark of copies of a file.
func originOf(file string) ([]byte, error) {
	h, _, err := unix.NameToHandleAt(unix.AT_FDCWD, file, 0)
	if err != nil {
		return nil, &os.PathError{Op: "identify", Path: file, Err: err}
	}
	size := originSize + h.Size()
	if h.Type() < 0 || h.Type() > 254 || size > 255 {
		return nil, errors.ErrUnsupported
	}
	mark := make([]byte, originSize, size)
	mark[1], mark[2], mark[originType] = originMagic, byte(size), byte(h.Type())
	return append(mark, h.Bytes()...), nil
}

// originKey is the part of a mark that names the file, "" if it is none.
func originKey(mark []byte) string {
	if len(mark) <= originSize || mark[1] != originMagic {
		return ""
	}
	return string(mark[originType:originType+1]) + string(mark[originSize:])
}

// origins knows which files of the layers below were copied. It looks only at those of which more
// is known than the disk holds, since for others it does not matter.
type origins struct {
	upper   *Upper
	special map[string]*Node // by key; nil until a file was moved
	blind   bool             // the file system cannot tell
	checked bool
}

// telling says whether this file system identifies files.
func (o *origins) telling() bool {
	if !o.checked {
		_, err := originOf(o.upper.Dir)
		o.blind, o.checked = err != nil, true
	}
	return !o.blind
}

// of is the node that a file, link or pipe of the upper folder is or was copied from; nil if it is
// new, or if nothing is known of that one that the copy does not show. below is what the layers
// below have of its name.
func (o *origins) of(f *found, below *Node) *Node {
	switch {
	case f.Kind == Dir:
		if below != nil && below.Kind == Dir && !f.Opaque {
			return below
		}
		return nil
	case f.Kind != File: // these carry no mark; the kernel copies them with their times
		if below != nil && o.alike(f, below) {
			return below
		}
		if o.upper.clock(f.modified) {
			return nil // made by the stage
		}
		return o.specials()[looks(f.Kind, f.modified, f.Link)]
	case f.origin == "" && o.telling():
		return nil
	case f.origin == "": // all that is left is the name
		if below != nil && below.Kind == File {
			return below
		}
		return nil
	}
	if below != nil && below.Kind == File {
		if mark, err := originOf(o.upper.Below(below)); err == nil && originKey(mark) == f.origin {
			return below
		}
	}
	return o.specials()[f.origin]
}

// alike says whether a link or pipe can be one of below.
func (o *origins) alike(f *found, n *Node) bool {
	return n.Kind == f.Kind && n.Link == f.Link && n.MTime == f.modified
}

// looks is the key of a link or pipe.
func looks(kind Kind, time int64, target string) string {
	return fmt.Sprintf("%s %d %s", kind, time, target)
}

// specials are the files, links and pipes below of which the disk does not hold all, by key. Of links
// that look the same, all must belong to the same owners.
func (o *origins) specials() map[string]*Node {
	if o.special != nil {
		return o.special
	}
	o.special = map[string]*Node{}
	for _, n := range o.upper.Lower.nodes {
		held := o.upper.Owners.holds(&n.Entry)
		switch {
		case n.Kind == File && (!held || len(n.Xattrs) > 0):
			if mark, err := originOf(o.upper.Below(n)); err == nil {
				o.special[originKey(mark)] = n
			}
		case (n.Kind == Symlink || n.Kind == Fifo) && !held:
			key := looks(n.Kind, n.MTime, n.Link)
			if other, ok := o.special[key]; ok && (other == nil || other.UID != n.UID || other.GID != n.GID) {
				n = nil
			}
			o.special[key] = n
		}
	}
	return o.special
}
