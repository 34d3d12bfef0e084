package wholetest

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// List tells all that there is to tell of what lies below root/work and root/dev, by path: kind, mode,
// owners, time, size, content, target, attributes, and which names are one file. Times from Since on are
// those of some clock.
func List(root string) (map[string]string, error) {
	list := map[string]string{}
	first := map[uint64]string{}
	for _, top := range []string{"work", "dev"} {
		err := filepath.WalkDir(filepath.Join(root, top), func(p string, _ os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel := strings.TrimPrefix(p, root+"/")
			list[rel], err = describe(p, rel, first)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return list, nil
}

func describe(p, rel string, first map[uint64]string) (string, error) {
	var st unix.Stat_t
	if err := unix.Lstat(p, &st); err != nil {
		return "", err
	}
	when := "clock"
	if st.Mtim.Sec < Since {
		when = fmt.Sprint(st.Mtim.Sec)
	}
	text := fmt.Sprintf("%06o %d:%d %s", st.Mode, st.Uid, st.Gid, when)
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		content, err := os.ReadFile(p)
		if err != nil {
			return "", err
		}
		text += fmt.Sprintf(" %d %x", st.Size, sha256.Sum256(content))
		if st.Nlink > 1 {
			if first[st.Ino] == "" {
				first[st.Ino] = rel
			}
			text += fmt.Sprintf(" is one of %d names of %s", st.Nlink, first[st.Ino])
		}
	case unix.S_IFLNK:
		target, err := os.Readlink(p)
		if err != nil {
			return "", err
		}
		text += " -> " + target
	case unix.S_IFCHR, unix.S_IFBLK:
		text += fmt.Sprintf(" %d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
	}
	buf := make([]byte, 4096)
	n, err := unix.Llistxattr(p, buf)
	if err != nil {
		return "", err
	}
	names := strings.FieldsFunc(string(buf[:n]), func(r rune) bool { return r == 0 })
	slices.Sort(names)
	for _, name := range names {
		value := make([]byte, 4096)
		n, err := unix.Lgetxattr(p, name, value)
		if err != nil {
			return "", err
		}
		text += fmt.Sprintf(" %s=%x", name, value[:n])
	}
	return text, nil
}
