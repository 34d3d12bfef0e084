package loader_test

import (
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/loader"
)

// tree is a tree of files; what begins with "->" is a link.
func tree(t *testing.T, files map[string]string) *loader.Tree {
	dir := t.TempDir()
	x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}}
	have := map[string]bool{".": true}
	for name, text := range files {
		for up := path.Dir(name); !have[up]; up = path.Dir(up) {
			have[up] = true
			x = append(x, layer.Entry{Path: up, Kind: layer.Dir, Mode: 0o755})
		}
		e := layer.Entry{Path: name, Kind: layer.File, Mode: 0o644, Size: int64(len(text))}
		if to, ok := strings.CutPrefix(text, "->"); ok {
			e = layer.Entry{Path: name, Kind: layer.Symlink, Mode: 0o777, Link: to}
		} else {
			at := filepath.Join(dir, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
		}
		x = append(x, e)
	}
	x.Sort()
	return &loader.Tree{Tree: layer.Merge(x), Content: func(n *layer.Node) string { return filepath.Join(dir, n.Path) }}
}

var wanted = loader.Wanted{Token: "link", Cmdline: "console=ttyS0", Root: "PARTUUID=1-2", ESP: "UUID=AB-CD"}

func debian(more map[string]string) map[string]string {
	files := map[string]string{"var/lib/dpkg/status": "", "sbin": "->usr/sbin", "usr/sbin/init": "->/usr/lib/systemd/systemd",
		"usr/lib/systemd/systemd": "x", "usr/lib/systemd/boot/efi/systemd-bootx64.efi": "MZ loader", "etc/os-release": "->../usr/lib/os-release",
		"usr/lib/os-release": "ID=debian\nPRETTY_NAME=\"Debian GNU/Linux 12\"\n", "etc/fstab": "# UNCONFIGURED\n",
		"boot/vmlinuz-6.1.0-9-cloud": "old", "boot/initrd.img-6.1.0-9-cloud": "i9", "boot/vmlinuz-6.1.0-41-cloud": "new",
		"boot/initrd.img-6.1.0-41-cloud": "i41"}
	for name, text := range more {
		if files[name] = text; text == "-" {
			delete(files, name)
		}
	}
	return files
}

func on(p *loader.Parts, name string) *disk.FATFile {
	for i := range p.ESP {
		if p.ESP[i].Path == name {
			return &p.ESP[i]
		}
	}
	return nil
}

func TestKernelsAndLoaderGoWhereTheyAreFound(t *testing.T) {
	p, err := loader.Disk(tree(t, debian(nil)), wanted)
	require.NoError(t, err)
	require.Equal(t, "systemd-boot, kernel 6.1.0-41-cloud", p.About, "numbers are compared as numbers")
	require.Equal(t, disk.TypeRootX64, p.Type)
	require.EqualValues(t, 9, on(p, "EFI/BOOT/BOOTX64.EFI").Size)
	require.EqualValues(t, 3, on(p, "link/6.1.0-41-cloud/initrd.img-6.1.0-41-cloud").Size)
	require.NotNil(t, on(p, "link/6.1.0-9-cloud/linux"))
	require.Equal(t, "title Debian GNU/Linux 12\nversion 6.1.0-41-cloud\nsort-key debian\noptions root=PARTUUID=1-2 ro console=ttyS0\n"+
		"linux /link/6.1.0-41-cloud/linux\ninitrd /link/6.1.0-41-cloud/initrd.img-6.1.0-41-cloud\n",
		string(on(p, "loader/entries/link-6.1.0-41-cloud.conf").Text))
	added := map[string]string{}
	for _, a := range p.Root {
		added[a.Path] = a.Text
	}
	require.Equal(t, map[string]string{"etc/kernel/entry-token": "link\n", "etc/kernel/cmdline": "root=PARTUUID=1-2 ro console=ttyS0\n",
		"etc/kernel/install.conf": "layout=bls\n",
		"etc/fstab":               "PARTUUID=1-2 / ext4 errors=remount-ro 0 1\nUUID=AB-CD /boot/efi vfat umask=0077 0 1\n"}, added)

	p, err = loader.Disk(tree(t, debian(map[string]string{"etc/fstab": "LABEL=x / ext4 defaults 0 1\n",
		"etc/kernel/cmdline": "root=/dev/sda1 quiet\n", "boot/initrd.img-6.1.0-41-cloud": "-"})), wanted)
	require.NoError(t, err)
	require.Nil(t, on(p, "link/6.1.0-41-cloud/linux"), "a kernel without an initramfs does not start")
	for _, a := range p.Root {
		require.NotEqual(t, "etc/fstab", a.Path, "the tree's own stays")
	}
	require.Contains(t, string(on(p, "loader/entries/link-6.1.0-9-cloud.conf").Text), "options root=PARTUUID=1-2 quiet console=ttyS0\n")
}

