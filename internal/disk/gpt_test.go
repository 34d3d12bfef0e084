package disk_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
)

// written is a volume as a file.
func written(t *testing.T, v disk.Volume) string {
	name := filepath.Join(t.TempDir(), "disk.raw")
	f, err := os.Create(name)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, v.Write(t.Context(), &sparse{File: f}))
	info, err := f.Stat()
	require.NoError(t, err)
	require.Equal(t, v.Size(), info.Size())
	return name
}

func TestFATHoldsFiles(t *testing.T) {
	big := bytes.Repeat([]byte("0123456789abcdef"), 300000)
	source := filepath.Join(t.TempDir(), "big")
	require.NoError(t, os.WriteFile(source, big, 0o600))
	files := []disk.FATFile{{Path: "EFI/BOOT/BOOTX64.EFI", Source: source, Size: int64(len(big))},
		{Path: "loader/entries/9f2c-6.1.0-41-cloud-amd64.conf", Text: []byte("title x\n")},
		{Path: "loader/entries/9f2c-6.1.0-40-cloud-amd64.conf"},
		{Path: "loader/loader.conf", Text: []byte("timeout 0\n"), Marks: disk.FATHidden},
		{Path: "EFI/empty", Dir: true, Marks: disk.FATSystem}, {Path: "grüße und mehr.text", Text: []byte("y")}}
	for i := range 300 {
		files = append(files, disk.FATFile{Path: fmt.Sprintf("many/a name of some length %03d", i), Text: []byte{byte(i)}})
	}
	for _, mib := range []int64{36, 64, 256, 1000, 5000} {
		v, err := disk.FAT(files, disk.FATOptions{Size: mib << 20, Label: "ESP", ID: 0x12345678, Epoch: 1767225600})
		require.NoError(t, err)
		name := written(t, v)
		run(t, "fsck.vfat", "-n", name)
		require.Equal(t, "title x\n", run(t, "mtype", "-i", name, "::loader/entries/9f2c-6.1.0-41-cloud-amd64.conf"))
		require.Regexp(t, `H.*loader.conf`, run(t, "mattrib", "-i", name, "::loader/loader.conf"))
		require.Contains(t, run(t, "mdir", "-a", "-i", name, "::EFI"), "empty")
		require.Equal(t, "y", run(t, "mtype", "-i", name, "::grüße und mehr.text"))
		require.Equal(t, "\x07", run(t, "mtype", "-i", name, "::many/a name of some length 007"))
		require.Contains(t, run(t, "mdir", "-i", name, "::EFI/BOOT"), "2026-01-01   0:00")
		copied := filepath.Join(t.TempDir(), "copy")
		run(t, "mcopy", "-i", name, "::EFI/BOOT/BOOTX64.EFI", copied)
		run(t, "cmp", source, copied)
		for _, e := range v.Extents() {
			require.Positive(t, e.Length)
			require.LessOrEqual(t, e.Offset+e.Length, v.Size())
		}
	}
	for says, f := range map[string]disk.FATFile{"no two files of this name": {Path: "LOADER/loader.CONF"}, "cannot hold": {Path: "a:b"},
		"\"dots..\" has a name": {Path: "dots.."}, "\"x /y\" has": {Path: "x /y"}, "\\x01": {Path: "a\x01b"}, "\\xff": {Path: "a\xffb"},
		"more than FAT holds in a file": {Path: "huge", Source: source, Size: 5 << 30}} {
		_, err := disk.FAT(append(files, f), disk.FATOptions{Size: 256 << 20})
		require.ErrorContains(t, err, says)
	}
	_, err := disk.FAT(nil, disk.FATOptions{Size: 30 << 20})
	require.ErrorContains(t, err, "at least 33 MiB")
	_, err = disk.FAT([]disk.FATFile{{Path: "b", Source: source, Size: 300 << 20}}, disk.FATOptions{Size: 256 << 20})
	require.ErrorAs(t, err, new(*disk.SizeError))
}

func TestPartitionsLieWhereTheTableSays(t *testing.T) {
	esp, err := disk.FAT([]disk.FATFile{{Path: "a", Text: []byte("x")}}, disk.FATOptions{Size: 64 << 20})
	require.NoError(t, err)
	root, err := newTree(t).file("a", []byte("hello")).volume(0)
	require.NoError(t, err)
	v, err := disk.GPT(id, disk.Partition{Volume: esp, Name: "esp", Type: disk.TypeESP, ID: [16]byte{1}},
		disk.Partition{Volume: root, Name: "root", Type: disk.TypeRootX64, ID: [16]byte{2}})
	require.NoError(t, err)
	name := written(t, v)
	require.Contains(t, run(t, "sgdisk", "-v", name), "No problems found")
	said := run(t, "sgdisk", "-p", "-i", "2", name)
	require.Contains(t, said, strings.ToUpper("a1020304-0506-8708-890a-000000000010"))
	require.Contains(t, run(t, "sgdisk", "-i", "2", name), "4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709")
	require.Contains(t, run(t, "sgdisk", "-i", "1", name), "C12A7328-F81F-11D2-BA4B-00A0C93EC93B")
	require.Contains(t, said, "EF00")
	part := filepath.Join(t.TempDir(), "root.raw")
	run(t, "dd", "if="+name, "of="+part, "bs=1M", "skip=65", fmt.Sprintf("count=%d", root.Size()>>20), "status=none")
	run(t, "e2fsck", "-fn", part)
	run(t, "cmp", part, written(t, root))
	last := int64(0)
	for _, e := range v.Extents() {
		require.GreaterOrEqual(t, e.Offset, last)
		last = e.Offset + e.Length
	}
	file, _ := stored(t, disk.Qcow2(disk.Zlib, nil), v)
	run(t, "qemu-img", "check", file)
	require.Contains(t, run(t, "qemu-img", "compare", "-f", "raw", name, file), "identical")
}
