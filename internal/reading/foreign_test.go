//go:build foreign

package reading_test

import (
	"archive/tar"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/reading"
)

// entries are what walk gives, a line for each name; each name of a file says what the file is.
func entries(walk func(give func(*tar.Header, io.Reader) error) error) (list []string, err error) {
	says, links := map[string]string{}, map[string]string{}
	err = walk(func(h *tar.Header, r io.Reader) error {
		name := path.Clean(h.Name)
		if h.Typeflag == tar.TypeLink {
			links[name] = path.Clean(h.Linkname)
			return nil
		}
		line := fmt.Sprintf("%c %o %d:%d %d %s", h.Typeflag, h.Mode&0o7777, h.Uid, h.Gid, h.Size, h.Linkname)
		if h.Typeflag == tar.TypeReg {
			hash := sha256.New()
			if _, err := io.Copy(hash, r); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			line += fmt.Sprintf(" %x", hash.Sum(nil)[:6])
		}
		if h.Typeflag == tar.TypeChar || h.Typeflag == tar.TypeBlock {
			line += fmt.Sprintf(" %d,%d", h.Devmajor, h.Devminor)
		}
		var keys []string
		for key, value := range h.PAXRecords {
			if strings.HasPrefix(key, "SCHILY.xattr.") {
				keys = append(keys, fmt.Sprintf(" %s=%q", key, value))
			}
		}
		slices.Sort(keys)
		says[name] = line + strings.Join(keys, "")
		return nil
	})
	for name, to := range links {
		says[name] = says[to]
	}
	for name, line := range says {
		list = append(list, name+" "+line)
	}
	slices.Sort(list)
	return list, err
}

// ours is what is read here of an image.
func ours(name string) ([]string, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	d, _, err := reading.Open(f, info.Size(), forms...)
	if err != nil {
		return nil, err
	}
	fs, err := reading.OpenExt4(d)
	if err != nil {
		return nil, err
	}
	return entries(func(give func(*tar.Header, io.Reader) error) error { return fs.Walk(".", give) })
}

// kernels is what the kernel sees of an image, through a loop device and tar.
func kernels(t *testing.T, name string) ([]string, error) {
	at := t.TempDir()
	if out, err := exec.Command("mount", "-o", "loop", name, at).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%s", strings.TrimSpace(string(out)))
	}
	defer func() { require.NoError(t, unix.Unmount(at, unix.MNT_DETACH)) }()
	cmd := exec.Command("tar", "--format=pax", "--xattrs", "--xattrs-include=*", "--numeric-owner", "-C", at, "-cf", "-", ".")
	var said strings.Builder
	cmd.Stderr = &said
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	list, err := entries(func(give func(*tar.Header, io.Reader) error) error {
		in := tar.NewReader(out)
		for {
			h, err := in.Next()
			if err == io.EOF {
				return nil
			}
			if err == nil {
				err = give(h, in)
			}
			if err != nil {
				return err
			}
		}
	})
	list = slices.DeleteFunc(list, func(line string) bool { return strings.HasPrefix(line, "lost+found 5 ") }) // each makes its own
	_, _ = io.Copy(io.Discard, out)
	if e := cmd.Wait(); e != nil {
		err = fmt.Errorf("%w: %s", e, said.String())
	}
	return list, err
}

// The tree of a file system is the one that the kernel sees, with each feature.
func TestTheTreeIsWhatTheKernelSees(t *testing.T) {
	dir := t.TempDir()
	sh(t, dir, tree+`
setfattr -n user.mime -v text/plain tree/a/short; setfattr -n user.long -v $(printf '%0300d' 7) tree/a/short; setfacl -m u:5:rw tree/a/long
setcap cap_net_raw+ep tree/a/short; mknod tree/dev/null c 1 3; mknod tree/dev/loop b 7 300
touch tree/a/$(printf 'name with \304\230 \377')`)
	for _, options := range everyExt4 {
		image := filepath.Join(dir, "fs")
		sh(t, dir, `rm -f fs; truncate -s 64M fs; mke2fs -q -F `+options+` -d tree fs`)
		want, err := kernels(t, image)
		if err != nil {
			t.Logf("%s: the kernel here does not mount it: %v", options, err)
			continue
		}
		got, err := ours(image)
		require.NoError(t, err, options)
		require.Equal(t, want, got, options)
	}
}

// A file system that the kernel wrote to and nobody unmounted: its journal is replayed as the kernel replays it.
func TestJournalsThatTheKernelWrote(t *testing.T) {
	for _, options := range []string{"-t ext4", "-t ext4 -b 1024", "-t ext4 -O ^metadata_csum",
		"-t ext4 -O ^metadata_csum,^64bit", "-t ext3"} {
		dir := t.TempDir()
		sh(t, dir, `truncate -s 64M fs; mke2fs -q -F `+options+` fs; mkdir at; mount -o loop fs at
cd at; mkdir many; for i in $(seq 300); do seq $i > many/$i; done; sync -f .; rm many/1*
mkdir more; seq 90000 > more/long; ln more/long more/other
echo x > more/x; sync -f .; cp --sparse=always ../fs ../dirty; cd ..; umount at; dumpe2fs -h dirty 2>/dev/null | grep -q needs_recovery`)
		got, err := ours(filepath.Join(dir, "dirty"))
		require.NoError(t, err, options)
		want, err := kernels(t, filepath.Join(dir, "dirty"))
		require.NoError(t, err, options)
		require.Equal(t, want, got, options)
		require.Greater(t, len(got), 180)
	}
}

// Test images of e2fsprogs, most of them damaged on purpose: each is read as the kernel reads it, or refused in words.
func TestImagesOfE2fsprogs(t *testing.T) {
	list, err := filepath.Glob(filepath.Join(os.Getenv("IMAGES"), "*/tests/*/image.gz"))
	require.NoError(t, err)
	require.NotEmpty(t, list, "set IMAGES to the folder in which the source package of e2fsprogs is unpacked")
	count := map[string]int{}
	for _, packed := range list {
		name := filepath.Base(filepath.Dir(packed))
		image := filepath.Join(t.TempDir(), "fs")
		sh(t, ".", `gzip -dc "$1" > "$2"`, packed, image)
		got, err := ours(image)
		want, mounted := kernels(t, image)
		switch {
		case err != nil && mounted != nil:
			count["refused here and by the kernel"]++
		case err != nil:
			count["refused here"]++
			t.Logf("%-32s refused: %v", name, err)
		case mounted != nil:
			count["read here, not by the kernel"]++
			t.Logf("%-32s read, and the kernel says: %.150s", name, strings.ReplaceAll(mounted.Error(), "\n", "; "))
		case slices.Equal(got, want):
			count["the same"]++
		case !slices.ContainsFunc(want, func(line string) bool { return !slices.Contains(got, line) }):
			count["more is read here"]++ // the kernel trusts a spoilt index
			t.Logf("%-32s %d names, and the kernel sees %d", name, len(got), len(want))
		default:
			count["differ"]++
			t.Errorf("%-32s differs", name)
			for _, line := range got {
				if !slices.Contains(want, line) {
					t.Logf("    here   %.150s", line)
				}
			}
			for _, line := range want {
				if !slices.Contains(got, line) {
					t.Logf("    kernel %.150s", line)
				}
			}
		}
	}
	t.Log(count)
}
