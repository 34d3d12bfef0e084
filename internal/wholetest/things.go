// Package wholetest makes one thing of every kind that a tree can hold, and does to each what scripts
// do, so that a stage in a sandbox can be compared with the same work done on a plain disk.
package wholetest

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

const (
	then  = 1500000000 // seconds since 1970: the time of what the base holds
	other = 70000      // an id beyond what a sandbox has
)

// do is a list of steps of which the first that fails ends it.
func do(steps ...error) error { return errors.Join(steps...) }

func write(p, text string, mode uint32) error {
	return do(os.WriteFile(p, []byte(text), 0o600), unix.Chmod(p, mode))
}

// sparse is a file of a size with data at some offsets.
func sparse(p string, size int64, at ...int64) error {
	f, err := os.Create(p)
	if err != nil {
		return err
	}
	defer f.Close()
	for _, offset := range at {
		if _, err := f.WriteAt([]byte(strings.Repeat("data", 1024)), offset); err != nil {
			return err
		}
	}
	return f.Truncate(size)
}

func acl(ids ...byte) []byte {
	b := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255}
	for _, id := range ids {
		b = append(b, 2, 0, 4, 0, id, 3, 0, 0) // 768 + id
	}
	return append(b, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 4, 0, 255, 255, 255, 255)
}

func foreignACL() []byte {
	b := acl(1)
	b[16], b[17], b[18] = 0x70, 0x11, 1 // 70000
	return b
}

var capability = []byte{1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}

// Things are made by their names, on a plain disk, by root.
var Things = map[string]func(p string) error{
	"file":    func(p string) error { return write(p, "content of the base\n", 0o644) },
	"empty":   func(p string) error { return write(p, "", 0o600) },
	"locked":  func(p string) error { return do(write(p, "x", 0), os.Lchown(p, 1000, 1001)) },
	"setuid":  func(p string) error { return do(write(p, "x", 0o644), os.Lchown(p, 12, 13), unix.Chmod(p, 0o6755)) },
	"large":   func(p string) error { return write(p, strings.Repeat("0123456789abcdef", 70000), 0o644) },
	"hole":    func(p string) error { return sparse(p, 1<<20, 0, 1<<19) },
	"tail":    func(p string) error { return sparse(p, 1<<20+5, 0) },
	"zeros":   func(p string) error { return sparse(p, 1<<20) },
	"foreign": func(p string) error { return do(write(p, "foreign", 0o640), os.Lchown(p, other, other+1)) },
	"last-id": func(p string) error { return do(write(p, "last", 0o640), os.Lchown(p, 65534, 65535)) },
	"old":     func(p string) error { return do(write(p, "old", 0o644), setTime(p, -1000000000)) },
	"future":  func(p string) error { return do(write(p, "future", 0o644), setTime(p, then+1000)) },
	"noted": func(p string) error {
		return do(write(p, "noted", 0o644), xattr(p, "user.note", "kept"), xattr(p, "user.a=b%c", "odd"), xattr(p, "trusted.mark", "base"))
	},
	"capable": func(p string) error {
		return do(write(p, "elf", 0o755), xattr(p, "security.capability", string(capability)))
	},
	"shared": func(p string) error {
		return do(write(p, "acl", 0o664), xattr(p, "system.posix_acl_access", string(acl(1, 2))))
	},
	"stranger": func(p string) error {
		return do(write(p, "acl", 0o664), xattr(p, "system.posix_acl_access", string(foreignACL())))
	},
	"link": func(p string) error { return os.Symlink("file", p) },
	"nowhere": func(p string) error {
		return do(os.Symlink("/no/such/"+strings.Repeat("long/", 300), p), os.Lchown(p, 7, 8))
	},
	"own-link": func(p string) error { return do(os.Symlink("x", p), os.Lchown(p, other, other)) },
	"pipe":     func(p string) error { return do(unix.Mkfifo(p, 0o620), os.Lchown(p, 3, 4)) },
	"folder": func(p string) error {
		return do(os.Mkdir(p, 0o700), unix.Chmod(p, 0o2751), write(p+"/in", "in", 0o600), os.Mkdir(p+"/deep", 0o755),
			write(p+"/deep/x", "x", 0o644), setTime(p+"/in", then))
	},
	"default": func(p string) error {
		return do(os.Mkdir(p, 0o755), xattr(p, "system.posix_acl_default", string(acl(3))))
	},
	"theirs": func(p string) error {
		return do(os.Mkdir(p, 0o755), os.Lchown(p, other, 0), write(p+"/x", "x", 0o644), os.Lchown(p+"/x", other, other))
	},
	"twins": func(p string) error { return do(write(p, "one of two names\n", 0o644), os.Link(p, p+".2")) },
	"triplets": func(p string) error {
		return do(write(p, "one of three\n", 0o640), os.Lchown(p, 5, 6), os.Link(p, p+".2"), os.Link(p, p+".z"))
	},
}

