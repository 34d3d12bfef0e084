package loader

import (
	"cmp"
	"fmt"
	"path"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
)

// grub is GRUB's program for UEFI with all its modules in it, behind shim where the tree has that. It reads EFI/ID/grub.cfg, which leads
// to the root's own grub.cfg, so that what the tree's tools write there later is what starts.
type grub struct{}

// Name is Loader.
func (grub) Name() string { return "grub" }

const grubConfig = "boot/grub/grub.cfg"

// Place is Loader.
func (grub) Place(t *Tree, w Wanted) (*Parts, []string, error) {
	program, machine := t.grub()
	ready, release, cmdline, missing, err := t.ready(w, program, grubWord)
	if err != nil || len(missing) > 0 {
		return nil, missing, err
	}
	p := &Parts{Type: machine.root, About: "GRUB, kernel " + ready[0].version,
		Start: Start{t.whole(ready[0].image), t.whole(ready[0].initrd), cmdline}}
	first := "EFI/BOOT/BOOT" + strings.ToUpper(machine.suffix) + ".EFI"
	if shim := t.file("usr/lib/shim/shim" + machine.suffix + ".efi.signed"); shim != nil {
		p.About = "shim, " + p.About
		p.ESP = []disk.FATFile{t.on(first, shim), t.on("EFI/BOOT/grub"+machine.suffix+".efi", program)}
		if keys := t.file("usr/lib/shim/mm" + machine.suffix + ".efi.signed"); keys != nil {
			p.ESP = append(p.ESP, t.on("EFI/BOOT/mm"+machine.suffix+".efi", keys))
		}
	} else {
		p.ESP = []disk.FATFile{t.on(first, program)}
	}
	find := "search --no-floppy --fs-uuid --set=root " + w.UUID + "\n"
	p.ESP = append(p.ESP, disk.FATFile{Path: "EFI/" + cmp.Or(release["ID"], "BOOT") + "/grub.cfg",
		Text: []byte(find + "set prefix=($root)/boot/grub\nconfigfile /" + grubConfig + "\n")})
	if p.Root, err = t.fstab(w); err != nil || t.file(grubConfig) != nil {
		return p, nil, err
	}
	text := "set timeout=1\n" + find
	for _, k := range ready {
		text += fmt.Sprintf("menuentry '%s, %s' {\n\tlinux /%s %s\n\tinitrd /%s\n}\n",
			strings.ReplaceAll(cmp.Or(release["PRETTY_NAME"], w.Token), "'", ""), k.version, k.image.Path, cmdline, k.initrd.Path)
	}
	p.Root = append(p.Root, Added{Path: grubConfig, Text: text})
	return p, nil, nil
}

// grub is GRUB's program with its modules in it, signed where the tree has such a one, and for which kind of machine.
func (t *Tree) grub() (*layer.Node, *arch) {
	for i := range arches {
		kind := map[string]string{"x64": "x86_64-efi", "aa64": "arm64-efi"}[arches[i].suffix]
		for _, dir := range []string{"usr/lib/grub/" + kind + "-signed", "usr/lib/grub/" + kind + "/monolithic"} {
			for _, end := range []string{".signed", ""} {
				if n := t.file(path.Join(dir, "grub"+arches[i].suffix+".efi"+end)); n != nil {
					return n, &arches[i]
				}
			}
		}
	}
	return nil, nil
}
