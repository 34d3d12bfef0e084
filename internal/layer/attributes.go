package layer

import (
	"bytes"
	"errors"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

const (
	overlayMarks = "user.overlay." // the kernel's own notes on an overlay's upper folder
	opaqueMark   = overlayMarks + "opaque"
	capability   = "security.capability"
)

// attributes reads a file's extended attributes as they stand on disk.
func (s *scanner) attributes(full string, f *found) error {
	names, err := listXattrs(full)
	if err != nil {
		return err
	}
	for _, name := range names {
		if strings.HasPrefix(name, overlayMarks) && name != opaqueMark && name != originMark && name != copyMark || hostsOwn(name) {
			continue
		}
		value, err := getXattr(full, name)
		switch {
		case err != nil:
			return err
		case name == opaqueMark:
			f.Opaque = f.Kind == Dir && string(value) == "y"
			continue
		case name == originMark:
			f.origin = originKey(value)
			continue
		case name == copyMark:
			if i, err := strconv.Atoi(string(value)); err == nil && i >= 0 && i < len(s.copies) {
				f.copied = s.copies[i]
			}
			continue
		case name == capability:
			value = plainCapability(value)
		}
		f.setXattr(name, value)
	}
	return nil
}

func (e *Entry) setXattr(name string, value []byte) {
	if e.Xattrs == nil {
		e.Xattrs = map[string][]byte{}
	}
	e.Xattrs[name] = value
}

// hostsOwn says whether an attribute on disk is none that a stage can set: of the image's, these
// stand in the index.
func hostsOwn(name string) bool {
	switch {
	case strings.HasPrefix(name, "security."):
		return name != capability
	case strings.HasPrefix(name, "system."):
		return name != accessACL && name != defaultACL
	}
	return strings.HasPrefix(name, "trusted.")
}

// complete adds to the names of a file what the disk cannot hold and is known of the one below that it
// is or was copied from. Nothing that a process of the stage can write is believed.
func (s *scanner) complete(names ...*found) {
	was := s.origins.of(names)
	for _, f := range names {
		same := func(n *Node) bool { return n != nil && n.MTime == f.modified }
		if s.clock(f.modified) && !same(was) && !same(f.below) {
			f.MTime = s.Epoch
		}
		uid, gid := f.UID, f.GID
		f.UID, f.GID = s.Owners.Tree(uid), s.Owners.Tree(gid)
		if was != nil {
			f.UID, f.GID = s.Owners.Was(uid, was.UID), s.Owners.Was(gid, was.GID)
		}
		if s.Owners.Count > 1 && was == nil { // only root of the stage can give a file to who stands for others
			s.guess(f, uid, gid)
		}
		for _, name := range []string{accessACL, defaultACL} {
			if acl, ok := f.Xattrs[name]; ok {
				var had []byte
				if was != nil {
					had = was.Xattrs[name]
				}
				f.Xattrs[name] = s.Owners.treeACL(acl, had)
			}
		}
		if was == nil {
			continue
		}
		for name, value := range was.Xattrs {
			if _, ok := f.Xattrs[name]; !ok && (hostsOwn(name) || !hasXattr(s.Below(was), name)) {
				f.setXattr(name, value)
			}
		}
	}
}

// guess finds who an owner is whom the disk does not hold: that of the name below, else the only one
// there is.
func (s *scanner) guess(f *found, uid, gid uint32) {
	for _, id := range []struct {
		tree  *uint32
		disk  uint32
		below func(*Node) uint32
	}{{&f.UID, uid, func(n *Node) uint32 { return n.UID }}, {&f.GID, gid, func(n *Node) uint32 { return n.GID }}} {
		if id.disk != s.Owners.last() {
			continue
		}
		if f.below != nil {
			*id.tree = s.Owners.Was(id.disk, id.below(f.below))
		}
		if *id.tree == fullRange-1 {
			*id.tree = s.origins.other(id.below)
		}
	}
}

func hasXattr(full, name string) bool {
	_, err := unix.Lgetxattr(full, name, nil)
	return !errors.Is(err, unix.ENODATA) && !errors.Is(err, unix.ENOTSUP)
}

func listXattrs(full string) ([]string, error) {
	var small [512]byte
	buf := small[:]
	for {
		n, err := unix.Llistxattr(full, buf)
		if err == nil {
			if n == 0 {
				return nil, nil
			}
			return strings.Split(string(bytes.TrimSuffix(buf[:n], []byte{0})), "\x00"), nil
		}
		if errors.Is(err, unix.ENOTSUP) {
			return nil, nil
		}
		if !errors.Is(err, unix.ERANGE) || len(buf) > 1<<20 {
			return nil, &os.PathError{Op: "list attributes of", Path: full, Err: err}
		}
		buf = make([]byte, len(buf)*8)
	}
}

func getXattr(full, name string) ([]byte, error) {
	buf := make([]byte, 256)
	for {
		n, err := unix.Lgetxattr(full, name, buf)
		if err == nil {
			return buf[:n:n], nil
		}
		if !errors.Is(err, unix.ERANGE) || len(buf) > 1<<20 {
			return nil, &os.PathError{Op: "read attribute " + strconv.Quote(name) + " of", Path: full, Err: err}
		}
		buf = make([]byte, len(buf)*8)
	}
}
