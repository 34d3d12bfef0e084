package layer

import (
	"archive/tar"
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Limits bound what an archive may unpack to.
type Limits struct {
	Bytes   int64 // sum of file contents as stored, in bytes
	Logical int64 // size of one file with its holes, in bytes
	Entries int   // number of names
}

// DefaultLimits leaves Bytes to the caller, who knows the free disk space.
var DefaultLimits = Limits{Bytes: math.MaxInt64, Logical: 1 << 40, Entries: 20_000_000}

// HostileError says which entry of an archive was refused, and why.
type HostileError struct {
	Entry  string
	Reason string
}

func (e *HostileError) Error() string { return fmt.Sprintf("entry %q %s", e.Entry, e.Reason) }

// mostPath is how long a name may be: what the kernel takes (PATH_MAX), less what precedes it in the
// state.
const mostPath = 4096 - 512

// Unpack writes a root archive (a tar stream, POSIX.1-2001 or GNU) into an empty folder and
// returns its index. Everything in it stays below the folder: absolute names, names with "..",
// links that lead out of the root, names that pass through a link, and devices outside dev/
// are refused with a HostileError. On any error the folder's content is worthless.
func Unpack(ctx context.Context, r io.Reader, folder Folder, limits Limits) (Index, error) {
	in := tar.NewReader(r)
	entries := 0
	return Take(ctx, func(give func(*tar.Header, io.Reader) error) error {
		for ; ; entries++ {
			h, err := in.Next()
			if err == io.EOF && entries > 0 {
				return nil
			}
			switch {
			case err == io.EOF:
				return errors.New("the archive is empty")
			case errors.Is(err, io.ErrUnexpectedEOF):
				return fmt.Errorf("the archive is cut short after %d entries: %w", entries, err)
			case err != nil:
				return fmt.Errorf("after %d entries: %w", entries, err)
			}
			if err := give(h, in); err != nil {
				return err
			}
		}
	}, folder, limits)
}

// Take writes what walk gives, entries as an archive has them, as Unpack does with an archive.
func Take(ctx context.Context, walk func(give func(*tar.Header, io.Reader) error) error, folder Folder, limits Limits) (Index, error) {
	u := unpacker{ctx: ctx, folder: folder, limits: limits, at: map[string]int{}, writers: newWriters(folder)}
	defer u.writers.end()
	u.add(Entry{Path: ".", Kind: Dir, Mode: 0o755})
	err := walk(func(h *tar.Header, content io.Reader) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return u.entry(h, content)
	})
	if err := u.settle(true); err != nil { // which comes before what was met later
		return nil, err
	}
	if err != nil {
		return nil, err
	}
	if err := u.giveACLs(); err != nil {
		return nil, err
	}
	for i := range u.index {
		if e := &u.index[i]; e.Kind == Dir {
			if err := folder.dress(path.Join(folder.Dir, e.Path), e); err != nil {
				return nil, fmt.Errorf("write %s: %w", e.Path, err)
			}
		}
	}
	u.index.Sort()
	regroup(u.index)
	return u.index, folder.Finish(u.index)
}

type unpacker struct {
	ctx    context.Context
	folder Folder
	limits Limits
	index  Index
	at     map[string]int // path -> position in index
	bytes  int64
	acls   []aclOf

	writers *writers
}

// aclOf is an ACL in words: the names in it may be those of accounts that come later in the archive.
type aclOf struct{ path, attribute, text string }

func (u *unpacker) add(e Entry) {
	u.at[e.Path] = len(u.index)
	u.index = append(u.index, e)
}

