package artifact

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/loader"
	"zygos/internal/reading"
	"zygos/internal/store"
)

// onDisks are the options of all disks, and more of one format.
func onDisks(more ...*Option) []*Option {
	return append([]*Option{&size, &booting, &loading, &esp, &cmdline, &partition}, more...)
}

// contained writes a tree's disk in a container.
func contained(container func(*Tree, Options) disk.Container) func(context.Context, *store.Writer, *Tree, Options) error {
	return func(ctx context.Context, to *store.Writer, t *Tree, o Options) error {
		volume, err := t.volume(ctx, o)
		if err != nil {
			return err
		}
		return container(t, o)(ctx, to, disk.Told(volume, t.Tell))
	}
}

// volume is a tree's disk: its file system, or a partition table with that and what starts it.
func (t *Tree) volume(ctx context.Context, o Options) (disk.Volume, error) {
	fs := filesystem{size: o.Size, label: o.Label, id: t.idOf("root")}
	layout, err := t.layout()
	if err != nil {
		return nil, err
	}
	switch how := o.Says[booting.Name]; {
	case layout != nil && (how == "base" || how == ""):
		return t.asBase(ctx, o, layout)
	case how == "base":
		return nil, fmt.Errorf("its base was no disk, so that there is nothing to lay it out as; give the artifact "+
			"boot = \"uefi\" in images/%s.toml, or none", o.Label)
	case how != "uefi":
		return t.root(ctx, o, fs)
	}
	partition, vfat := t.idOf("root partition"), t.numberOf("esp")
	parts, err := t.starting(o)
	if err != nil {
		return nil, err
	}
	front := o.Says.Bytes("esp", defaultESP)
	system, err := disk.FAT(parts.ESP, disk.FATOptions{Size: front, Label: "ESP", ID: vfat, Epoch: o.Epoch})
	var small *disk.SizeError
	if errors.As(err, &small) {
		return nil, fmt.Errorf("kernel and loader need an EFI system partition of %d MiB; give the artifact esp = \"%dMiB\" in images/%s.toml",
			roundMiB(small.Needed), roundMiB(small.Needed), o.Label)
	}
	if err != nil {
		return nil, fmt.Errorf("EFI system partition: %w", err)
	}
	more, err := t.partitions(ctx, o)
	if err != nil {
		return nil, err
	}
	fs.around = front + disk.GPTOverhead
	beside := fmt.Sprintf("the EFI system partition of %d MiB", front>>20)
	for _, p := range more {
		fs.around += p.Size()
		beside += fmt.Sprintf(", %s of %d MiB", p.Name, p.Size()>>20)
	}
	if o.Size > 0 && o.Size <= fs.around {
		return nil, fmt.Errorf("a size of %d MiB has no room for the root beside %s; give the artifact a larger size in images/%s.toml, or "+
			"leave size out for the smallest", o.Size>>20, beside, o.Label)
	}
	fs.added, fs.hidden = parts.Root, below(o.Says.Parts(), "")
	root, err := t.root(ctx, o, fs)
	if err != nil {
		return nil, err
	}
	last := disk.Partition{Volume: root, Name: "root", Type: parts.Type, ID: partition}
	if o.Size > 0 {
		last.Length = o.Size - fs.around
	}
	first := disk.Partition{Volume: system, Name: "esp", Type: disk.TypeESP, ID: t.idOf("esp partition")}
	return disk.GPT(t.idOf("disk"), slices.Concat([]disk.Partition{first}, more, []disk.Partition{last})...)
}

// starting is what a tree's disk needs to start by itself; the error is a *loader.MissingError if the tree cannot.
func (t *Tree) starting(o Options) (*loader.Parts, error) {
	vfat := t.numberOf("esp")
	layout, err := t.layout()
	if err != nil {
		return nil, err
	}
	var gone []string
	if layout != nil {
		for _, m := range layout.Mounts {
			gone = append(gone, path.Join("/", m.At))
		}
	}
	return loader.Disk(&loader.Tree{Tree: t.Merged, Content: t.Content}, loader.Wanted{Token: o.Label, Cmdline: o.Says["cmdline"],
		Loader: o.Says["loader"], UUID: dashed(t.idOf("root")), Root: "PARTUUID=" + dashed(t.idOf("root partition")),
		ESP: fmt.Sprintf("UUID=%04X-%04X", vfat>>16, vfat&0xffff), Mounts: t.mounts(o), Gone: gone})
}

// Start is what starts the tree's disk without its loader.
func (t *Tree) Start(o Options) (loader.Start, error) {
	layout, err := t.layout()
	if err != nil {
		return loader.Start{}, err
	}
	if layout != nil && o.Says[booting.Name] == "base" {
		return loader.Kernel(&loader.Tree{Tree: t.Merged, Content: t.Content}, loader.Wanted{Cmdline: o.Says["cmdline"],
			Root: "UUID=" + dashed(idFrom(layout.Mounts[0].ID))})
	}
	parts, err := t.starting(o)
	if err != nil {
		return loader.Start{}, err
	}
	return parts.Start, nil
}

// BIOS says whether a disk as the base's starts without UEFI only: where it has no EFI system partition.
func (t *Tree) BIOS(o Options) bool {
	layout, err := t.layout()
	return err == nil && layout != nil && o.Says[booting.Name] == "base" && !slices.ContainsFunc(layout.Mounts, func(m reading.Mount) bool {
		return m.System == "vfat"
	})
}

// Ready says beforehand whether a tree has what an artifact of it needs.
func (t *Tree) Ready(f *Format, o Options) error {
	if !f.Takes(booting.Name) || o.Says[booting.Name] != "uefi" {
		return nil
	}
	_, err := t.starting(o)
	return err
}

