package reading_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
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
	d, form, err := reading.Open(f, info.Size())
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

// What mke2fs writes with each feature is read as debugfs reads it: names, contents, links.
func TestEveryFeatureOfExt4(t *testing.T) {
	dir := t.TempDir()
	sh(t, dir, tree)
	var want []string
	for _, options := range []string{"-t ext4", "-t ext4 -b 1024", "-t ext4 -O inline_data", "-t ext4 -O metadata_csum,64bit", "-t ext4 -O ^metadata_csum,^64bit",
		"-t ext4 -O bigalloc", "-t ext4 -O meta_bg,^resize_inode", "-t ext4 -O flex_bg,sparse_super2", "-t ext4 -I 128 -O ^metadata_csum", "-t ext3",
		"-t ext2", "-t ext2 -b 1024", "-t ext4 -O metadata_csum_seed,large_dir", "-t ext4 -O ea_inode", "-t ext4 -I 512 -O inline_data,metadata_csum",
		"-t ext4 -O encrypt,casefold", "-t ext4 -O ^extents,^64bit,^bigalloc", "-t ext2 -r 0", "-t ext4 -O mmp,project,quota -I 256"} {
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
		"vpc": "vhd", "vpc -o subformat=fixed": "vhd", "vpc -o subformat=dynamic,force_size=on": "vhd", "vhdx": "vhdx", "vhdx -o subformat=fixed": "vhdx",
		"vhdx -o block_size=1M": "vhdx", "raw": "raw"} {
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
	for options, says := range map[string]string{"qcow2 -o extended_l2=on": "subclusters", "qcow2 -b base.qcow2 -F qcow2": "what differs from another file",
		"vmdk -o subformat=monolithicFlat": "only describes a disk", "qcow2 -o data_file=x": "in another file",
		"qcow2 --object secret,id=s,data=abc -o encrypt.format=luks,encrypt.key-secret=s": "encrypted"} {
		t.Run(options, func(t *testing.T) {
			name := filepath.Join(t.TempDir(), "disk")
			sh(t, filepath.Dir(name), `qemu-img create -q -f qcow2 base.qcow2 1M; qemu-img create -q -f `+options+` "$1" 1M`, name)
			f, err := os.Open(name)
			require.NoError(t, err)
			defer f.Close()
			info, _ := f.Stat()
			_, _, err = reading.Open(f, info.Size())
			require.ErrorContains(t, err, says)
		})
	}
}
