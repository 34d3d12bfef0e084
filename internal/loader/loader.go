// Package loader finds in a tree what starts a machine, and says where on a disk it belongs: the files of the EFI system
// partition, and the few that the tree's own tools need so that kernels which come later find their way there too. It
// runs nothing.
package loader

import (
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
)

// Tree is what is to start.
type Tree struct {
	*layer.Tree
	Content func(*layer.Node) string // file with a node's content
}

// Wanted is what is said of the disk.
type Wanted struct {
	Token   string // names the folder of kernels on the EFI partition
	Cmdline string // added to the kernel's
	Root    string // what the kernel and fstab call the root: "PARTUUID=…"
	ESP     string // what fstab calls the EFI partition: "UUID=…"
	UUID    string // of the root's file system
	Loader  string // name of the one to use, "" for the first that the tree has
	Mounts  []Mount
	Gone    []string // folders that partitions held which this disk has not, "/" and so on; nil if the tree is of no other disk
}

// Mount is a partition beside the root and the EFI partition.
type Mount struct {
	Device string // what fstab calls it
	Folder string // of the tree; "" for swap, or what nobody mounts
	System *disk.System
}

// Added is a file that the disk's root has beside the tree's, or instead of one.
type Added struct {
	Path   string
	Text   string
	Folder bool // it is a folder, which the tree may have
}

// Parts is what the disk consists of.
type Parts struct {
	ESP   []disk.FATFile
	Root  []Added
	Type  [16]byte // of the root's partition
	About string   // in words: kernel and loader
	Start Start
}

// Start is what a machine starts without a loader.
type Start struct {
	Kernel, Initrd Piece
	Cmdline        string
}

// Piece is a part of a file.
type Piece struct {
	File         string
	Offset, Size int64
}

// Open opens it.
func (p Piece) Open() (io.ReadCloser, error) {
	f, err := os.Open(p.File)
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.NewSectionReader(f, p.Offset, p.Size), f}, nil
}

// whole is all of a file of the tree.
func (t *Tree) whole(n *layer.Node) Piece { return Piece{File: t.Content(n), Size: n.Size} }

// MissingError says what a tree lacks, and what brings it.
type MissingError struct {
	What     []string
	Packages string // that bring it, "" where they are not known
}

func (e *MissingError) Error() string {
	text := "the tree cannot start by itself, it has no " + strings.Join(e.What, ", no ")
	if e.Packages != "" {
		return text + "; install " + e.Packages + " in a stage"
	}
	return text + "; install them in a stage"
}

// arch is a kind of machine: how its loaders are called.
type arch struct {
	suffix string // of loaders
	root   [16]byte
}

var arches = []arch{{"x64", disk.TypeRootX64}, {"aa64", disk.TypeRootARM}}

// Loader is a way to start a tree: what it needs of it, and what it puts on the EFI partition.
type Loader interface {
	// Name is how definitions call it.
	Name() string
	// Place says what goes where; missing is what the tree lacks for it.
	Place(t *Tree, w Wanted) (parts *Parts, missing []string, err error)
}

// Loaders are the ways, in the order in which they are tried.
var Loaders = []Loader{unified{}, systemd{}, grub{}}

// Disk says what the disk of a tree consists of; the error is a *MissingError where the tree cannot start.
func Disk(t *Tree, w Wanted) (*Parts, error) {
	var lacks []string
	for _, l := range Loaders {
		if w.Loader != "" && l.Name() != w.Loader {
			continue
		}
		parts, missing, err := l.Place(t, w)
		if err != nil {
			return nil, err
		}
		if len(missing) == 0 && !t.starts() {
			missing = []string{initWord}
		}
		if len(missing) == 0 {
			return parts, nil
		}
		if lacks == nil || l.Name() == lackedBy {
			lacks = missing
		}
	}
	if !slices.Contains(lacks, initWord) && !t.starts() {
		lacks = append(lacks, initWord)
	}
	return nil, &MissingError{lacks, t.packages(lacks)}
}

// lackedBy is the way whose needs are told where no way has all.
const lackedBy = "systemd-boot"

// What a tree may lack.
const (
	kernelWord = "kernel"
	initrdWord = "initramfs"
	loaderWord = "boot loader"
	grubWord   = "GRUB"
	initWord   = "init"
)

// packages are those that bring what is missing, by the family of the tree.
func (t *Tree) packages(missing []string) string {
	var by map[string]string
	switch {
	case t.file("var/lib/dpkg/status") != nil:
		by = map[string]string{kernelWord: "linux-image-amd64", initrdWord: "initramfs-tools", loaderWord: "systemd-boot",
			grubWord: "grub-efi-amd64-signed shim-signed", initWord: "systemd-sysv"}
	case t.file("lib/apk/db/installed") != nil || t.file("usr/lib/apk/db/installed") != nil:
		by = map[string]string{kernelWord: "linux-virt", initrdWord: "mkinitfs", loaderWord: "systemd-boot", initWord: "openrc"}
	case t.rpm():
		by = map[string]string{kernelWord: "kernel-core", initrdWord: "dracut", loaderWord: "systemd-boot-unsigned", initWord: "systemd"}
	}
	var names []string
	for _, m := range missing {
		if by[m] != "" {
			names = append(names, by[m])
		}
	}
	return strings.Join(names, " ")
}

