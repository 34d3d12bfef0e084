package reading

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"zygos/internal/layer"
)

// Types of partitions by which a root is found (UAPI.3, Discoverable Partitions Specification), as they lie on disks.
var rootTypes = []string{"e3bc684fcde8b14d96e7fbcaf984b709", "45b021b9f01dc341af444c6f280d3fae"}

// Rooting is what of a disk becomes a tree.
type Rooting struct {
	Table  *Table  `json:"table"`
	Mounts []Mount `json:"mounts"` // the root first
}

// Mount is a file system of the disk, and where it belongs.
type Mount struct {
	Partition int    `json:"partition"` // 0 for a disk that is one file system
	At        string `json:"at"`        // "." for the root
	System    string `json:"system"`    // ext4 or vfat
	ID        string `json:"id"`        // UUID in hexadecimal digits, or the number of a FAT
	Label     string `json:"label,omitempty"`
	// Marks are attributes of FAT that a tree does not have, by path, once it was walked.
	Marks map[string]byte `json:"marks,omitempty"`
	fs    Rooted
}

// Root finds the file systems of a disk. partition names that of the root, 0 for none named.
func Root(ctx context.Context, d Disk, partition int) (*Rooting, error) {
	t, err := Partitions(d)
	if err != nil {
		return nil, err
	}
	r := &Rooting{Table: t}
	if t.Scheme == "" {
		if partition > 0 {
			return nil, fmt.Errorf("it has no partitions, and partition %d is asked for; take partition out", partition)
		}
		return r, r.mount(d, nil, ".")
	}
	p, err := t.root(d, partition)
	if err != nil {
		return nil, err
	}
	if err := r.mount(d, p, "."); err != nil {
		return nil, err
	}
	if err := r.others(ctx, d, p); err != nil {
		return nil, err
	}
	return r, r.keep(d)
}

const (
	mostFront   = 4 << 20  // bytes that are kept in front of partitions, and of one that is no part of the tree
	mostKept    = 16 << 20 // of all of these
	swapContent = 4 << 10  // of a swap partition: what says that it is one (mkswap(8))
)

// keep reads what a disk holds beside the file systems of the tree, so that another one can be laid out as it is.
func (r *Rooting) keep(d Disk) (err error) {
	t := r.Table
	first, left := t.Size, int64(mostKept)
	for i := range t.Parts {
		p := &t.Parts[i]
		first = min(first, p.Offset)
		if r.has(p) {
			continue
		}
		length := p.Length
		if System(p.Part(d)) == "swap" {
			length = swapContent
		}
		if p.Lost = length > min(mostFront, left); !p.Lost {
			left -= length
			if p.Content, err = solid(d, p.Offset, length); err != nil {
				return err
			}
		}
	}
	if t.Extended != nil {
		first = min(first, t.Extended.Offset)
	}
	t.Front, err = solid(d, 0, min(first, mostFront))
	return err
}

// solid is a part of a disk without zeros at its end.
func solid(d Disk, at, length int64) ([]byte, error) {
	b := make([]byte, length)
	if err := readFull(d, b, at, "a partition"); err != nil {
		return nil, err
	}
	return bytes.TrimRight(b, "\x00"), nil
}

// root is the partition of the root.
func (t *Table) root(d Disk, partition int) (*Partition, error) {
	var typed, labelled, linux []*Partition
	for i := range t.Parts {
		p := &t.Parts[i]
		if p.Number == partition {
			return p, nil
		}
		if slices.Contains(rootTypes, p.Type) {
			typed = append(typed, p)
		}
		system := System(p.Part(d))
		if system == "ext4" {
			linux = append(linux, p)
			if fs, err := OpenExt4(p.Part(d)); err == nil && strings.Contains(strings.ToLower(fs.Label+" "+p.Name), "root") {
				labelled = append(labelled, p)
			}
		}
	}
	for _, found := range [][]*Partition{typed, labelled, linux} {
		if len(found) == 1 && partition == 0 {
			return found[0], nil
		}
	}
	var list []string
	for i := range t.Parts {
		p := &t.Parts[i]
		list = append(list, fmt.Sprintf("%d (%s, %d MiB)", p.Number, cmp.Or(System(p.Part(d)), p.Name, "unknown"), p.Length>>20))
	}
	if partition > 0 {
		return nil, fmt.Errorf("it has no partition %d; it has %s", partition, strings.Join(list, ", "))
	}
	return nil, fmt.Errorf("which of its partitions holds the root is not clear; name it, for instance partition = %d. It has %s",
		firstOf(linux, t.Parts), cmp.Or(strings.Join(list, ", "), "none"))
}

func firstOf(linux []*Partition, all []Partition) int {
	switch {
	case len(linux) > 0:
		return linux[0].Number
	case len(all) > 0:
		return all[0].Number
	}
	return 1
}

// mount opens the file system of a partition, of the whole disk if it is nil.
func (r *Rooting) mount(d Disk, p *Partition, at string) error {
	m, where := Mount{At: at}, "it"
	if p != nil {
		m.Partition, where, d = p.Number, fmt.Sprintf("partition %d", p.Number), p.Part(d)
	}
	if at != "." {
		where += ", which its fstab mounts at /" + at + ","
	}
	switch m.System = System(d); m.System {
	case "ext4":
		fs, err := OpenExt4(d)
		if err != nil {
			return fmt.Errorf("%s: %w", where, err)
		}
		m.fs, m.ID, m.Label = fs, fs.ID, fs.Label
	case "vfat":
		fs, err := OpenFAT(d)
		if err != nil {
			return fmt.Errorf("%s: %w", where, err)
		}
		m.fs, m.ID, m.Label = fs, fmt.Sprintf("%08x", fs.ID), fs.Label
	case "LUKS":
		return fmt.Errorf("%s is encrypted (LUKS); a base needs plain file systems: open it and copy what is in it to a disk of its own", where)
	case "LVM", "RAID":
		return fmt.Errorf("%s is a part of %s, which is not read here; copy the root to a partition of its own", where, m.System)
	case "":
		return fmt.Errorf("%s holds no file system that is known here; ext4, ext3, ext2 and FAT are", where)
	default:
		return fmt.Errorf("%s is %s, which is not read here: ext4, ext3, ext2 and FAT are. Start from a root archive instead, which tar makes "+
			"of it where it is mounted", where, m.System)
	}
	r.Mounts = append(r.Mounts, m)
	return nil
}

