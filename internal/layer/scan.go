package layer

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// Scan reads what a stage left in the folder and returns the layer's index. It leaves the folder in
// step with the index: what is the same as below is removed, and times that the stage's clock set
// are the epoch.
func (u *Upper) Scan(ctx context.Context) (Index, error) {
	s := scanner{Upper: u, ctx: ctx, origins: origins{upper: u}, files: map[inode]*file{}}
	u.ended = time.Now().Unix()
	root, err := s.read(".")
	if err == nil {
		err = s.walk(root, false)
	}
	if err == nil {
		err = s.judge()
	}
	if err == nil {
		_, err = s.folder(root)
	}
	if err != nil {
		return nil, fmt.Errorf("read layer: %w", err)
	}
	s.index.Sort()
	regroup(s.index)
	return s.index, nil
}

type inode struct{ dev, ino uint64 }

type scanner struct {
	*Upper
	ctx     context.Context
	origins origins
	files   map[inode]*file
	index   Index
	buf     []byte
}

// found is a name in the folder and what only the scan needs to know of it.
type found struct {
	Entry
	id       inode
	links    uint32
	modified int64 // as the disk has it
	changed  unix.StatxTimestamp
	origin   string // the file below that it was copied from: its key
	copied   *Node  // or the node, if Prepare did it
	below    *Node  // what the layers below show at its path, nil if a folder hides it
	children []*found
	file     *file
}

// file is a regular file with all its names in the folder.
type file struct {
	names     []*found
	same      bool // as below, under these names and perhaps others
	untouched bool // since Prepare made it
}

// walk reads a folder with all that is in it. hidden says that an opaque folder covers what is below.
func (s *scanner) walk(f *found, hidden bool) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	names, err := os.ReadDir(filepath.Join(s.Dir, f.Path))
	if err != nil {
		return err
	}
	if !hidden {
		f.below = s.Lower.Lookup(f.Path)
	}
	s.complete(f)
	hidden = hidden || f.Opaque
	for _, name := range names {
		child, err := s.read(path.Join(f.Path, name.Name()))
		if err != nil {
			return err
		}
		if child == nil {
			continue
		}
		f.children = append(f.children, child)
		if child.Kind == Dir {
			if err := s.walk(child, hidden); err != nil {
				return err
			}
			continue
		}
		if !hidden {
			child.below = s.Lower.Lookup(child.Path)
		}
		if child.Kind == Whiteout {
			continue
		}
		if child.Kind != File {
			s.complete(child)
		} else {
			if s.files[child.id] == nil {
				s.files[child.id] = &file{}
			}
			child.file = s.files[child.id]
			child.file.names = append(child.file.names, child)
		}
	}
	return nil
}

// judge finds out which files are as they were below. Of several names, all must be names of one
// file there: those of its names that are missing were removed or replaced one by one.
func (s *scanner) judge() error {
	for id, file := range s.files {
		s.complete(file.names...)
		first := file.names[0]
		if linked, ok := s.linked[id.ino]; ok && linked == first.changed && first.copied != nil {
			file.same, file.untouched = true, true
			continue
		}
		if err := s.digest(filepath.Join(s.Dir, first.Path), first); err != nil {
			return err
		}
		file.same = true
		for _, f := range file.names {
			f.Size, f.Digest, f.Data = first.Size, first.Digest, first.Data
			file.same = file.same && s.unchanged(f) && s.namedAsBelow(f, len(file.names))
		}
	}
	return nil
}

// namedAsBelow says whether a name belongs to the same file as below: those of its names that are
// missing were removed or replaced one by one.
func (s *scanner) namedAsBelow(f *found, names int) bool {
	if !s.grouped[f.below.Group] {
		return names == 1
	}
	return f.copied != nil && f.copied.Group == f.below.Group
}

// unchanged says whether an entry is what the layers below have: a time that the stage's clock set
// does not count by itself.
func (s *scanner) unchanged(f *found) bool {
	if f.below == nil || !sameState(&f.Entry, &f.below.Entry) {
		return false
	}
	return s.clock(f.modified) || f.modified == f.below.MTime || s.onDisk(f.below) == f.modified
}

// onDisk is the time of a file below as the disk holds it.
func (s *scanner) onDisk(n *Node) int64 {
	var st unix.Stat_t
	if unix.Lstat(s.Below(n), &st) != nil {
		return n.MTime
	}
	return st.Mtim.Sec
}

// folder handles what a folder holds, then the folder itself, and says whether anything stayed.
func (s *scanner) folder(f *found) (stayed bool, err error) {
	for _, child := range f.children {
		stays := true
		switch {
		case child.Kind == Dir:
			stays, err = s.folder(child)
		case child.Kind == Whiteout:
			s.index = append(s.index, child.Entry)
		default:
			stays, err = s.leaf(child)
		}
		if err != nil {
			return false, err
		}
		stayed = stayed || stays
	}
	full := filepath.Join(s.Dir, f.Path)
	same := s.unchanged(f) && !f.Opaque
	if !stayed && same {
		if f.Path != "." {
			return false, unix.Rmdir(full)
		}
		return false, nil
	}
	if same { // it is here only for what it holds, and keeps its time
		f.MTime = f.below.MTime
	}
	s.index = append(s.index, f.Entry)
	return true, setTime(full, f.MTime)
}

// leaf handles anything but a folder and says whether it stayed.
func (s *scanner) leaf(f *found) (stays bool, err error) {
	full := filepath.Join(s.Dir, f.Path)
	if f.Kind == File && f.file.same || f.Kind != File && s.unchanged(f) {
		if f.Kind == File && f == f.file.names[0] && f.file.untouched && s.Spare != "" && os.Rename(full, s.spare(f.copied)) == nil {
			return false, nil
		}
		return false, unix.Unlink(full)
	}
	if f.Kind == File && f != f.file.names[0] {
		f.Same = f.file.names[0].Path
	}
	s.index = append(s.index, f.Entry)
	return true, setTime(full, f.MTime)
}

// read describes one name of the folder, nil for what an image does not hold (sockets).
func (s *scanner) read(rel string) (*found, error) {
	full := filepath.Join(s.Dir, rel)
	var st unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, full, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BASIC_STATS, &st); err != nil {
		return nil, &os.PathError{Op: "look at", Path: full, Err: err}
	}
	f := &found{id: inode{unix.Mkdev(st.Dev_major, st.Dev_minor), st.Ino}, links: st.Nlink, modified: st.Mtime.Sec, changed: st.Ctime}
	f.Entry = Entry{Path: rel, Mode: uint32(st.Mode) & 0o7777, UID: st.Uid, GID: st.Gid, MTime: st.Mtime.Sec}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		f.Kind = Dir
	case unix.S_IFREG:
		f.Kind, f.Size = File, int64(st.Size)
	case unix.S_IFLNK:
		f.Kind, f.Mode = Symlink, 0o777
		target, err := os.Readlink(full)
		if err != nil {
			return nil, err
		}
		f.Link = target
	case unix.S_IFIFO:
		f.Kind = Fifo
	case unix.S_IFCHR:
		if st.Rdev_major == 0 && st.Rdev_minor == 0 {
			f.Entry = Entry{Path: rel, Kind: Whiteout}
			return f, nil
		}
		return nil, fmt.Errorf("%s is a device, which no stage can make", rel)
	default:
		return nil, nil
	}
	return f, s.attributes(full, f)
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
