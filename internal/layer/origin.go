package layer

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

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

// A copy that Prepare made carries a mark of ours: its number. Processes of the stage see it as little as
// they see the kernel's.
const copyMark = overlayMarks + "zygos"

// origins knows which files of the layers below were copied. It looks only at those of which more
// is known than the disk holds, since for others it does not matter.
type origins struct {
	upper   *Upper
	special map[string]*Node // by key; nil until it is asked for
}

// Of more layers an overlay stands on another, from which it marks no copies.
const marked = 500

// telling says whether the kernel marks copies: only for the host's root, and where the file system
// identifies files.
func (u *Upper) telling() bool {
	_, err := originOf(u.Dir)
	return err == nil && hostsNamespace() && u.Lower.levels <= marked
}

var hostsNamespace = sync.OnceValue(func() bool {
	text, err := os.ReadFile("/proc/self/uid_map")
	return err == nil && slices.Equal(strings.Fields(string(text)), []string{"0", "0", "4294967295"})
})

// of is the node that a file, link or pipe of the upper folder is or was copied from, by all its names;
// nil if it is new, or if nothing is known of that one that the copy does not show.
func (o *origins) of(names []*found) *Node {
	f := names[0]
	switch {
	case f.Kind == Dir:
		if f.below != nil && f.below.Kind == Dir && !f.Opaque {
			return f.below
		}
		return nil
	case f.copied != nil:
		return f.copied
	case f.origin != "":
		return o.specials()[f.origin]
	case f.Kind == File:
		return nil
	}
	// Links and pipes never carry a mark. The kernel copies them with their times and owners, and who may
	// not give files away makes none that looks like another's.
	key := looks(&f.Entry, f.UID, f.GID, f.modified)
	if f.below != nil && key == o.looksBelow(f.below) {
		return f.below
	}
	return o.specials()[key]
}

// looks tells what a link or pipe looks like on disk.
func looks(e *Entry, uid, gid uint32, time int64) string {
	return fmt.Sprintf("%s %d:%d %d %s", e.Kind, uid, gid, time, e.Link)
}

func (o *origins) looksBelow(n *Node) string {
	uid, _ := o.upper.Owners.Disk(n.UID)
	gid, _ := o.upper.Owners.Disk(n.GID)
	return looks(&n.Entry, uid, gid, n.MTime)
}

// isSpecial says whether more is known of a file below than the disk holds.
func (u *Upper) isSpecial(n *Node) bool {
	if !u.Owners.holds(&n.Entry) {
		return true
	}
	for name, value := range n.Xattrs {
		if _, held := u.Owners.diskACL(value); (name == accessACL || name == defaultACL) && !held || hostsOwn(name) ||
			!hasXattr(u.Below(n), name) {
			return true
		}
	}
	return false
}

// specials are the files, links and pipes below of which the disk does not hold all, by mark or by looks.
// Of those that look the same, all must belong to the same owners.
func (o *origins) specials() map[string]*Node {
	if o.special != nil {
		return o.special
	}
	o.special = map[string]*Node{}
	for _, n := range o.upper.Lower.nodes {
		switch {
		case n.Kind == File && o.upper.isSpecial(n):
			if mark, err := originOf(o.upper.Below(n)); err == nil {
				o.special[originKey(mark)] = n
			}
		case (n.Kind == Symlink || n.Kind == Fifo) && !o.upper.Owners.holds(&n.Entry):
			key := o.looksBelow(n)
			if had, ok := o.special[key]; ok && (had == nil || had.UID != n.UID || had.GID != n.GID) {
				n = nil
			}
			o.special[key] = n
		}
	}
	return o.special
}

// other is the id of an owner whom the disk does not hold, if all files below have but one of these;
// else 65535.
func (o *origins) other(of func(*Node) uint32) uint32 {
	const unknown = fullRange - 1
	var one uint32
	for _, n := range o.upper.Lower.nodes {
		id := of(n)
		if _, held := o.upper.Owners.Disk(id); held || id == one {
			continue
		}
		if one != 0 {
			return unknown
		}
		one = id
	}
	return cmp.Or(one, unknown)
}