func (u *unpacker) entry(h *tar.Header, content io.Reader) error {
	refuse := func(reason string, args ...any) error {
		return &HostileError{Entry: h.Name, Reason: fmt.Sprintf(reason, args...)}
	}
	name, err := cleanName(h.Name)
	if err != "" {
		return refuse("%s", err)
	}
	if len(u.index) > u.limits.Entries {
		return refuse("is one too many: the limit is %d names", u.limits.Entries)
	}
	e := Entry{Path: name, Mode: uint32(h.Mode) & 0o7777, UID: uint32(h.Uid), GID: uint32(h.Gid), MTime: h.ModTime.Unix()}
	if h.Uid < 0 || h.Gid < 0 || h.Uid > math.MaxUint32-1 || h.Gid > math.MaxUint32-1 {
		return refuse("has an owner %d:%d that no system holds", h.Uid, h.Gid)
	}
	for key, value := range h.PAXRecords {
		if attribute, ok := strings.CutPrefix(key, attributeKey); ok {
			if attribute = unescapes.Replace(attribute); keepXattr(attribute) && !(attribute == accessACL && saysNoMore([]byte(value))) {
				e.setXattr(attribute, []byte(value))
			}
		} else if attribute := aclRecords[key]; attribute != "" && h.Typeflag != tar.TypeLink {
			u.acls = append(u.acls, aclOf{name, attribute, value})
			if e.Xattrs == nil {
				e.Xattrs = map[string][]byte{} // which further names share
			}
		}
	}
	switch h.Typeflag {
	case tar.TypeReg, '\x00', tar.TypeGNUSparse, tar.TypeCont:
		e.Kind, e.Size = File, h.Size
	case tar.TypeDir:
		e.Kind = Dir
	case tar.TypeSymlink:
		e.Kind, e.Link, e.Mode = Symlink, h.Linkname, 0o777
	case tar.TypeLink:
		return u.hardlink(h, name)
	case tar.TypeFifo:
		e.Kind = Fifo
	case tar.TypeChar, tar.TypeBlock:
		e.Kind = Char
		if h.Typeflag == tar.TypeBlock {
			e.Kind = Block
		}
		if h.Devmajor < 0 || h.Devmajor > mostMajor || h.Devminor < 0 || h.Devminor > mostMinor {
			return refuse("is the device %d:%d, and Linux has none beyond %d:%d", h.Devmajor, h.Devminor, mostMajor, mostMinor)
		}
		e.Major, e.Minor = uint32(h.Devmajor), uint32(h.Devminor)
		if !strings.HasPrefix(name, "dev/") {
			return refuse("is a device outside dev/")
		}
	case tar.TypeXGlobalHeader:
		return nil
	default:
		return refuse("has the unknown type %q", h.Typeflag)
	}
	if e.Kind == Symlink {
		if h.Linkname == "" || len(h.Linkname) > 4095 {
			return refuse("is a link whose target has %d bytes; 1 to 4095 can be", len(h.Linkname))
		}
		if leaves(name, h.Linkname) {
			return refuse("links to %q, which leaves the root", h.Linkname)
		}
	}
	if e.Size > u.limits.Logical || e.Size < 0 {
		return refuse("claims %d bytes; the limit for one file is %d", e.Size, u.limits.Logical)
	}
	return u.write(&e, content)
}

// cleanName is the entry's path below the root, or the reason why there is none.
func cleanName(name string) (clean, reason string) {
	switch {
	case name == "":
		return "", "has no name"
	case strings.HasPrefix(name, "/"):
		return "", "has an absolute name; names must be relative to the root"
	case len(name) > mostPath:
		return "", fmt.Sprintf("has a name of %d bytes; %d is the most", len(name), mostPath)
	case strings.IndexByte(name, 0) >= 0:
		return "", "has a zero byte in its name"
	}
	for _, part := range strings.Split(name, "/") {
		if part == ".." {
			return "", "has '..' in its name"
		}
		if len(part) > 255 {
			return "", "has a name part longer than 255 bytes"
		}
	}
	return path.Clean(name), ""
}

// leaves says whether a relative link climbs above the root. An absolute one starts at the image's own root.
func leaves(name, target string) bool {
	if strings.HasPrefix(target, "/") {
		return false
	}
	depth := strings.Count(name, "/")
	for _, part := range strings.Split(target, "/") {
		switch part {
		case "..":
			depth--
		case "", ".":
		default:
			depth++
		}
		if depth < 0 {
			return true
		}
	}
	return false
}

func (u *unpacker) hardlink(h *tar.Header, name string) error {
	target, reason := cleanName(strings.TrimPrefix(h.Linkname, "/"))
	if reason != "" {
		return &HostileError{h.Name, fmt.Sprintf("is a hard link to %q, which leaves the root", h.Linkname)}
	}
	if err := u.settle(true); err != nil { // the file has to be there
		return err
	}
	i, ok := u.at[target]
	if !ok || u.index[i].Kind == Dir {
		return &HostileError{h.Name, fmt.Sprintf("is a hard link to %q, which is no file before it in the archive", h.Linkname)}
	}
	e := u.index[i]
	if e.Same == "" {
		e.Same = e.Path
	}
	e.Path = name
	if e.Kind != File {
		e.Same = "" // a second name for a link, device or pipe is a second one
	}
	return u.write(&e, nil)
}

func (u *unpacker) write(e *Entry, content io.Reader) error {
	if err := u.parents(e.Path); err != nil {
		return err
	}
	if i, ok := u.at[e.Path]; ok {
		old := &u.index[i]
		if old.Kind == Dir && e.Kind == Dir {
			*old = *e
			return nil
		}
		// A second entry of the same name would also change the names linked to the first.
		return &HostileError{e.Path, "appears twice"}
	}
	if e.Kind == Dir {
		u.add(*e)
		return u.folder.create(path.Join(u.folder.Dir, e.Path), e, nil)
	}
	if e.Kind == File && e.Same == "" && e.Size <= smallFile {
		u.add(*e)
		if err := u.writers.write(len(u.index)-1, e, content); err != nil {
			return err
		}
		return u.settle(false)
	}
	if e.Kind == File && e.Same == "" {
		hash, holes := sha256.New(), newHoleFinder()
		counted := &counter{r: content}
		hashing := newAside(io.MultiWriter(hash, holes))
		err := u.folder.Put(e, io.TeeReader(&interruptible{u.ctx, counted}, hashing))
		hashing.end()
		if err != nil {
			return err
		}
		e.Digest, e.Data = hex.EncodeToString(hash.Sum(nil)), holes.Data()
		u.add(*e)
		return u.solid(e, counted.solid)
	}
	u.add(*e)
	return u.folder.Put(e, nil)
}

