package loader

import (
	"debug/pe"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/plain"
)

// unified is a unified kernel image (UAPI.5): loader, kernel, initramfs and command line in one program, which finds the
// root by the type of its partition. With systemd-boot beside it later ones find their way; without, the newest starts.
type unified struct{}

// unifiedDirs are where trees keep such images.
var unifiedDirs = []string{"boot/EFI/Linux", "boot/efi/EFI/Linux", "efi/EFI/Linux", "usr/lib/kernel/uki"}

// Name is Loader.
func (unified) Name() string { return "uki" }

// Place is Loader.
func (unified) Place(t *Tree, w Wanted) (*Parts, []string, error) {
	var found []*layer.Node
	for _, dir := range unifiedDirs {
		for _, n := range t.under(dir) {
			if n.Kind == layer.File && strings.HasSuffix(n.Path, ".efi") {
				found = append(found, n)
			}
		}
	}
	for _, dir := range t.under("usr/lib/modules") {
		for _, n := range t.under(dir.Path) {
			if n.Kind == layer.File && strings.HasSuffix(n.Path, ".efi") {
				found = append(found, n)
			}
		}
	}
	if len(found) == 0 {
		return nil, []string{kernelWord}, nil
	}
	slices.SortStableFunc(found, func(a, b *layer.Node) int { return -plain.CompareVersions(path.Base(a.Path), path.Base(b.Path)) })
	machine, start, err := t.unpacked(found[0], w)
	if err != nil {
		return nil, nil, err
	}
	p := &Parts{Type: machine.root, About: "unified kernel image " + path.Base(found[0].Path), Start: start}
	program, loaders := t.program()
	if program == nil || loaders != machine {
		program = found[0]
	} else {
		p.About += ", systemd-boot"
		p.ESP = []disk.FATFile{t.on("EFI/systemd/systemd-boot"+machine.suffix+".efi", program),
			{Path: "loader/loader.conf", Text: []byte("timeout 1\n")}, {Path: "loader/entries.srel", Text: []byte("type1\n")}}
	}
	if w.Cmdline != "" {
		return nil, nil, fmt.Errorf("cmdline cannot be added to the unified kernel image /%s, which has its own; "+
			"write it into /etc/kernel/cmdline before the image is made, or remove the image so that systemd-boot starts a kernel", found[0].Path)
	}
	p.ESP = append(p.ESP, t.on("EFI/BOOT/BOOT"+strings.ToUpper(machine.suffix)+".EFI", program))
	for _, n := range found {
		p.ESP = append(p.ESP, t.on("EFI/Linux/"+path.Base(n.Path), n))
	}
	cmdline, err := t.cmdline(w)
	if err != nil {
		return nil, nil, err
	}
	p.Root, err = t.settle(w, cmdline)
	return p, nil, err
}

// unpacked is the kind of machine that a program for UEFI runs on, and the kernel, initramfs and command line in its sections (UAPI.5).
func (t *Tree) unpacked(n *layer.Node, w Wanted) (*arch, Start, error) {
	name := t.Content(n)
	f, err := pe.Open(name)
	if err != nil {
		return nil, Start{}, fmt.Errorf("/%s is no program for UEFI: %w", n.Path, err)
	}
	defer f.Close()
	var s Start
	for _, section := range f.Sections {
		piece := Piece{name, int64(section.Offset), int64(min(section.VirtualSize, section.Size))}
		switch section.Name {
		case ".linux":
			s.Kernel = piece
		case ".initrd":
			s.Initrd = piece
		case ".cmdline":
			text := make([]byte, min(piece.Size, mostText))
			if _, err := section.ReadAt(text, 0); err != nil && err != io.EOF {
				return nil, s, fmt.Errorf("/%s: %w", n.Path, err)
			}
			s.Cmdline = strings.TrimRight(string(text), "\x00\n ")
		}
	}
	if !strings.Contains(" "+s.Cmdline, " root=") { // its stub finds the root by its type
		s.Cmdline = strings.TrimSpace("root=" + w.Root + " " + s.Cmdline)
	}
	switch f.Machine {
	case pe.IMAGE_FILE_MACHINE_AMD64:
		return &arches[0], s, nil
	case pe.IMAGE_FILE_MACHINE_ARM64:
		return &arches[1], s, nil
	}
	return nil, s, fmt.Errorf("/%s is for a kind of machine (%#x) that is not known here", n.Path, f.Machine)
}