func (t *Tree) rpm() bool {
	return slices.ContainsFunc([]string{"var/lib/rpm", "usr/lib/sysimage/rpm"}, func(p string) bool { return t.Lookup(p) != nil })
}

// file is a regular file of the tree, links followed; nil if there is none.
func (t *Tree) file(name string) *layer.Node {
	if n := t.Follow(name); n != nil && n.Kind == layer.File {
		return n
	}
	return nil
}

// starts says whether the tree has what the kernel starts.
func (t *Tree) starts() bool {
	return slices.ContainsFunc([]string{"sbin/init", "etc/init", "bin/init", "usr/lib/systemd/systemd"}, func(p string) bool {
		return t.file(p) != nil
	})
}

const mostText = 1 << 20 // bytes of a file that is read here

// text is a small file's content, "" if there is none.
func (t *Tree) text(name string) (string, error) {
	n := t.file(name)
	if n == nil {
		return "", nil
	}
	f, err := os.Open(t.Content(n))
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, mostText))
	return string(text), err
}

// on puts a file of the tree on the EFI partition.
func (t *Tree) on(name string, n *layer.Node) disk.FATFile {
	return disk.FATFile{Path: name, Source: t.Content(n), Size: n.Size}
}

// under lists the files directly in a folder.
func (t *Tree) under(dir string) (list []*layer.Node) {
	folder := t.Follow(dir)
	if folder == nil {
		return nil
	}
	for _, p := range t.Under(folder.Path) {
		if path.Dir(p) == folder.Path {
			list = append(list, t.Lookup(p))
		}
	}
	return list
}

// points are where the EFI partition may be mounted, those that a tree has first.
var points = []string{"boot/efi", "efi"}

// settle is what the tree's own tools need to put later kernels where this one is: the mounts, the folder's name, the
// kernel's command line.
func (t *Tree) settle(w Wanted, cmdline string) ([]Added, error) {
	added, err := t.fstab(w)
	return append([]Added{{Path: "etc/kernel/entry-token", Text: w.Token + "\n"}, {Path: "etc/kernel/cmdline", Text: cmdline + "\n"},
		{Path: "etc/kernel/install.conf", Text: "layout=bls\n"}}, added...), err
}

// fstab is the tree's own and what it has no lines for: the root and the EFI partition where nothing mounts the root, and the other
// partitions; with the folders that these are mounted on.
func (t *Tree) fstab(w Wanted) (added []Added, err error) {
	point := points[0]
	for _, p := range points {
		if n := t.Lookup(p); n != nil && n.Kind == layer.Dir {
			point = p
			break
		}
	}
	had, err := t.text("etc/fstab")
	if err != nil {
		return nil, err
	}
	own := had
	if w.Gone != nil {
		own = without(had, w.Gone)
	}
	text := own
	if !mounts(own, "") { // a word for people
		text = ""
	} else if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	if !mounts(own, "/") {
		text = fmt.Sprintf("%s / ext4 errors=remount-ro 0 1\n%s /%s vfat umask=0077 0 1\n", w.Root, w.ESP, point) + text
	}
	for _, m := range w.Mounts {
		switch {
		case !m.System.Files:
			text += fmt.Sprintf("%s none %s %s\n", m.Device, m.System.Name, m.System.Mount)
		case m.Folder != "" && !mounts(own, "/"+m.Folder):
			text += fmt.Sprintf("%s /%s %s %s\n", m.Device, m.Folder, m.System.Name, m.System.Mount)
		}
		if m.Folder != "" && t.Lookup(m.Folder) == nil {
			added = append(added, Added{Path: m.Folder, Folder: true})
		}
	}
	if text != had {
		added = append(added, Added{Path: "etc/fstab", Text: text})
	}
	return added, nil
}

// without is an fstab(5) without the lines for partitions of another disk: those mounted on some folders, and swap.
func without(fstab string, folders []string) (text string) {
	for line := range strings.Lines(fstab) {
		f := strings.Fields(line)
		if len(f) > 2 && f[0][0] != '#' {
			partition := f[0][0] != '/' || strings.HasPrefix(f[0], "/dev/")
			if slices.Contains(folders, layer.Unescape(f[1])) || f[2] == "swap" && partition {
				continue
			}
		}
		text += line
	}
	return text
}

// mounts says whether an fstab(5) has a line for a mount point, "" for any.
func mounts(fstab, point string) bool {
	for line := range strings.Lines(fstab) {
		if fields := strings.Fields(line); len(fields) > 1 && !strings.HasPrefix(fields[0], "#") &&
			(point == "" || layer.Unescape(fields[1]) == point) {
			return true
		}
	}
	return false
}
