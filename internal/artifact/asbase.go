package artifact

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/reading"
)

const gptEnd = 33 * 512 // bytes of the table at a disk's end

// layout is how the disk was laid out that the tree's base was read from, nil if it was none.
func (t *Tree) layout() (*reading.Rooting, error) {
	if len(t.Layout) == 0 {
		return nil, nil
	}
	var r reading.Rooting
	if err := json.Unmarshal(t.Layout, &r); err != nil {
		return nil, fmt.Errorf("how the base's disk was laid out cannot be read: %w", err)
	}
	if r.Table == nil || len(r.Mounts) == 0 {
		return nil, errors.New("how the base's disk was laid out is not kept whole")
	}
	return &r, nil
}

// asBase is a disk as the base's was: its table, what starts it and its ids, with the file systems made anew. The root takes the rest of
// the disk if it was the last.
func (t *Tree) asBase(ctx context.Context, o Options, r *reading.Rooting) (disk.Volume, error) {
	if r.Table.Scheme == "" { // a file system without a table
		fs := filesystem{size: o.Size, label: r.Mounts[0].Label, id: idFrom(r.Mounts[0].ID)}
		return t.root(ctx, o, fs)
	}
	parts := slices.SortedFunc(slices.Values(r.Table.Parts), func(a, b reading.Partition) int { return int((a.Offset - b.Offset) >> 9) })
	root := slices.IndexFunc(parts, func(p reading.Partition) bool { return p.Number == r.Mounts[0].Partition })
	if root < 0 {
		return nil, errors.New("the base's disk has no partition of its root")
	}
	last := root == len(parts)-1
	size, end := r.Table.Size, int64(0)
	if r.Table.Scheme == "gpt" {
		end = gptEnd
	}
	if last && o.Size > 0 {
		if size = o.Size; size-end <= parts[root].Offset {
			return nil, fmt.Errorf("a size of %d MiB has no room for the root behind what lies before it; give the artifact "+
				"a larger size in images/%s.toml",
				o.Size>>20, o.Label)
		}
		parts[root].Length = (size - end - parts[root].Offset) >> 12 << 12
	} else if o.Size > 0 && o.Size != size {
		return nil, fmt.Errorf("the root is not the last partition of the base's disk, so that the disk keeps its %d MiB; take size out of "+
			"the artifact in images/%s.toml, or give it boot = \"uefi\"", size>>20, o.Label)
	}
	volumes, err := t.systems(ctx, o, r, parts, last && o.Size == 0)
	if err != nil {
		return nil, err
	}
	if grown := volumes[root].Size(); grown > parts[root].Length {
		parts[root].Length = grown
		size = (parts[root].Offset + grown + end + 1<<20 - 1) >> 20 << 20
	}
	return laidAs(r.Table, size, parts, volumes)
}

// systems are what the partitions hold, in their order; grows says that the root may become larger than it was.
func (t *Tree) systems(ctx context.Context, o Options, r *reading.Rooting, parts []reading.Partition, grows bool) ([]disk.Volume, error) {
	volumes := make([]disk.Volume, len(parts))
	for i := range parts {
		p := &parts[i]
		at := slices.IndexFunc(r.Mounts, func(m reading.Mount) bool { return m.Partition == p.Number })
		if at < 0 {
			if p.Lost {
				return nil, fmt.Errorf("partition %d of the base's disk holds %d MiB that are no part of the tree and are not kept; give the artifact "+
					"boot = \"uefi\" in images/%s.toml for a disk without it", p.Number, p.Length>>20, o.Label)
			}
			volumes[i] = disk.Text(pad512(p.Content))
			continue
		}
		m := &r.Mounts[at]
		var below []string
		for _, other := range r.Mounts[at+1:] {
			below = append(below, other.At)
		}
		var err error
		if m.System == "vfat" {
			volumes[i], err = t.vfat(o, m, p.Length)
		} else {
			fs := filesystem{size: p.Length >> 12 << 12, label: m.Label, id: idFrom(m.ID), at: m.At, hidden: below}
			volumes[i], err = t.root(ctx, o, fs)
			var small *disk.SizeError
			if errors.As(err, &small) && at == 0 && grows {
				fs.size = 0
				volumes[i], err = t.root(ctx, o, fs)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("partition %d, /%s: %w", p.Number, strings.TrimPrefix(m.At, "."), err)
		}
	}
	return volumes, nil
}

// vfat is a file system with the files below a folder.
func (t *Tree) vfat(o Options, m *reading.Mount, size int64) (disk.Volume, error) {
	number, err := strconv.ParseUint(m.ID, 16, 32)
	if err != nil {
		return nil, err
	}
	var files []disk.FATFile
	for _, n := range t.Nodes {
		name, ok := strings.CutPrefix(n.Path, m.At+"/")
		switch {
		case !ok:
		case n.Kind == layer.File:
			files = append(files, disk.FATFile{Path: name, Source: t.Content(n), Size: n.Size, Marks: m.Marks[n.Path]})
		case n.Kind == layer.Dir:
			files = append(files, disk.FATFile{Path: name, Dir: true, Marks: m.Marks[n.Path]})
		}
	}
	return disk.FAT(files, disk.FATOptions{Size: size, Label: m.Label, ID: uint32(number), Epoch: o.Epoch})
}

// laidAs is the disk of volumes with a table as it was.
func laidAs(t *reading.Table, size int64, parts []reading.Partition, volumes []disk.Volume) (disk.Volume, error) {
	var list []disk.Entry
	var placed []disk.Placed
	for i, p := range parts {
		e, err := entryOf(t, p)
		if err != nil {
			return nil, err
		}
		list = append(list, e)
		placed = append(placed, disk.Placed{Offset: p.Offset, Volume: volumes[i]})
	}
	var tables []disk.Placed
	var err error
	switch {
	case t.Scheme == "gpt":
		tables, err = disk.GPTAs(size, idFrom(t.ID), t.Front, list)
	case t.Extended == nil:
		tables, err = disk.MBRAs(t.Front, list, nil)
	default:
		var e disk.Entry
		if e, err = entryOf(t, *t.Extended); err == nil {
			tables, err = disk.MBRAs(t.Front, list, &e)
		}
	}
	if err != nil {
		return nil, err
	}
	return disk.Laid(size, append(placed, tables...))
}

// entryOf is a partition as it is written.
func entryOf(t *reading.Table, p reading.Partition) (disk.Entry, error) {
	e := disk.Entry{Number: p.Number, Offset: p.Offset, Length: p.Length, ID: idFrom(p.ID), Name: p.Name, Flags: p.Flags, Link: p.Link}
	if t.Scheme == "gpt" {
		e.Type = idFrom(p.Type)
		return e, nil
	}
	kind, err := strconv.ParseUint(p.Type, 16, 8)
	e.Kind = byte(kind)
	return e, err
}

func idFrom(digits string) (id [16]byte) {
	_, _ = hex.Decode(id[:min(16, len(digits)/2)], []byte(digits[:min(32, len(digits))/2*2])) // what is no digit stays zero
	return id
}

func pad512(b []byte) []byte { return append(b, make([]byte, (512-len(b)%512)%512)...) }
