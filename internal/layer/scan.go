package layer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Attributes that carry what the folder cannot hold itself. They stay on the file when the
// overlay copies it, and never appear in an index.
const (
	standInNode  = "user.zygos.node"  // "char MAJOR MINOR MODE", on an empty file in place of a device
	standInOwner = "user.zygos.owner" // "UID GID", where only one id can be held
	overlayMarks = "user.overlay."    // the kernel's own notes on an overlay's upper folder
	opaqueMark   = overlayMarks + "opaque"
)

// Scan reads the folder that an overlay wrote on top of lower and returns the layer's index.
// It leaves the folder in step with the index: what is the same as below is removed, and no
// time is later than epoch (seconds since 1970).
func Scan(ctx context.Context, dir string, lower *Tree, owners Owners, epoch int64) (Index, error) {
	s := scanner{ctx: ctx, dir: dir, lower: lower, owners: owners, epoch: epoch, seen: map[inode]int{}}
	root, err := s.read(".")
	if err != nil {
		return nil, fmt.Errorf("read layer: %w", err)
	}
	if _, err := s.folder(root, false); err != nil {
		return nil, fmt.Errorf("read layer: %w", err)
	}
	s.index.Sort()
	regroup(s.index)
	return s.index, nil
}

type inode struct{ dev, ino uint64 }

type scanner struct {
	ctx    context.Context
	dir    string
	lower  *Tree
	owners Owners
	epoch  int64
	index  Index
	seen   map[inode]int // files with several names: position in index of the first met
	buf    []byte
}

// found is an entry and what only the scan needs to know of it.
type found struct {
	Entry
	id    inode
	links uint64
}

// below is what the layers below show at a path; hidden says that an opaque folder covers it.
func (s *scanner) below(p string, hidden bool) *Node {
	if hidden {
		return nil
	}
	return s.lower.Lookup(p)
}

// folder handles a folder's content, then the folder itself, and says whether anything stayed.
func (s *scanner) folder(f *found, hidden bool) (bool, error) {
	if err := s.ctx.Err(); err != nil {
		return false, err
	}
	full := filepath.Join(s.dir, f.Path)
	names, err := os.ReadDir(full)
	if err != nil {
		return false, err
	}
	kept := false
	for _, name := range names {
		child, err := s.read(path.Join(f.Path, name.Name()))
		if err != nil {
			return false, err
		}
		if child == nil {
			continue
		}
		stays := false
		if child.Kind == Dir {
			stays, err = s.folder(child, hidden || f.Opaque)
		} else {
			stays, err = s.leaf(child, hidden || f.Opaque)
		}
		if err != nil {
			return false, err
		}
		kept = kept || stays
	}
	below := s.below(f.Path, hidden)
	if !kept && !f.Opaque && below != nil && sameState(&f.Entry, &below.Entry) {
		if f.Path != "." {
			return false, unix.Rmdir(full)
		}
		return false, nil
	}
	// A folder whose own state did not change keeps its time: it is here only for what it holds.
	if below != nil && sameState(&f.Entry, &below.Entry) && !f.Opaque {
		f.MTime = min(f.MTime, max(below.MTime, 0))
	}
	s.index = append(s.index, f.Entry)
	return true, setTime(full, f.MTime)
}

// leaf handles anything but a folder and says whether it stayed.
func (s *scanner) leaf(f *found, hidden bool) (bool, error) {
	full := filepath.Join(s.dir, f.Path)
	if f.Kind == Whiteout {
		s.index = append(s.index, f.Entry)
		return true, nil
	}
	if f.Kind == File {
		if first, ok := s.seen[f.id]; ok && f.links > 1 {
			e := s.index[first]
			e.Path, e.Same = f.Path, s.index[first].Path
			s.index = append(s.index, e)
			return true, nil
		}
		if err := s.digest(full, f); err != nil {
			return false, err
		}
	}
	below := s.below(f.Path, hidden)
	if below != nil && f.links == 1 && below.Group == "" && sameState(&f.Entry, &below.Entry) {
		return false, unix.Unlink(full)
	}
	if f.links > 1 {
		s.seen[f.id] = len(s.index)
	}
	s.index = append(s.index, f.Entry)
	return true, setTime(full, f.MTime)
}