// A tree of another disk names that disk's partitions; one with partitions of its own names those.
func TestMountsOfTheDisk(t *testing.T) {
	w := wanted
	w.Gone = []string{"/", "/boot", "/boot/efi"}
	w.Mounts = []loader.Mount{{Device: "PARTUUID=3", Folder: "var/log", System: disk.Systems[0]}, {Device: "PARTUUID=4",
		System: disk.FindSystem("swap")},
		{Device: "PARTUUID=5", Folder: "data", System: disk.Systems[0]}}
	p, err := loader.Disk(tree(t,
		debian(map[string]string{"etc/fstab": "# theirs\nUUID=1 / xfs defaults 0 1\nUUID=2 /boot ext4 defaults 0 2\n" +
			"UUID=3 none swap sw 0 0\n/swapfile none swap sw 0 0\nserver:/x /data nfs defaults 0 0\ntmpfs /tmp tmpfs defaults 0 0"})), w)
	require.NoError(t, err)
	var folders []string
	for _, a := range p.Root {
		if a.Folder {
			folders = append(folders, a.Path)
		}
		if a.Path == "etc/fstab" {
			require.Equal(t, "PARTUUID=1-2 / ext4 errors=remount-ro 0 1\nUUID=AB-CD /boot/efi vfat umask=0077 0 1\n# theirs\n"+
				"/swapfile none swap sw 0 0\nserver:/x /data nfs defaults 0 0\ntmpfs /tmp tmpfs defaults 0 0\n"+
				"PARTUUID=3 /var/log ext4 defaults 0 2\nPARTUUID=4 none swap sw 0 0\n", a.Text)
		}
	}
	require.Equal(t, []string{"var/log", "data"}, folders, "made where the tree has none")
}

func TestWhatATreeLacksIsNamedWithItsPackages(t *testing.T) {
	for says, files := range map[string]map[string]string{
		"it has no boot loader; install systemd-boot in a stage": debian(map[string]string{"usr/lib/systemd/boot/efi/systemd-bootx64.efi": "-"}),
		"it has no initramfs; install initramfs-tools in a stage": debian(map[string]string{"boot/initrd.img-6.1.0-9-cloud": "-",
			"boot/initrd.img-6.1.0-41-cloud": "-"}),
		"no init; install systemd-sysv in a stage": debian(map[string]string{"usr/lib/systemd/systemd": "-", "usr/sbin/init": "-"}),
		"it has no kernel, no initramfs, no boot loader, no init; install linux-virt mkinitfs systemd-boot openrc in a stage": {
			"lib/apk/db/installed": ""},
		"install kernel-core dracut systemd-boot-unsigned systemd in a stage": {"usr/lib/sysimage/rpm/rpmdb.sqlite": ""},
		"no init; install them in a stage":                                    {"etc/passwd": "", "loop": "->loop"},
	} {
		_, err := loader.Disk(tree(t, files), wanted)
		require.ErrorAs(t, err, new(*loader.MissingError))
		require.ErrorContains(t, err, says)
	}
}