const defaultESP = 256 << 20

func roundMiB(n int64) int64 { return (n + 1<<20 - 1) >> 20 }

// dashed is an id as people write it (RFC 9562, chapter 4).
func dashed(id [16]byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", id[0:4], id[4:6], id[6:8], id[8:10], id[10:16])
}

// uuid is an id made from a hash (RFC 9562, 5.8: version 8).
func uuid(hash []byte) (id [16]byte) {
	copy(id[:], hash)
	id[6], id[8] = id[6]&0x0f|0x80, id[8]&0x3f|0x80
	return id
}

// idOf is the id of a part of the tree's disks: another tree has another.
func (t *Tree) idOf(part string) [16]byte {
	sum := sha256.Sum256([]byte(t.Digest + "\n" + part))
	return uuid(sum[:])
}

// File types as in stat(2).
var fileTypes = map[layer.Kind]uint32{layer.Dir: unix.S_IFDIR, layer.File: unix.S_IFREG, layer.Symlink: unix.S_IFLNK,
	layer.Char: unix.S_IFCHR, layer.Block: unix.S_IFBLK, layer.Fifo: unix.S_IFIFO}

// numberOf is a short id of a part.
func (t *Tree) numberOf(part string) uint32 {
	id := t.idOf(part)
	return binary.BigEndian.Uint32(id[:])
}

// filesystem is what is said of a tree's file system.
type filesystem struct {
	system *disk.System // nil for that of roots
	size   int64        // of the disk; 0 for the smallest
	around int64        // of that, what is not the file system's
	label  string
	id     [16]byte
	added  []loader.Added
	at     string   // folder of the tree that it holds; "" for all
	hidden []string // folders that other file systems hold
}

// root lays out the file system of a tree.
func (t *Tree) root(ctx context.Context, o Options, fs filesystem) (disk.Volume, error) {
	files := make([]disk.File, 0, len(t.Nodes))
	first := map[string]string{} // of a file with several names, the first that lies here
	for _, n := range t.Nodes {
		name, ok := fs.holds(n.Path)
		if !ok {
			continue
		}
		same := ""
		if n.Same != "" {
			if same = first[n.Same]; same == "" {
				first[n.Same], n = name, t.Merged.Lookup(n.Same)
			}
		} else if n.Kind != layer.Dir {
			first[n.Path] = name
		}
		f := disk.File{Path: name, Mode: fileTypes[n.Kind] | n.Mode, UID: n.UID, GID: n.GID, MTime: n.MTime, Size: n.Size,
			Link: n.Link, Same: same, Major: n.Major, Minor: n.Minor, Xattrs: n.Xattrs,
			Source: t.Content(n), Layer: n.Layer}
		if n.Data != nil {
			f.Data = make([]disk.Extent, len(n.Data))
			for j, s := range n.Data {
				f.Data[j] = disk.Extent(s)
			}
		}
		files = append(files, f)
	}
	if fs.at != "" && (len(files) == 0 || files[0].Path != ".") { // the tree has no such folder
		files = slices.Insert(files, 0, folder(".", o.Epoch))
	}
	files = with(files, fs.added, o.Epoch)
	system := cmp.Or(fs.system, disk.Systems[0])
	options := disk.Options{Size: max(0, fs.size-fs.around), Label: fs.label[:min(len(fs.label), system.Label)], UUID: fs.id, Epoch: o.Epoch,
		Note: t.Note}
	volume, err := system.Lay(ctx, files, options)
	var small *disk.SizeError
	if errors.As(err, &small) {
		small.Size, small.Needed = fs.size, small.Needed+fs.around
		return nil, fmt.Errorf("%w; give the artifact a larger size in images/%s.toml, or leave size out for the smallest", small, o.Label)
	}
	return volume, err
}

// holds says whether a name of the tree lies in the file system, and how it is called there.
func (fs *filesystem) holds(name string) (there string, ok bool) {
	for _, hidden := range fs.hidden {
		if strings.HasPrefix(name, hidden+"/") {
			return "", false
		}
	}
	if fs.at == "" || fs.at == "." {
		return name, true
	}
	if name == fs.at {
		return ".", true
	}
	return strings.CutPrefix(name, fs.at+"/")
}

// with is the files of a tree and those that its disk has beside them.
func with(files []disk.File, added []loader.Added, epoch int64) []disk.File {
	last := 0
	for i := range files {
		last = max(last, files[i].Layer)
	}
	place := func(f disk.File) {
		if i := slices.IndexFunc(files, func(had disk.File) bool { return had.Path == f.Path }); i < 0 {
			files = append(files, f)
		} else if f.Mode&unix.S_IFMT != unix.S_IFDIR {
			files[i] = f
		}
	}
	for _, a := range added {
		var above []string
		for dir := path.Dir(a.Path); dir != "."; dir = path.Dir(dir) {
			above = append(above, dir)
		}
		for _, dir := range slices.Backward(above) {
			place(disk.File{Path: dir, Mode: unix.S_IFDIR | 0o755, MTime: epoch, Layer: last + 1})
		}
		if a.Folder {
			place(disk.File{Path: a.Path, Mode: unix.S_IFDIR | 0o755, MTime: epoch, Layer: last + 1})
			continue
		}
		place(disk.File{Path: a.Path, Mode: unix.S_IFREG | 0o644, MTime: epoch, Size: int64(len(a.Text)), Text: []byte(a.Text), Layer: last + 1})
	}
	return files
}
