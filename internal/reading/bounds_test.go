package reading_test

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/reading"
)

// An appliance in an appliance, and one of very many files, is refused at once.
func TestAppliancesAreBounded(t *testing.T) {
	var inner bytes.Buffer
	for range 50 {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "disk.vmdk", Size: int64(inner.Len()), Typeflag: tar.TypeReg,
			Format: tar.FormatUSTAR}))
		_, err := w.Write(inner.Bytes())
		require.NoError(t, err)
		require.NoError(t, w.Close())
		inner = out
	}
	require.EqualError(t, readAll(bytes.NewReader(inner.Bytes()), int64(inner.Len())), "ova: its disk is no vmdk")

	var many bytes.Buffer
	w := tar.NewWriter(&many)
	for i := range 2000 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprintf("%d.mf", i), Typeflag: tar.TypeReg, Format: tar.FormatUSTAR}))
	}
	require.NoError(t, w.Close())
	require.EqualError(t, readAll(bytes.NewReader(many.Bytes()), int64(many.Len())), "ova: it has more than 1000 entries")
}

// A long fstab is work in proportion to the file, ends with the context, and has a bound.
func TestLongFstab(t *testing.T) {
	dir := t.TempDir()
	disk := func(name string, lines int) reading.Disk {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "tree/etc"), 0o755))
		text := strings.Repeat("LABEL=none /x ext4 defaults 0 0\n", lines) + "LABEL=more /my\\040data ext4 defaults 0 2\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "tree/etc/fstab"), []byte(text), 0o644))
		sh(t, dir, fmt.Sprintf(`truncate -s 40M %[1]s; printf 'label: gpt\nsize=20M, name=root\nsize=4M\nsize=4M\n' | sfdisk -q %[1]s
truncate -s 20M fs; mke2fs -q -F -t ext4 -L root -d tree fs; dd if=fs of=%[1]s bs=1M seek=1 conv=notrunc status=none
truncate -s 4M fs; mke2fs -q -F -t ext4 -L more fs; dd if=fs of=%[1]s bs=1M seek=21 conv=notrunc status=none`, name))
		d, _ := open(t, filepath.Join(dir, name))
		return d
	}
	d := disk("long", 9_000)
	root, err := reading.Root(t.Context(), d, 0)
	require.NoError(t, err)
	require.Equal(t, "my data", root.Mounts[1].At, "escapes are read")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = reading.Root(ended, d, 0)
	require.ErrorIs(t, err, context.Canceled)
	_, err = reading.Root(t.Context(), disk("longer", 20_000), 0)
	require.ErrorContains(t, err, "its fstab has more than 10000 lines")
}