func TestUnifiedKernelImagesComeFirst(t *testing.T) {
	// A program for UEFI of a few bytes: the headers of one, and no sections.
	program := make([]byte, 0x100)
	copy(program, "MZ")
	program[0x3c] = 0x40
	copy(program[0x40:], "PE\x00\x00\x64\x86")
	files := debian(map[string]string{"boot/EFI/Linux/link-1.efi": string(program), "boot/EFI/Linux/link-10.efi": string(program)})
	plain := wanted
	plain.Cmdline = ""
	p, err := loader.Disk(tree(t, files), plain)
	require.NoError(t, err)
	require.Equal(t, "unified kernel image link-10.efi, systemd-boot", p.About)
	require.NotNil(t, on(p, "EFI/Linux/link-1.efi"))
	require.EqualValues(t, 9, on(p, "EFI/BOOT/BOOTX64.EFI").Size, "the loader")
	delete(files, "usr/lib/systemd/boot/efi/systemd-bootx64.efi")
	p, err = loader.Disk(tree(t, files), plain)
	require.NoError(t, err)
	require.EqualValues(t, len(program), on(p, "EFI/BOOT/BOOTX64.EFI").Size, "the image itself")
	_, err = loader.Disk(tree(t, files), wanted)
	require.ErrorContains(t, err, "cmdline cannot be added to the unified kernel image /boot/EFI/Linux/link-10.efi")
	files["boot/EFI/Linux/link-11.efi"] = "no program"
	_, err = loader.Disk(tree(t, files), plain)
	require.ErrorContains(t, err, "/boot/EFI/Linux/link-11.efi is no program for UEFI")
}

// GRUB is taken where the tree has no other loader, or where it is asked for; shim comes before it, and its own menu stays.
func TestGRUB(t *testing.T) {
	files := debian(map[string]string{"usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed": "MZ grub",
		"usr/lib/shim/shimx64.efi.signed": "MZ the shim", "usr/lib/shim/mmx64.efi.signed": "MZ keys"})
	w := wanted
	w.UUID = "1-2-3"
	p, err := loader.Disk(tree(t, files), w)
	require.NoError(t, err)
	require.Contains(t, p.About, "systemd-boot")
	w.Loader = "grub"
	p, err = loader.Disk(tree(t, files), w)
	require.NoError(t, err)
	require.Equal(t, "shim, GRUB, kernel 6.1.0-41-cloud", p.About)
	require.EqualValues(t, 11, on(p, "EFI/BOOT/BOOTX64.EFI").Size)
	require.EqualValues(t, 7, on(p, "EFI/BOOT/grubx64.efi").Size)
	require.Contains(t, string(on(p, "EFI/debian/grub.cfg").Text), "--set=root 1-2-3\n")
	require.Len(t, p.Root, 2)
	require.Equal(t, "boot/grub/grub.cfg", p.Root[1].Path)
	require.Contains(t, p.Root[1].Text, "menuentry 'Debian GNU/Linux 12, 6.1.0-41-cloud' {\n\tlinux /boot/vmlinuz-6.1.0-41-cloud "+
		"root=PARTUUID=1-2 ro console=ttyS0\n\tinitrd /boot/initrd.img-6.1.0-41-cloud\n}\n")
	files["boot/grub/grub.cfg"], files["usr/lib/shim/shimx64.efi.signed"] = "its own", "-"
	delete(files, "usr/lib/shim/shimx64.efi.signed")
	delete(files, "usr/lib/systemd/boot/efi/systemd-bootx64.efi")
	w.Loader = ""
	p, err = loader.Disk(tree(t, files), w)
	require.NoError(t, err)
	require.Equal(t, "GRUB, kernel 6.1.0-41-cloud", p.About)
	require.EqualValues(t, 7, on(p, "EFI/BOOT/BOOTX64.EFI").Size)
	require.Len(t, p.Root, 1, "its own menu stays")
	w.Loader = "uki"
	_, err = loader.Disk(tree(t, files), w)
	require.ErrorContains(t, err, "it has no kernel")
	w.Loader = "grub"
	_, err = loader.Disk(tree(t, debian(nil)), w)
	require.EqualError(t, err, "the tree cannot start by itself, it has no GRUB; install grub-efi-amd64-signed shim-signed in a stage")
}
