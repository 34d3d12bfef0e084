package state

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/plain"
)

// reserved is how many bytes of the disk are held back, so that sweep can begin where it is full.
const reserved = 8 << 20

// Reserve is the file that holds them.
func (d Dir) Reserve() string { return d.In("reserve") }

// keepReserve makes the reserve, if there is room for it.
func (d Dir) keepReserve() {
	if info, err := os.Stat(d.Reserve()); err == nil && info.Size() == reserved {
		return
	}
	var disk unix.Statfs_t
	if unix.Statfs(string(d), &disk) != nil || int64(disk.Bavail)*disk.Bsize < 16*reserved {
		return
	}
	f, err := os.OpenFile(d.Reserve(), os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	if unix.Fallocate(int(f.Fd()), 0, 0, reserved) != nil { // a file system that cannot holds nothing back
		_ = os.Remove(d.Reserve())
	}
}

// MakeRoom gives up the reserve where the disk is full, and what was downloaded of bases that nobody downloads now: it names that.
func (d Dir) MakeRoom() (removed map[string]int64) {
	var disk unix.Statfs_t
	if unix.Statfs(string(d), &disk) != nil || int64(disk.Bavail)*disk.Bsize >= 2*reserved {
		return nil
	}
	_ = os.Remove(d.Reserve()) // without it, what follows may free enough
	removed = map[string]int64{}
	for _, name := range append(d.Find("downloads/*.part"), d.Find("downloads/*.blob")...) {
		lock, err := os.Open(strings.TrimSuffix(name, filepath.Ext(name)) + ".lock")
		if err == nil {
			free := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil
			lock.Close()
			if !free {
				continue
			}
		}
		bytes := Usage(name)
		if os.Remove(name) == nil {
			removed[name] = bytes
		}
	}
	return removed
}

// IsFull reports whether an error is for want of room on a disk.
func IsFull(err error) bool {
	var full *catalog.FullError
	return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) || errors.As(err, &full)
}

// Largest says in words what takes most room in the state's folder.
func (d Dir) Largest() string {
	type item struct {
		name  string
		bytes int64
	}
	var list []item
	entries, _ := os.ReadDir(string(d)) // a folder that cannot be read says nothing
	for _, e := range entries {
		list = append(list, item{e.Name(), Usage(d.In(e.Name()))})
	}
	slices.SortFunc(list, func(a, b item) int { return cmp.Compare(b.bytes, a.bytes) })
	var words []string
	for _, i := range list[:min(3, len(list))] {
		if i.bytes > 1<<20 {
			words = append(words, fmt.Sprintf("%s %s", i.name, plain.MiB(i.bytes)))
		}
	}
	return strings.Join(words, ", ")
}

// Full says of an error for want of room on the state's disk what takes the room and what gives some back.
func (d Dir) Full(err error) error {
	largest := d.Largest()
	if largest != "" {
		largest = " The largest in " + string(d) + ": " + largest + "."
	}
	return fmt.Errorf("%w.%s 'zygos sweep' removes what is left over, 'zygos prune' old versions", err, largest)
}

// Full says of an error for want of room how much there is and, if need is known, how much is missing; other errors pass. need is in bytes.
func (s *State) Full(err error, need int64) error {
	if !errors.Is(err, unix.ENOSPC) && !errors.Is(err, unix.EDQUOT) {
		return err
	}
	free := s.Free()
	if free > max(need, enough) {
		return fmt.Errorf("%w: the disk of %s refuses to take more, although %d MiB are free: look at its inodes (df -i) and quotas. "+
			"Finished stages are kept, nothing is damaged", err, s.Dir, free>>20)
	}
	missing := ""
	if need > free {
		missing = fmt.Sprintf("; about %d MiB more are needed", (need-free)>>20+1)
	}
	return s.Dir.Full(fmt.Errorf("%w: the disk of %s is full: %d MiB are free%s. Make room and run the command again: finished stages are "+
		"kept, nothing is damaged", err, s.Dir, free>>20, missing))
}

const enough = 64 << 20 // below this many free bytes a disk counts as full

// Free is how many bytes an ordinary process may still write to the state's disk.
func (s *State) Free() int64 {
	var fs unix.Statfs_t
	if unix.Statfs(string(s.Dir), &fs) != nil {
		return 0
	}
	return int64(fs.Bavail) * fs.Bsize
}

// Usage is how many bytes a file or folder takes on its disk.
func Usage(name string) (bytes int64) {
	_ = filepath.WalkDir(name, func(_ string, e fs.DirEntry, err error) error { // what cannot be read counts nothing
		if err == nil {
			if info, err := e.Info(); err == nil {
				if st, ok := info.Sys().(*syscall.Stat_t); ok {
					bytes += st.Blocks * 512
				}
			}
		}
		return nil
	})
	return bytes
}