// Works are done to things, by root, as scripts do.
var Works = map[string]func(p string) error{
	"as-it-is": func(string) error { return nil },
	"append":   func(p string) error { return appendTo(p, "more\n") },
	"rewrite":  func(p string) error { return os.WriteFile(p, []byte("new content\n"), 0o644) },
	"truncate": func(p string) error { return os.Truncate(p, 2) },
	"chmod":    func(p string) error { return unix.Fchmodat(unix.AT_FDCWD, p, 0o711, 0) },
	"chown":    func(p string) error { return os.Lchown(p, 21, 22) },
	"to-root":  func(p string) error { return os.Lchown(p, 0, 0) },
	"rename":   func(p string) error { return os.Rename(p, p+".renamed") },
	"move": func(p string) error {
		dir, name := filepath.Split(p)
		return os.Rename(p, filepath.Join(dir, "../moved", filepath.Base(dir)+"_"+name))
	},
	"remove":  os.RemoveAll,
	"replace": func(p string) error { return do(os.RemoveAll(p), write(p, "another one\n", 0o600)) },
	"to-dir":  func(p string) error { return do(os.RemoveAll(p), os.Mkdir(p, 0o755), write(p+"/inside", "x", 0o644)) },
	"exchange": func(p string) error {
		return do(write(p+".new", "written beside, then renamed\n", 0o644), os.Rename(p+".new", p))
	},
	"name-it": func(p string) error { return os.Link(p, p+".again") },
	"note":    func(p string) error { return xattr(p, "user.added", "by a stage") },
	"unnote":  func(p string) error { return unix.Lremovexattr(p, "user.note") },
	"touch":   func(p string) error { return setTime(p, then-86400) },
	"no-acl":  func(p string) error { return unix.Lremovexattr(p, "system.posix_acl_access") },
}

// Odd names, of files of the base that nobody touches.
var Odd = []string{"a", "a-b", "-n", "new\nline", "tab\t", "bad\xff\xfe", "ünï", "%41", "50%", "*", " ", "\u2028", "\x1b[31m",
	strings.Repeat("n", 255)}

func setTime(p string, seconds int64) error {
	at := []unix.Timespec{{Sec: seconds}, {Sec: seconds}}
	return unix.UtimesNanoAt(unix.AT_FDCWD, p, at, unix.AT_SYMLINK_NOFOLLOW)
}

func xattr(p, name, value string) error { return unix.Lsetxattr(p, name, []byte(value), 0) }

func appendTo(p, text string) error {
	f, err := os.OpenFile(p, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

// Base makes every thing once for every work, below root.
func Base(root string) error {
	for _, dir := range []string{"dev", "etc", "proc", "run", "tmp", "work", "work/moved", "work/odd", "work/free"} {
		if err := os.Mkdir(filepath.Join(root, dir), 0o755); err != nil {
			return err
		}
	}
	if err := do(unix.Chmod(root+"/work/free", 0o1777), unix.Mknod(root+"/dev/null", unix.S_IFCHR|0o666, int(unix.Mkdev(1, 3))),
		unix.Chmod(root+"/dev/null", 0o666)); err != nil {
		return err
	}
	for _, name := range Odd {
		if err := write(filepath.Join(root, "work/odd", name), name, 0o644); err != nil {
			return err
		}
	}
	if err := do(write(root+"/etc/newest", "", 0o644), setTime(root+"/etc/newest", Since)); err != nil {
		return err
	}
	for thing, make := range Things {
		dir := filepath.Join(root, "work", thing)
		if err := os.Mkdir(dir, 0o755); err != nil {
			return err
		}
		for work := range Works {
			if err := make(filepath.Join(dir, work)); err != nil {
				return fmt.Errorf("%s: %w", thing, err)
			}
		}
	}
	return filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
		info, err2 := os.Lstat(p)
		if err == nil && err2 == nil && info.ModTime().Unix() > Since {
			err = setTime(p, then)
		}
		return errors.Join(err, err2)
	})
}

// Change does every work to every thing below root. What cannot be done to a thing is not done.
func Change(root string) error {
	_ = unix.Umask(0o022)
	for thing := range Things {
		for _, work := range slices.Sorted(maps.Keys(Works)) { // some go through links, to what others leave
			p := filepath.Join(root, "work", thing, work)
			if can(p, work) {
				_ = Works[work](p) // as the comment says
			}
		}
	}
	free := filepath.Join(root, "work/free")
	return do(sparse(free+"/new-hole", 3<<20, 1<<20), sparse(free+"/new-zeros", 1<<20), unix.Mkfifo(free+"/new-pipe", 0o600),
		os.Symlink("x", free+"/new-link"),
		os.Mkdir(free+"/new-folder", 0o755), setTime(free+"/new-folder", then-5), Forge(free))
}

// can says whether a work ends, and is one that the kernel does in an overlay and in a user namespace
// as elsewhere: an overlay renames no folder of a layer below.
func can(p, work string) bool {
	info, err := os.Lstat(p)
	switch {
	case err != nil:
		return true
	case info.IsDir():
		return work != "rename" && work != "move"
	case info.Mode().Type() == os.ModeNamedPipe:
		return work != "append" && work != "rewrite" && work != "truncate"
	case info.Mode()&(os.ModeSetuid|os.ModeSetgid) != 0: // who writes, but for the host's root, takes these bits away
		return work != "append" && work != "rewrite" && work != "truncate"
	}
	return true
}

// Forge is what an ordinary user tries who wants root's files and devices in the artifact.
func Forge(free string) error {
	p := filepath.Join(free, "forged")
	if err := do(write(p, "", 0o644), os.Lchown(p, 1000, 1000)); err != nil {
		return err
	}
	for name, value := range map[string]string{"user.zygos.owner": "0 0", "user.zygos.node": "block 8 0 660"} {
		if err := xattr(p, name, value); err != nil {
			return err
		}
	}
	return unix.Chmod(p, 0o4755)
}

// Since is the newest time that Base sets, and so what the clock of a stage comes to.
const Since = then + 9000
