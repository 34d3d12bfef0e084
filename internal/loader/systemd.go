package loader

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/plain"
)

// systemd is systemd-boot with entries of the Boot Loader Specification (UAPI.1), where kernel-install(8) puts them.
type systemd struct{}

// kernel is one that a tree holds.
type kernel struct {
	version       string
	image, initrd *layer.Node
}

// Name is Loader.
func (systemd) Name() string { return "systemd-boot" }

// Place is Loader.
func (systemd) Place(t *Tree, w Wanted) (*Parts, []string, error) {
	program, machine := t.program()
	ready, release, cmdline, missing, err := t.ready(w, program, loaderWord)
	if err != nil || len(missing) > 0 {
		return nil, missing, err
	}
	p := &Parts{Type: machine.root, About: "systemd-boot, kernel " + ready[0].version,
		Start: Start{t.whole(ready[0].image), t.whole(ready[0].initrd), cmdline}}
	suffix := strings.ToUpper(machine.suffix)
	p.ESP = []disk.FATFile{t.on("EFI/BOOT/BOOT"+suffix+".EFI", program), t.on("EFI/systemd/systemd-boot"+machine.suffix+".efi", program),
		{Path: "loader/loader.conf", Text: []byte("timeout 1\n")}, {Path: "loader/entries.srel", Text: []byte("type1\n")}}
	for _, k := range ready {
		dir := w.Token + "/" + k.version
		initrd := path.Base(k.initrd.Path)
		p.ESP = append(p.ESP, t.on(dir+"/linux", k.image), t.on(dir+"/"+initrd, k.initrd),
			disk.FATFile{Path: "loader/entries/" + w.Token + "-" + k.version + ".conf", Text: fmt.Appendf(nil,
				"title %s\nversion %s\nsort-key %s\noptions %s\nlinux /%s/linux\ninitrd /%s/%s\n",
				cmp.Or(release["PRETTY_NAME"], w.Token), k.version, cmp.Or(release["ID"], w.Token), cmdline, dir, dir, initrd)})
	}
	p.Root, err = t.settle(w, cmdline)
	return p, nil, err
}

// ready is what a loader starts: the kernels that have an initramfs, the newest first, what os-release(5) says and the command line; or
// what the tree lacks, the loader's program by its word.
func (t *Tree) ready(w Wanted, program *layer.Node, word string) (list []kernel, release map[string]string, cmdline string,
	missing []string, err error) {
	kernels := t.kernels()
	list = slices.DeleteFunc(slices.Clone(kernels), func(k kernel) bool { return k.initrd == nil })
	switch {
	case len(kernels) == 0:
		missing = append(missing, kernelWord, initrdWord)
	case len(list) == 0:
		missing = append(missing, initrdWord)
	}
	if program == nil {
		missing = append(missing, word)
	}
	if len(missing) > 0 {
		return nil, nil, "", missing, nil
	}
	if release, err = t.release(); err == nil {
		cmdline, err = t.cmdline(w)
	}
	return list, release, cmdline, nil, err
}

// Kernel is the newest kernel of a tree that its own loader starts; the error is a *MissingError if there is none.
func Kernel(t *Tree, w Wanted) (Start, error) {
	for _, k := range t.kernels() {
		if k.initrd != nil {
			cmdline, err := t.cmdline(w)
			return Start{t.whole(k.image), t.whole(k.initrd), cmdline}, err
		}
	}
	missing := []string{kernelWord, initrdWord}
	return Start{}, &MissingError{missing, t.packages(missing)}
}

// program is the loader's own, and for which kind of machine.
func (t *Tree) program() (*layer.Node, *arch) {
	for i := range arches {
		if n := t.file("usr/lib/systemd/boot/efi/systemd-boot" + arches[i].suffix + ".efi"); n != nil {
			return n, &arches[i]
		}
	}
	return nil, nil
}

// kernels lists the tree's kernels, the newest first.
func (t *Tree) kernels() (list []kernel) {
	first := func(names ...string) *layer.Node {
		for _, name := range names {
			if n := t.file(name); n != nil {
				return n
			}
		}
		return nil
	}
	add := func(version string, image *layer.Node) {
		if image == nil || slices.ContainsFunc(list, func(k kernel) bool { return k.version == version }) {
			return
		}
		list = append(list, kernel{version, image, first("boot/initrd.img-"+version, "boot/initramfs-"+version+".img", "boot/initrd-"+version,
			"boot/initramfs-"+version, "usr/lib/modules/"+version+"/initrd", "usr/lib/modules/"+version+"/initramfs.img")})
	}
	for _, n := range t.under("boot") {
		if version, ok := strings.CutPrefix(path.Base(n.Path), "vmlinuz-"); ok && !strings.Contains(version, "rescue") {
			add(version, t.file(n.Path))
		}
	}
	for _, n := range t.under("usr/lib/modules") {
		add(path.Base(n.Path), t.file(n.Path+"/vmlinuz"))
	}
	slices.SortStableFunc(list, func(a, b kernel) int { return -plain.CompareVersions(a.version, b.version) })
	return list
}

// cmdline is the kernel's command line: the tree's own, which root, and what the definition adds.
func (t *Tree) cmdline(w Wanted) (string, error) {
	own, err := t.text("etc/kernel/cmdline")
	if err != nil {
		return "", err
	}
	words := slices.DeleteFunc(strings.Fields(own), func(word string) bool { return strings.HasPrefix(word, "root=") })
	if len(words) == 0 {
		words = []string{"ro"}
	}
	if t.file("lib/apk/db/installed") != nil {
		words = append(words, "modules=ext4", "rootfstype=ext4")
	}
	return strings.Join(append(append([]string{"root=" + w.Root}, words...), strings.Fields(w.Cmdline)...), " "), nil
}

// release is what os-release(5) says.
func (t *Tree) release() (map[string]string, error) {
	text, err := t.text("etc/os-release")
	if err == nil && text == "" {
		text, err = t.text("usr/lib/os-release")
	}
	said := map[string]string{}
	for line := range strings.Lines(text) {
		if name, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
			said[name] = strings.Trim(value, `"'`)
		}
	}
	return said, err
}
