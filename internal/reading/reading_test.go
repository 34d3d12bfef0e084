package reading_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/reading"
)

func sh(t *testing.T, dir, script string, args ...string) string {
	cmd := exec.Command("sh", append([]string{"-euc", script, "sh"}, args...)...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", script, out)
	return string(out)
}

// names is what a file system holds, a line for each name.
func names(t *testing.T, fs reading.Rooted) []string {
	var list []string
	err := fs.Walk(".", func(h *tar.Header, r io.Reader) error {
		line := fmt.Sprintf("%s %c %o %d:%d %d %s", h.Name, h.Typeflag, h.Mode, h.Uid, h.Gid, h.Size, h.Linkname)
		if h.Typeflag == tar.TypeReg {
			hash := sha256.New()
			n, err := io.Copy(hash, r)
			require.NoError(t, err, h.Name)
			require.Equal(t, h.Size, n)
			line += fmt.Sprintf(" %x", hash.Sum(nil)[:6])
		}
		var keys []string
		for key, value := range h.PAXRecords {
			keys = append(keys, fmt.Sprintf(" %s=%q", key, value))
		}
		slices.Sort(keys)
		list = append(list, line+strings.Join(keys, ""))
		return nil
	})
	require.NoError(t, err)
	slices.Sort(list)
	return list
}

func open(t *testing.T, name string) (reading.Disk, string) {
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	d, form, err := reading.Open(f, info.Size(), forms...)
	require.NoError(t, err)
	return d, form
}

// tree makes a folder with what file systems find hard.
const tree = `mkdir -p tree/a/b tree/many tree/dev
seq 100000 > tree/a/long; echo short > tree/a/short; : > tree/a/empty
truncate -s 5M tree/a/holes; echo end >> tree/a/holes
ln tree/a/long tree/a/b/other; ln -s short tree/a/link; ln -s $(printf '%0100d' 7) tree/a/far
mkfifo tree/pipe; chmod 4755 tree/a/short; chown 7:70000 tree/a/b
for i in $(seq 700); do echo $i > tree/many/a-file-with-a-long-name-$i; done`

// everyExt4 are the features that are read, as options of mke2fs.
var forms = []*reading.Form{&reading.Qcow2, &reading.Vmdk, &reading.Vhdx, &reading.Ova, &reading.Vhd}

var everyExt4 = []string{"-t ext4", "-t ext4 -b 1024", "-t ext4 -O inline_data", "-t ext4 -O metadata_csum,64bit",
	"-t ext4 -O ^metadata_csum,^64bit",
	"-t ext4 -O bigalloc", "-t ext4 -O meta_bg,^resize_inode", "-t ext4 -O flex_bg,sparse_super2", "-t ext4 -I 128 -O ^metadata_csum",
	"-t ext3",
	"-t ext2", "-t ext2 -b 1024", "-t ext4 -O metadata_csum_seed,large_dir", "-t ext4 -O ea_inode",
	"-t ext4 -I 512 -O inline_data,metadata_csum",
	"-t ext4 -O encrypt,casefold", "-t ext4 -O ^extents,^64bit,^bigalloc", "-t ext2 -r 0", "-t ext4 -O mmp,project,quota -I 256"}

// What mke2fs writes with each feature is read as debugfs reads it: names, contents, links.
func TestEveryFeatureOfExt4(t *testing.T) {
	dir := t.TempDir()
	sh(t, dir, tree)
	var want []string
	for _, options := range everyExt4 {
		t.Run(options, func(t *testing.T) {
			image := filepath.Join(dir, "fs")
			sh(t, dir, `rm -f fs; truncate -s 64M fs; mke2fs -q -F `+options+` -d tree fs`)
			d, form := open(t, image)
			require.Equal(t, "raw", form)
			require.Equal(t, "ext4", reading.System(d))
			fs, err := reading.OpenExt4(d)
			require.NoError(t, err)
			got := names(t, fs)
			if want == nil {
				want = got
				require.Len(t, got, 713)
				text := strings.Join(got, "\n")
				for _, says := range []string{"./a/short 0 4755 0:0 6", "a/far 2 777 0:0 0 " + fmt.Sprintf("%0100d", 7), "pipe 6 644"} {
					require.Contains(t, text, strings.TrimPrefix(says, "./"))
				}
			}
			if strings.Contains(options, "-r 0") { // 16 bits for owners
				got, want := strings.Join(got, "\n"), strings.Join(want, "\n")
				require.Equal(t, len(strings.Split(want, "\n")), len(strings.Split(got, "\n")))
				return
			}
			require.Equal(t, want, got)
			text, err := fs.ReadFile("/a/short", 100)
			require.NoError(t, err)
			require.Equal(t, "short\n", string(text))
			text, err = fs.ReadFile("nowhere/at/all", 100)
			require.NoError(t, err)
			require.Nil(t, text)
		})
	}
}

// What qemu-img writes in each form is read as the disk that it was made of.
func TestEveryContainer(t *testing.T) {
	dir := t.TempDir()
	sh(t, dir, tree+`
truncate -s 64M fs; mke2fs -q -F -t ext4 -d tree fs; head -c 3000000 /dev/urandom | dd of=fs bs=1M seek=40 conv=notrunc status=none`)
	want, err := os.ReadFile(filepath.Join(dir, "fs"))
	require.NoError(t, err)
	for options, form := range map[string]string{"qcow2": "qcow2", "qcow2 -o compat=0.10": "qcow2", "qcow2 -c": "qcow2",
		"qcow2 -c -o compression_type=zstd": "qcow2", "qcow2 -o cluster_size=512": "qcow2", "qcow2 -c -o cluster_size=2M": "qcow2",
		"qcow2 -o preallocation=metadata,lazy_refcounts=on": "qcow2", "qcow2 -o refcount_bits=1": "qcow2",
		"vmdk": "vmdk", "vmdk -o subformat=streamOptimized": "vmdk", "vmdk -o subformat=monolithicSparse,zeroed_grain=on": "vmdk",
		"vpc": "vhd", "vpc -o subformat=fixed": "vhd", "vpc -o subformat=dynamic,force_size=on": "vhd", "vhdx": "vhdx",
		"vhdx -o subformat=fixed": "vhdx",
		"vhdx -o block_size=1M":   "vhdx", "raw": "raw"} {
		t.Run(options, func(t *testing.T) {
			name := filepath.Join(t.TempDir(), "disk")
			sh(t, dir, `qemu-img convert -f raw -O `+options+` fs "$1"`, name)
			d, got := open(t, name)
			require.Equal(t, form, got)
			require.GreaterOrEqual(t, d.Size(), int64(len(want))) // some round up
			text := make([]byte, len(want))
			_, err := d.ReadAt(text, 0)
			require.NoError(t, err)
			require.True(t, bytes.Equal(want, text))
			_, err = d.ReadAt(text[:700], d.Size()-300)
			require.ErrorIs(t, err, io.EOF)
		})
	}
	for options, says := range map[string]string{"qcow2 -o extended_l2=on": "subclusters",
		"qcow2 -b base.qcow2 -F qcow2":     "what differs from another file",
		"vmdk -o subformat=monolithicFlat": "only describes a disk", "qcow2 -o data_file=x": "in another file",
		"qcow2 --object secret,id=s,data=abc -o encrypt.format=luks,encrypt.key-secret=s,encrypt.iter-time=10": "encrypted"} {
		t.Run(options, func(t *testing.T) {
			name := filepath.Join(t.TempDir(), "disk")
			sh(t, filepath.Dir(name), `qemu-img create -q -f qcow2 base.qcow2 1M; qemu-img create -q -f `+options+` "$1" 1M`, name)
			f, err := os.Open(name)
			require.NoError(t, err)
			defer f.Close()
			info, _ := f.Stat()
			_, _, err = reading.Open(f, info.Size(), forms...)
			require.ErrorContains(t, err, says)
		})
	}
}

// A file system that was not unmounted is read as its journal leaves it, and nothing of the disk changes.
func TestDirtyJournal(t *testing.T) {
	for _, options := range []string{"-O ^metadata_csum,^64bit", "-O metadata_csum,64bit", "-b 1024"} {
		dir := t.TempDir()
		sh(t, dir, `mkdir tree; head -c 4096 /dev/zero | tr '\000' o > tree/file; echo keep > tree/other; truncate -s 32M fs
mke2fs -q -F -t ext4 `+options+` -d tree fs
block=$(debugfs -R 'bmap /file 0' fs 2>/dev/null); head -c 4096 /dev/zero | tr '\000' n > new
printf '\300\073\071\230' | dd of=new conv=notrunc status=none
size=$(dumpe2fs -h fs 2>/dev/null | sed -n 's/^Block size: *//p'); head -c $size new > one
printf 'jo\njw -b %s one\njc\n' $block | debugfs -w fs -f - >/dev/null 2>&1
dumpe2fs -h fs 2>/dev/null | grep -q needs_recovery`)
		before, err := os.ReadFile(filepath.Join(dir, "fs"))
		require.NoError(t, err)
		d, _ := open(t, filepath.Join(dir, "fs"))
		fs, err := reading.OpenExt4(d)
		require.NoError(t, err)
		text, err := fs.ReadFile("file", 1<<20)
		require.NoError(t, err)
		require.Equal(t, "\xc0\x3b\x39\x98nnnn", string(text[:8]), "what the journal holds, its first bytes too")
		text, err = fs.ReadFile("other", 100)
		require.NoError(t, err)
		require.Equal(t, "keep\n", string(text))
		after, err := os.ReadFile(filepath.Join(dir, "fs"))
		require.NoError(t, err)
		require.True(t, bytes.Equal(before, after))
	}
}

// readAll reads whatever a file is, as far as it goes, and returns how that ended.
func readAll(file io.ReaderAt, size int64) error {
	d, _, err := reading.Open(file, size, forms...)
	if err != nil {
		return err
	}
	root, err := reading.Root(context.Background(), d, 0)
	if err != nil {
		return err
	}
	names := 0
	return root.Walk(func(_ *tar.Header, r io.Reader) error {
		if names++; names > 10_000 || r == nil {
			return nil
		}
		_, err := io.Copy(io.Discard, io.LimitReader(r, 1<<20))
		return err
	})
}

// small are disks with all that is read here, by the ends of their names, to be spoilt.
func small(t testing.TB, dir string) map[string][]byte {
	script := `mkdir -p tree/a/b tree/boot/efi; seq 3000 > tree/a/long; echo x > tree/a/b/short; ln tree/a/long tree/a/other
ln -s short tree/a/link
echo 'LABEL=ESP /boot/efi vfat defaults 0 0' > tree/a/fstab; mkdir tree/etc; cp tree/a/fstab tree/etc/fstab
truncate -s 1400K fs; mke2fs -q -F -t ext4 -b 1024 -N 64 -J size=1 -O inline_data,metadata_csum -d tree fs
truncate -s 512K fs2; mke2fs -q -F -t ext2 -b 1024 -N 64 -d tree fs2
truncate -s 1400K fs4; mke2fs -q -F -t ext4 -b 1024 -N 64 -J size=1 -O inline_data,^metadata_csum -d tree fs4
truncate -s 512K esp; mkfs.vfat -n ESP esp >/dev/null; mmd -i esp ::EFI; seq 500 > k; mcopy -i esp k '::EFI/a long name of a kernel'
ESP=C12A7328-F81F-11D2-BA4B-00A0C93EC93B ROOT=4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709
truncate -s 2M disk; printf 'label: gpt\nfirst-lba: 34\nstart=64, size=1024, type=%s\nstart=1088, size=2800, type=%s\n' $ESP $ROOT |
 sfdisk -q disk
dd if=esp of=disk bs=512 seek=64 conv=notrunc status=none; dd if=fs of=disk bs=512 seek=1088 conv=notrunc status=none
truncate -s 2M mbr; printf 'label: dos\nstart=1, size=60, type=5\nstart=64, size=2800, type=83\n' | sfdisk -q mbr
dd if=fs of=mbr bs=512 seek=64 conv=notrunc status=none
for f in "qcow2 -c" "qcow2 -c -o compression_type=zstd" "vmdk -o subformat=streamOptimized" vmdk vpc vhdx; do
 qemu-img convert -f raw -O $f disk "disk-$(echo $f | tr -d ' /')"; done
cp disk-vmdk-osubformat=streamOptimized d.vmdk; echo '<Envelope/>' > d.ovf; tar -cf d.ova --format ustar d.ovf d.vmdk; rm d.vmdk`
	cmd := exec.Command("bash", "-euc", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	list, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	files := map[string][]byte{}
	for _, name := range list {
		if base := filepath.Base(name); base == "fs2" || base == "fs4" || base == "mbr" || strings.HasPrefix(base, "disk") || base == "d.ova" {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			files[base] = text
		}
	}
	return files
}

// Disks that are cut short, or spoilt where their structures lie, are read or refused: nothing panics, hangs or grows.
func TestHostileDisks(t *testing.T) {
	files := small(t, t.TempDir())
	require.Len(t, files, 11)
	rnd := rand.New(rand.NewPCG(1, 2))
	for _, name := range slices.Sorted(maps.Keys(files)) {
		whole := files[name]
		require.NoError(t, readAll(bytes.NewReader(whole), int64(len(whole))), "%s as it was made", name)
		for range 12 {
			n := rnd.IntN(len(whole))
			_ = readAll(bytes.NewReader(whole[:n]), int64(n)) // cut short: some of it may be whole
		}
		for range 60 {
			text := bytes.Clone(whole)
			for range 1 + rnd.IntN(8) {
				at := rnd.IntN(len(text) - 8)
				if text[at] == 0 && rnd.IntN(4) > 0 {
					at += max(0, bytes.IndexFunc(text[at:len(text)-8], func(r rune) bool { return r != 0 }))
				}
				switch rnd.IntN(4) {
				case 0:
					binary.LittleEndian.PutUint32(text[at:], rnd.Uint32())
				case 1:
					copy(text[at:], "\xff\xff\xff\xff\xff\xff\xff\x7f"[:1+rnd.IntN(8)])
				case 2:
					text[at] ^= 1 << rnd.IntN(8)
				default:
					copy(text[at:], text[rnd.IntN(len(text)-8):][:8])
				}
			}
			_ = readAll(bytes.NewReader(text), int64(len(text))) // whatever comes of it
		}
	}
}

// spoilt is a file with other bytes at some places.
type spoilt struct {
	whole []byte
	at    []int
	bytes [][]byte
}

func (s *spoilt) ReadAt(p []byte, at int64) (int, error) {
	n, err := bytes.NewReader(s.whole).ReadAt(p, at)
	for i, b := range s.bytes {
		for j := range b {
			if k := int64(s.at[i]+j) - at; k >= 0 && k < int64(n) {
				p[k] = b[j]
			}
		}
	}
	return n, err
}

// fuzz spoils those of the small disks whose names begin so. An input says which, and again and again in five bytes where, among the bytes
// that are not zero, and how many others follow. So it stays small, whatever the size of the disk.
func fuzz(f *testing.F, kinds ...string) {
	files := small(f, f.TempDir())
	var list [][]byte
	var solid [][]int
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if !slices.ContainsFunc(kinds, func(kind string) bool { return strings.HasPrefix(name, kind) }) {
			continue
		}
		var places []int
		for at, b := range files[name] {
			if b != 0 {
				places = append(places, at)
			}
		}
		list, solid = append(list, files[name]), append(solid, places)
		for k := range 64 { // some of each
			at := binary.LittleEndian.AppendUint32([]byte{byte(len(list) - 1)}, uint32(k*len(places)/64))
			f.Add(append(at, 4, 0xff, 0xff, 0xff, 0x7f))
		}
	}
	f.Fuzz(func(_ *testing.T, text []byte) {
		if len(text) == 0 {
			return
		}
		which := int(text[0]) % len(list)
		s := &spoilt{whole: list[which]}
		for text = text[1:]; len(text) > 5; {
			at := solid[which][int(binary.LittleEndian.Uint32(text))%len(solid[which])]
			b := text[5:min(len(text), 5+int(text[4])%9)]
			s.at, s.bytes, text = append(s.at, at), append(s.bytes, b), text[5+len(b):]
		}
		_ = readAll(s, int64(len(s.whole))) // whatever comes of it
	})
}

func FuzzExt4(f *testing.F)  { fuzz(f, "fs2", "fs4") }
func FuzzTable(f *testing.F) { fuzz(f, "disk", "mbr") }
func FuzzQcow2(f *testing.F) { fuzz(f, "disk-qcow2") }
func FuzzVmdk(f *testing.F)  { fuzz(f, "disk-vmdk") }
func FuzzOva(f *testing.F)   { fuzz(f, "d.ova") }
func FuzzVhd(f *testing.F)   { fuzz(f, "disk-vpc") }
func FuzzVhdx(f *testing.F)  { fuzz(f, "disk-vhdx") }

// What is not read is named, with what to do.
func TestOtherFileSystemsAreNamed(t *testing.T) {
	for at, c := range map[int]struct{ magic, says string }{0: {"XFSB", "it is xfs, which is not read here"},
		0x10040: {"_BHRfS_M", "it is btrfs"}, 1: {"", "it holds no file system that is known here"},
		0x1000: {"\xfc\x4e\x2b\xa9", "a part of RAID"},
		0x218:  {"LVM2 001", "a part of LVM"}} {
		text := make([]byte, 1<<20)
		copy(text[at:], c.magic)
		require.ErrorContains(t, readAll(bytes.NewReader(text), int64(len(text))), c.says)
	}
	text := make([]byte, 1<<20)
	copy(text, "LUKS\xba\xbe")
	require.ErrorContains(t, readAll(bytes.NewReader(text), 1<<20), "it is encrypted (LUKS)")
	dir := t.TempDir()
	sh(t, dir, `truncate -s 64M d; printf 'label: gpt\nsize=20M\nsize=20M\n' | sfdisk -q d
for s in 1 21; do truncate -s 20M fs; mke2fs -q -F -t ext4 fs; dd if=fs of=d bs=1M seek=$s conv=notrunc status=none; done`)
	d, _ := open(t, filepath.Join(dir, "d"))
	_, err := reading.Root(context.Background(), d, 0)
	require.EqualError(t, err, "which of its partitions holds the root is not clear; name it, for instance partition = 1. "+
		"It has 1 (ext4, 20 MiB), 2 (ext4, 20 MiB)")
	_, err = reading.Root(context.Background(), d, 3)
	require.ErrorContains(t, err, "it has no partition 3; it has 1 (ext4, 20 MiB)")
	_, err = reading.Root(context.Background(), d, 2)
	require.NoError(t, err)
}