// solid adds to the bytes of all files.
func (u *unpacker) solid(e *Entry, n int64) error {
	if u.bytes += n; u.bytes > u.limits.Bytes {
		return &HostileError{e.Path, fmt.Sprintf("brings the archive over the limit of %d bytes", u.limits.Bytes)}
	}
	return nil
}

// settle puts into the index what became of small files; all of those that were begun, or as far as they are written.
func (u *unpacker) settle(all bool) error {
	list, failed := u.writers.take(all)
	if failed && !all {
		more, _ := u.writers.take(true)
		list = append(list, more...)
	}
	slices.SortFunc(list, func(a, b result) int { return cmp.Compare(a.at, b.at) })
	for _, r := range list {
		e := &u.index[r.at]
		if r.err != nil {
			return r.err
		}
		e.Digest, e.Data = r.digest, r.data
		if err := u.solid(e, r.solid); err != nil {
			return err
		}
	}
	return nil
}

// parents makes missing folders above a name and refuses a way that passes through anything else.
func (u *unpacker) parents(name string) error {
	dir := path.Dir(name)
	if dir == "." {
		return nil
	}
	if i, ok := u.at[dir]; ok {
		if u.index[i].Kind != Dir {
			return &HostileError{name, fmt.Sprintf("passes through %q, which is a %s", dir, u.index[i].Kind)}
		}
		return nil
	}
	if err := u.parents(dir); err != nil {
		return err
	}
	e := Entry{Path: dir, Kind: Dir, Mode: 0o755}
	u.add(e)
	return u.folder.create(path.Join(u.folder.Dir, dir), &e, nil)
}

// counter counts the bytes that are not in holes, by pages.
type counter struct {
	r     io.Reader
	solid int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	if !isZero(p[:n]) {
		c.solid += int64(n)
	}
	return n, err
}

// Numbers of devices (Linux, include/linux/kdev_t.h: 12 and 20 bits).
const (
	mostMajor = 1<<12 - 1
	mostMinor = 1<<20 - 1
)

// keepXattr says whether an attribute belongs to the image rather than to the host it came from.
func keepXattr(name string) bool {
	return !strings.HasPrefix(name, overlayMarks) && !strings.HasPrefix(name, "trusted.overlay.") && name != "security.selinux"
}

// giveACLs gives files the ACLs that came in words, now that all accounts are known.
func (u *unpacker) giveACLs() error {
	var accounts [2]map[string]uint32 // users, groups
	find := func(group bool, name string) (uint32, bool) {
		which, file := 0, "etc/passwd"
		if group {
			which, file = 1, "etc/group"
		}
		if accounts[which] == nil {
			accounts[which] = u.accounts(file)
		}
		id, ok := accounts[which][name]
		return id, ok
	}
	for _, acl := range u.acls {
		value, err := parseACL(acl.text, find)
		if err != nil {
			return &HostileError{acl.path, "cannot be used: " + err.Error()}
		}
		e := &u.index[u.at[acl.path]]
		// empty, or given as an attribute
		if len(value) == 4 || acl.attribute == accessACL && saysNoMore(value) || e.Xattrs[acl.attribute] != nil {
			continue
		}
		e.setXattr(acl.attribute, value)
		full := path.Join(u.folder.Dir, e.Path)
		if e.Kind == Dir { // dressed later
			continue
		}
		if err := errors.Join(u.folder.dress(full, e), setTime(full, e.MTime)); err != nil {
			return fmt.Errorf("write %s: %w", e.Path, err)
		}
	}
	return nil
}

// accounts reads the ids of a file like passwd(5) or group(5) that was unpacked.
func (u *unpacker) accounts(name string) map[string]uint32 {
	ids := map[string]uint32{}
	i, ok := u.at[name]
	if !ok || u.index[i].Kind != File {
		return ids
	}
	f, err := os.Open(path.Join(u.folder.Dir, name))
	if err != nil {
		return ids
	}
	defer f.Close()
	for in := bufio.NewScanner(f); in.Scan(); {
		if part := strings.Split(in.Text(), ":"); len(part) > 2 {
			if id, err := strconv.ParseUint(part[2], 10, 32); err == nil {
				ids[part[0]] = uint32(id)
			}
		}
	}
	return ids
}
