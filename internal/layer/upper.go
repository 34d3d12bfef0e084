package layer

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// Upper is the folder that takes a stage's changes: prepared before the stage, read after it.
type Upper struct {
	Folder
	Lower *Tree
	// Below is the file of a node of the layers below.
	Below func(n *Node) string
	// Spare is a folder on the same file system for copies that the stage leaves as they were: the next
	// one on the same layers takes them. "" for none.
	Spare string
	// Epoch is what the clock of the stage comes to, seconds since 1970.
	Epoch int64

	began, ended int64                          // what lies between was set by the stage's clock
	linked       map[uint64]unix.StatxTimestamp // inodes of the files with several names: when they changed last
	grouped      map[string]bool                // groups of these names below
	copies       []*Node                        // what Prepare copied, by the number in its mark
}

// Prepare gives the empty folder the look of the tree's root and, since an overlay copies each name
// by itself, puts in it every file of the layers below that has several names: so they stay one
// file, already while the stage runs. Where the kernel does not tell what it copied, the files of which
// more is known than the disk holds come too. What does not change of all these is no part of the layer.
func (u *Upper) Prepare(ctx context.Context) error {
	u.linked, u.grouped, u.copies = map[uint64]unix.StatxTimestamp{}, map[string]bool{}, nil
	groups := u.Lower.groups()
	several := len(groups)
	if !u.telling() {
		groups = append(groups, u.alone()...)
	}
	folders := map[string]*Node{}
	for _, names := range groups {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := u.link(ctx, names, folders); err != nil {
			return fmt.Errorf("prepare the names of one file, %s: %w", names[0].Path, err)
		}
	}
	for i, names := range groups { // each name changed it once more
		var st unix.Statx_t
		if err := unix.Statx(unix.AT_FDCWD, filepath.Join(u.Dir, names[0].Path), unix.AT_SYMLINK_NOFOLLOW, unix.STATX_INO|unix.STATX_CTIME,
			&st); err != nil {
			return err
		}
		u.linked[st.Ino] = st.Ctime
		if i < several {
			u.grouped[names[0].Group] = true
		}
	}
	made := sortedNames(folders)
	for _, p := range slices.Backward(made) {
		if err := setTime(filepath.Join(u.Dir, p), folders[p].MTime); err != nil {
			return err
		}
	}
	// The kernel's clock for files runs behind by a tick.
	u.began = time.Now().Add(-20 * time.Millisecond).Unix()
	return u.root()
}

// clock says whether a time may have been set by the stage's clock.
func (u *Upper) clock(seconds int64) bool { return u.began <= seconds && seconds <= u.ended }

// root gives the folder the look of the tree's root, which it will stand for.
func (u *Upper) root() error {
	e := &Entry{Path: ".", Kind: Dir, Mode: 0o755}
	if n := u.Lower.Lookup("."); n != nil {
		e = &n.Entry
	}
	if err := u.dress(u.Dir, e); err != nil {
		return fmt.Errorf("prepare the root: %w", err)
	}
	return setTime(u.Dir, e.MTime)
}

// link copies a file once and gives it all its names.
func (u *Upper) link(ctx context.Context, names []*Node, folders map[string]*Node) error {
	first := filepath.Join(u.Dir, names[0].Path)
	for i, n := range names {
		if err := u.parents(path.Dir(n.Path), folders); err != nil {
			return err
		}
		if i > 0 {
			if err := os.Link(first, filepath.Join(u.Dir, n.Path)); err != nil {
				return err
			}
			continue
		}
		if u.Spare == "" || os.Rename(u.spare(n), first) != nil {
			if err := u.copy(ctx, first, n); err != nil {
				return err
			}
		}
		// Where there is no room for it, the file counts as changed.
		_ = unix.Lsetxattr(first, copyMark, []byte(strconv.Itoa(len(u.copies))), 0)
		u.copies = append(u.copies, n)
	}
	return nil
}

// copy makes a file of a node of the layers below.
func (u *Upper) copy(ctx context.Context, to string, n *Node) error {
	err := cloneFile(ctx, to, u.Below(n), n.Size)
	if err == nil {
		err = u.dress(to, &n.Entry)
	}
	if err == nil {
		err = setTime(to, n.MTime)
	}
	return err
}

// spare is the name of a copy that may serve once more.
func (u *Upper) spare(n *Node) string {
	name := fmt.Sprintf("%d/%s\x00%s", n.Layer, n.Path, n.Digest)
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(u.Spare, hex.EncodeToString(sum[:]))
}

// parents makes the folders above a name, as they are below.
func (u *Upper) parents(dir string, made map[string]*Node) error {
	if dir == "." || made[dir] != nil {
		return nil
	}
	n := u.Lower.Lookup(dir)
	if n == nil {
		return fmt.Errorf("%s is missing from the layers", dir)
	}
	if err := u.parents(path.Dir(dir), made); err != nil {
		return err
	}
	made[dir] = n
	full := filepath.Join(u.Dir, dir)
	if err := os.Mkdir(full, 0o700); err != nil {
		return err
	}
	return u.dress(full, &n.Entry)
}

// cloneFile makes a copy of a file, sharing its blocks where the file system can.
func cloneFile(ctx context.Context, to, from string, size int64) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) != nil {
		err = copySparse(out, &interruptible{ctx, io.LimitReader(in, size)}, size)
	}
	return errors.Join(err, out.Close())
}

// alone lists the files with one name of which more is known than the disk holds.
func (u *Upper) alone() (list [][]*Node) {
	for _, n := range u.Lower.nodes {
		if n.Kind == File && len(u.Lower.links[n.Group]) < 2 && u.isSpecial(n) {
			list = append(list, []*Node{n})
		}
	}
	return list
}

// groups lists the files with several names, by first name; of each, its names in order.
func (t *Tree) groups() (list [][]*Node) {
	for _, paths := range t.links {
		if len(paths) < 2 {
			continue
		}
		var names []*Node
		for p := range paths {
			names = append(names, t.nodes[p])
		}
		slices.SortFunc(names, func(a, b *Node) int { return order(a.Path, b.Path) })
		list = append(list, names)
	}
	slices.SortFunc(list, func(a, b []*Node) int { return order(a[0].Path, b[0].Path) })
	return list
}
