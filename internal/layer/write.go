package layer

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Folder writes entries into a layer's folder. Parents must have been written before.
type Folder struct {
	Dir    string
	Owners Owners
}

// Put writes one entry; content is read for files that have no Same. Folders get their
// time in Finish, after everything in them is written.
func (w Folder) Put(e *Entry, content io.Reader) error {
	full := filepath.Join(w.Dir, e.Path)
	if err := w.create(full, e, content); err != nil {
		return fmt.Errorf("write %s: %w", e.Path, err)
	}
	if e.Same != "" || e.Kind == Whiteout {
		return nil
	}
	if err := w.dress(full, e); err != nil {
		return fmt.Errorf("write %s: %w", e.Path, err)
	}
	if e.Kind == Dir {
		return nil
	}
	return setTime(full, e.MTime)
}

func (w Folder) create(full string, e *Entry, content io.Reader) error {
	switch e.Kind {
	case Dir:
		if e.Path == "." {
			return nil
		}
		return os.Mkdir(full, 0o700)
	case File:
		if e.Same != "" {
			return os.Link(filepath.Join(w.Dir, e.Same), full)
		}
		file, err := os.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		if err := copySparse(file, content, e.Size); err != nil {
			file.Close()
			return err
		}
		return file.Close()
	case Symlink:
		return os.Symlink(e.Link, full)
	case Fifo:
		return unix.Mkfifo(full, 0o600)
	case Whiteout:
		return unix.Mknod(full, unix.S_IFCHR, 0)
	case Char, Block:
		return os.WriteFile(full, nil, 0o600)
	}
	return fmt.Errorf("an entry of unknown kind %q", e.Kind)
}

// dress sets owner, mode and attributes, in the order in which the kernel keeps them:
// a change of owner clears set-id bits and capabilities.
func (w Folder) dress(full string, e *Entry) error {
	uid, _ := w.Owners.Disk(e.UID)
	gid, _ := w.Owners.Disk(e.GID)
	if err := unix.Lchown(full, int(uid), int(gid)); err != nil {
		return fmt.Errorf("set owner: %w", err)
	}
	if e.Kind == Symlink {
		return nil
	}
	if e.IsDevice() {
		return unix.Chmod(full, 0) // an empty file that nobody opens stands in its place
	}
	// While an attribute is set the file must be writable for its owner, whatever its mode.
	if e.Opaque {
		if err := unix.Lsetxattr(full, opaqueMark, []byte("y"), 0); err != nil {
			return fmt.Errorf("mark opaque: %w", err)
		}
	}
	for _, name := range sortedNames(e.Xattrs) {
		if err := w.setXattr(full, name, e.Xattrs[name]); err != nil {
			return err
		}
	}
	return unix.Chmod(full, e.Mode)
}

// setXattr sets an attribute, unless the folder cannot hold it: then it stands in the index.
func (w Folder) setXattr(full, name string, value []byte) error {
	switch root, _ := w.Owners.Disk(0); name {
	case capability:
		value = boundCapability(value, root)
	case accessACL, defaultACL:
		var held bool
		if value, held = w.Owners.diskACL(value); !held && w.Owners.Count == 1 {
			return nil // it would speak of root
		}
	}
	switch err := unix.Lsetxattr(full, name, value, 0); err {
	case nil, unix.EPERM, unix.ENOTSUP, unix.EINVAL, unix.ENOSPC, unix.E2BIG, unix.ERANGE: // for want of room: a full disk is met again
		return nil
	default:
		return fmt.Errorf("set attribute %s: %w", name, err)
	}
}

// Finish sets the times of the index's folders, deepest last names first.
func (w Folder) Finish(x Index) error {
	for i := len(x) - 1; i >= 0; i-- {
		if x[i].Kind == Dir {
			if err := setTime(filepath.Join(w.Dir, x[i].Path), x[i].MTime); err != nil {
				return err
			}
		}
	}
	return nil
}

// copySparse copies size bytes and leaves holes where whole pages are zero.
func copySparse(file *os.File, content io.Reader, size int64) error {
	if size == 0 {
		return nil
	}
	buf := make([]byte, min(1<<18, (size+pageSize-1)/pageSize*pageSize))
	var at, written int64
	for at < size {
		n, err := io.ReadFull(content, buf[:min(int64(len(buf)), size-at)])
		if err != nil {
			return fmt.Errorf("content ends after %d of %d bytes: %w", at+int64(n), size, err)
		}
		for from := 0; from < n; {
			to := from
			for to < n && !isZero(buf[to:min(to+pageSize, n)]) {
				to = min(to+pageSize, n)
			}
			if to > from {
				if _, err := file.WriteAt(buf[from:to], at+int64(from)); err != nil {
					return err
				}
				written = at + int64(to)
			}
			for from = to; from < n && isZero(buf[from:min(from+pageSize, n)]); {
				from = min(from+pageSize, n)
			}
		}
		at += int64(n)
	}
	if written < size {
		return file.Truncate(size)
	}
	return nil
}