// read describes one name of the folder, nil for what an image does not hold (sockets).
func (s *scanner) read(rel string) (*found, error) {
	full := filepath.Join(s.dir, rel)
	var st unix.Stat_t
	if err := unix.Lstat(full, &st); err != nil {
		return nil, &os.PathError{Op: "look at", Path: full, Err: err}
	}
	f := &found{id: inode{uint64(st.Dev), st.Ino}, links: uint64(st.Nlink)}
	f.Entry = Entry{Path: rel, Mode: st.Mode & 0o7777, UID: s.owners.Tree(st.Uid), GID: s.owners.Tree(st.Gid),
		MTime: max(0, min(st.Mtim.Sec, s.epoch))}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		f.Kind = Dir
	case unix.S_IFREG:
		f.Kind, f.Size = File, st.Size
	case unix.S_IFLNK:
		f.Kind, f.Mode = Symlink, 0o777
		target, err := os.Readlink(full)
		if err != nil {
			return nil, err
		}
		f.Link = target
	case unix.S_IFIFO:
		f.Kind = Fifo
	case unix.S_IFCHR, unix.S_IFBLK:
		f.Kind = Char
		if st.Mode&unix.S_IFMT == unix.S_IFBLK {
			f.Kind = Block
		}
		f.Major, f.Minor = unix.Major(st.Rdev), unix.Minor(st.Rdev)
		if f.Kind == Char && st.Rdev == 0 {
			f.Entry = Entry{Path: rel, Kind: Whiteout}
			return f, nil
		}
	default:
		return nil, nil
	}
	return f, s.attributes(full, f)
}

// attributes reads extended attributes and applies those with which Zygos stands in for something.
func (s *scanner) attributes(full string, f *found) error {
	names, err := listXattrs(full)
	if err != nil {
		return err
	}
	for _, name := range names {
		value, err := getXattr(full, name)
		if err != nil {
			return err
		}
		switch {
		case name == opaqueMark:
			f.Opaque = f.Kind == Dir && string(value) == "y"
			continue
		case name == standInNode && f.Kind == File:
			var kind string
			if _, err := fmt.Sscanf(string(value), "%s %d %d %o", &kind, &f.Major, &f.Minor, &f.Mode); err == nil &&
				(Kind(kind) == Char || Kind(kind) == Block) {
				f.Kind, f.Size = Kind(kind), 0
			}
			continue
		case name == standInOwner:
			_, _ = fmt.Sscanf(string(value), "%d %d", &f.UID, &f.GID) // a note that is no owner is none
			continue
		case strings.HasPrefix(name, overlayMarks):
			continue
		case name == "security.capability":
			value = plainCapability(value)
		case strings.HasPrefix(name, "system.posix_acl_"):
			value = shiftACL(value, s.owners.Tree)
		case strings.HasPrefix(name, "security.selinux"), strings.HasPrefix(name, "system."), strings.HasPrefix(name, "trusted."):
			continue // the host's, not the image's
		}
		if f.Xattrs == nil {
			f.Xattrs = map[string][]byte{}
		}
		f.Xattrs[name] = value
	}
	return nil
}

func (s *scanner) digest(full string, f *found) error {
	if s.buf == nil {
		s.buf = make([]byte, 1<<18)
	}
	file, err := os.Open(full)
	if err != nil {
		return err
	}
	defer file.Close()
	hash, holes := sha256.New(), newHoleFinder()
	n, err := io.CopyBuffer(io.MultiWriter(hash, holes), &interruptible{s.ctx, file}, s.buf)
	if err != nil {
		return err
	}
	f.Size, f.Digest, f.Data = n, hex.EncodeToString(hash.Sum(nil)), holes.Data()
	return nil
}

// interruptible stops reading when the context ends, and hides WriteTo so that the buffer is used.
type interruptible struct {
	ctx context.Context
	r   io.Reader
}

func (i *interruptible) Read(p []byte) (int, error) {
	if err := i.ctx.Err(); err != nil {
		return 0, err
	}
	return i.r.Read(p)
}

// regroup makes Same name the first path of each hard-link group in sorted order.
func regroup(x Index) {
	first := map[string]string{} // name of the group as it was met -> first name in order
	for i := range x {
		e := &x[i]
		key := e.Same
		if key == "" {
			key = e.Path
		}
		if f, ok := first[key]; ok {
			e.Same = f
		} else {
			first[key], e.Same = e.Path, ""
		}
	}
}

func setTime(full string, seconds int64) error {
	ts := []unix.Timespec{{Sec: seconds}, {Sec: seconds}}
	if err := unix.UtimesNanoAt(unix.AT_FDCWD, full, ts, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return &os.PathError{Op: "set time of", Path: full, Err: err}
	}
	return nil
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