const (
	mostFstab = 1 << 20
	mostLines = 10_000 // of an fstab
)

// name is what a file system says of itself.
type name struct{ id, label string }

// names reads what the file systems of the partitions say of themselves, by their numbers.
func (r *Rooting) names(d Disk) map[int]name {
	list := map[int]name{}
	for i := range r.Table.Parts {
		p := &r.Table.Parts[i]
		switch System(p.Part(d)) {
		case "ext4":
			if fs, err := OpenExt4(p.Part(d)); err == nil {
				list[p.Number] = name{fs.ID, fs.Label}
			}
		case "vfat":
			if fs, err := OpenFAT(p.Part(d)); err == nil {
				list[p.Number] = name{fmt.Sprintf("%08x", fs.ID), fs.Label}
			}
		}
	}
	return list
}

// others adds what the root's fstab(5) mounts of the same disk, and the EFI system partition.
func (r *Rooting) others(ctx context.Context, d Disk, root *Partition) error {
	text, err := r.Mounts[0].fs.ReadFile("etc/fstab", mostFstab)
	if err != nil {
		return fmt.Errorf("read its fstab: %w", err)
	}
	names := r.names(d)
	lines := 0
	for line := range strings.Lines(string(text)) {
		if err := ctx.Err(); err != nil {
			return err
		}
		if lines++; lines > mostLines {
			return fmt.Errorf("its fstab has more than %d lines", mostLines)
		}
		f := strings.Fields(line)
		if len(f) < 3 || strings.HasPrefix(f[0], "#") || !strings.HasPrefix(f[1], "/") || f[1] == "/" {
			continue
		}
		if p := r.named(names, f[0]); p != nil && p != root && !r.has(p) && f[2] != "swap" {
			if err := r.mount(d, p, path.Clean(layer.Unescape(f[1]))[1:]); err != nil {
				return err
			}
		}
	}
	const esp, espMBR = "28732ac11ff8d211ba4b00a0c93ec93b", "ef"
	for i := range r.Table.Parts {
		p := &r.Table.Parts[i]
		if (p.Type == esp || p.Type == espMBR) && !r.has(p) && System(p.Part(d)) == "vfat" {
			if err := r.mount(d, p, "boot/efi"); err != nil {
				return err
			}
		}
	}
	slices.SortStableFunc(r.Mounts[1:], func(a, b Mount) int { return len(a.At) - len(b.At) }) // what is above comes first
	return nil
}

func (r *Rooting) has(p *Partition) bool {
	return slices.ContainsFunc(r.Mounts, func(m Mount) bool { return m.Partition == p.Number })
}

// named is the partition that fstab(5) names, nil if it is none of the disk.
func (r *Rooting) named(names map[int]name, spec string) *Partition {
	key, value, _ := strings.Cut(spec, "=")
	value = layer.Unescape(strings.Trim(value, `"`))
	plain := strings.ToLower(strings.ReplaceAll(value, "-", ""))
	for i := range r.Table.Parts {
		p := &r.Table.Parts[i]
		switch key {
		case "UUID", "LABEL":
			id, label := names[p.Number].id, names[p.Number].label
			if (key == "UUID" && id == plain && id != "") || (key == "LABEL" && label == value && value != "") {
				return p
			}
		case "PARTUUID":
			id := mixed(p.ID)
			if r.Table.Scheme == "mbr" {
				id = fmt.Sprintf("%s%02x", swapped(r.Table.ID), p.Number)
			}
			if id == plain {
				return p
			}
		case "PARTLABEL":
			if p.Name == value && value != "" {
				return p
			}
		default: // a device's name ends with the number
			digits := spec[len(strings.TrimRight(spec, "0123456789")):]
			if n, err := strconv.Atoi(digits); strings.HasPrefix(spec, "/dev/") && err == nil && n == p.Number {
				return p
			}
		}
	}
	return nil
}

// mixed turns the digits of an identifier as it lies on disk into those that people write: three fields have the other byte order.
func mixed(id string) string {
	if len(id) != 32 {
		return id
	}
	return swapped(id[:8]) + swapped(id[8:12]) + swapped(id[12:16]) + id[16:]
}

// swapped has the bytes of digits in the other order.
func swapped(digits string) string {
	var b strings.Builder
	for i := len(digits) - 2; i >= 0; i -= 2 {
		b.WriteString(digits[i : i+2])
	}
	return b.String()
}

// Walk gives each name of all file systems as one tree.
func (r *Rooting) Walk(give func(*tar.Header, io.Reader) error) error {
	for i := range r.Mounts {
		m := &r.Mounts[i]
		covered := func(h *tar.Header, content io.Reader) error {
			for _, o := range r.Mounts[i+1:] { // what another file system hides
				if h.Name == o.At || strings.HasPrefix(h.Name, o.At+"/") {
					return errHidden
				}
			}
			return give(h, content)
		}
		if err := m.fs.Walk(m.At, covered); err != nil {
			return err
		}
		if fat, ok := m.fs.(*FAT); ok {
			m.Marks = fat.Marks
		}
	}
	return nil
}
