package artifact

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/loader"
)

// Partition is one that a disk has beside those of the root and of what starts it.
type Partition struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
	Mount string `json:"mount,omitempty"` // folder of the tree whose files it holds, "" for none
	Swap  bool   `json:"swap,omitempty"`
	Other string `json:"system,omitempty"` // its file system, if that is neither ext4 nor swap
}

// System is what the partition holds.
func (p *Partition) System() *disk.System {
	if p.Swap {
		return disk.FindSystem("swap")
	}
	return disk.FindSystem(cmp.Or(p.Other, disk.Systems[0].Name))
}

// Parts are the partitions that a definition asks for; those above others come first.
func (s Says) Parts() (list []Partition) {
	_ = json.Unmarshal([]byte(s[partition.Name]), &list) // PartsText wrote it, if it is there
	return list
}

// PartsText is how partitions are kept among what is said.
func PartsText(list []Partition) string {
	text, err := json.Marshal(list)
	if err != nil || len(list) == 0 {
		return ""
	}
	return string(text)
}

// below are those mounted below a folder of the tree, "" for all.
func below(list []Partition, folder string) (mounts []string) {
	for _, p := range list {
		if p.Mount != "" && (folder == "" || strings.HasPrefix(p.Mount, folder+"/")) {
			mounts = append(mounts, p.Mount)
		}
	}
	return mounts
}

// mounts are what fstab says of the partitions.
func (t *Tree) mounts(o Options) (list []loader.Mount) {
	for _, p := range o.Says.Parts() {
		if p.System() == nil {
			continue // partitions says that it is not known
		}
		list = append(list, loader.Mount{Device: "PARTUUID=" + dashed(t.idOf("partition "+p.Name)), Folder: p.Mount, System: p.System()})
	}
	slices.SortStableFunc(list, func(a, b loader.Mount) int { return strings.Compare(a.Folder, b.Folder) })
	return list
}

// partitions are those that the definition asks for.
func (t *Tree) partitions(ctx context.Context, o Options) (list []disk.Partition, err error) {
	all := o.Says.Parts()
	if text := o.Says[partition.Name]; text != "" && len(all) == 0 {
		return nil, fmt.Errorf("what the record says of the partitions is damaged: %.80q", text)
	}
	for _, p := range all {
		id := t.idOf("file system " + p.Name)
		system := p.System()
		if system == nil {
			return nil, fmt.Errorf("partition %s is to hold %s, which this program does not write", p.Name, p.Other)
		}
		part := disk.Partition{Name: p.Name, Type: system.Type, ID: t.idOf("partition " + p.Name)}
		if p.Mount == "" { // empty
			part.Volume, err = system.Lay(ctx, []disk.File{folder(".", o.Epoch)}, disk.Options{Size: p.Bytes,
				Label: p.Name[:min(len(p.Name), system.Label)], UUID: id, Epoch: o.Epoch, Note: t.Note})
		} else {
			part.Volume, err = t.root(ctx, o, filesystem{system: system, size: p.Bytes, label: p.Name, id: id, at: p.Mount,
				hidden: below(all, p.Mount)})
		}
		var small *disk.SizeError
		if errors.As(err, &small) {
			return nil, fmt.Errorf("partition %s needs %d MiB; give it size = \"%dMiB\" in images/%s.toml", p.Name, roundMiB(small.Needed),
				roundMiB(small.Needed), o.Label)
		}
		if err != nil {
			return nil, fmt.Errorf("partition %s: %w", p.Name, err)
		}
		list = append(list, part)
	}
	return list, nil
}

// folder is an empty one.
func folder(name string, epoch int64) disk.File {
	return disk.File{Path: name, Mode: fileTypes[layer.Dir] | 0o755, MTime: epoch}
}
