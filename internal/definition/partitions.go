package definition

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/disk"
)

// onRoot are folders that a machine needs before it mounts others, or fills itself.
var onRoot = []string{"usr", "etc", "bin", "sbin", "lib", "lib32", "lib64", "boot", "efi", "dev", "proc", "sys", "run"}

// partitions reads those that a disk has beside its root's.
func (r *reader) partitions(t *table, name string) string {
	list := t.tables(name)
	if list == nil {
		return ""
	}
	if boot, _ := t.text("boot"); boot == "base" {
		r.problems.add(t.find(name).pos, "a disk as the base's has the base's partitions", "add boot = \"uefi\", or take them out")
	}
	var parts []artifact.Partition
	for _, p := range list {
		var part artifact.Partition
		var at Pos
		if part.Name, at = p.textMust("name", "data"); part.Name != "" {
			r.problems.name("a partition", part.Name, at)
			if slices.Contains([]string{"root", "esp"}, part.Name) ||
				slices.ContainsFunc(parts, func(o artifact.Partition) bool { return o.Name == part.Name }) {
				r.problems.add(at, fmt.Sprintf("another partition is called %q", part.Name), "tell them apart")
			}
			if len(part.Name) > 16 {
				r.problems.add(at, fmt.Sprintf("%q is longer than a label, 16 bytes", part.Name), "shorten it")
			}
		}
		const least = 1 << 20
		if part.Bytes = p.size("size") >> 20 << 20; part.Bytes < least {
			at = p.pos
			if e := p.find("size"); e != nil {
				at = e.pos
			}
			r.problems.add(at, p.name+" needs a size of 1 MiB or more", "add size = \"1GiB\"")
		}
		kind, at := p.text("type")
		if part.Swap = kind == "swap"; !part.Swap && kind != disk.Systems[0].Name {
			part.Other = kind
		}
		if kind != "" {
			var known []string
			for _, s := range disk.Systems {
				known = append(known, s.Name)
			}
			r.problems.oneOf("type of partition", kind, at, known, nil)
		}
		system := part.System()
		part.Mount = r.mount(p, system != nil && !system.Files, parts)
		p.done()
		parts = append(parts, part)
	}
	return artifact.PartsText(parts)
}

// mount reads the folder that a partition's files are below.
func (r *reader) mount(p *table, fileless bool, others []artifact.Partition) string {
	text, at := p.text("mount")
	folder := strings.TrimPrefix(text, "/")
	first, _, _ := strings.Cut(folder, "/")
	switch {
	case text == "":
	case fileless:
		kind, _ := p.text("type")
		r.problems.add(at, kind+" is mounted nowhere", "take mount out")
	case path.Clean(text) != text || text[0] != '/' || folder == "" || strings.ContainsAny(text, " \t\n\\#"):
		r.problems.add(at, fmt.Sprintf("%q is no folder to mount it on", text), "write it as in mount = \"/var/log\", without spaces")
	case slices.Contains(onRoot, first):
		r.problems.add(at, fmt.Sprintf("what is in /%s is needed before other partitions are there", first), "leave it on the root")
	case slices.ContainsFunc(others, func(o artifact.Partition) bool { return o.Mount == folder }):
		r.problems.add(at, "another partition is mounted on "+text, "take one out")
	default:
		return folder
	}
	return ""
}
