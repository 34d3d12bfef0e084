package artifact_test

import (
	"bytes"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/artifact"
	"zygos/internal/base"
	"zygos/internal/build"
	"zygos/internal/definition"
	"zygos/internal/reading"
)

// crate is a made-up container: a mark before the disk.
var crate = artifact.Format{Name: "crate", Extension: ".crate", QEMU: "crate", Ends: []string{".box"}, ReadRank: 9, StartRank: 9,
	Reads: &reading.Form{Name: "crate", Is: func(head, _ []byte) bool { return bytes.HasPrefix(head, []byte("CRATE\n")) },
		Open: func(file io.ReaderAt, size int64) (reading.Disk, error) {
			return io.NewSectionReader(file, 6, size-6), nil
		}}}

// A new container is one entry of the table: its files are bases and can be adopted, opened and started.
func TestNewContainerIsOneEntryOfTheTable(t *testing.T) {
	old := artifact.Table
	t.Cleanup(func() { artifact.Table = old })
	file := strings.NewReader("CRATE\n" + strings.Repeat("x", 600))
	require.False(t, artifact.NamesDisk("a.crate"))
	artifact.Table = append(slices.Clone(old), &crate)
	for _, name := range []string{"bases/a.crate", "https://a.example/b.box.zst"} {
		require.Equal(t, "disk", base.KindOf(name))
	}
	d, form, err := artifact.OpenDisk(file, file.Size())
	require.NoError(t, err)
	require.Equal(t, "crate", form)
	require.EqualValues(t, 600, d.Size())
	says := artifact.Says{"boot": "uefi"}
	list := build.Bootable([]definition.Artifact{{Format: "crate", Says: says}, {Format: "tar"}, {Format: "vmdk", Says: says},
		{Format: "raw", Says: says}})
	require.Equal(t, []string{"raw", "vmdk", "crate"}, []string{list[0].Format, list[1].Format, list[2].Format})
}

// Every disk that is written is read back by its own form, and every format has a place in both orders that it belongs to.
func TestFormatsDescribeTheirDisks(t *testing.T) {
	for _, f := range artifact.Table {
		require.NotZero(t, f.ReadRank, f.Name)
		require.Equal(t, f.QEMU != "", f.StartRank != 0, f.Name)
		require.Equal(t, f.QEMU != "" || f.Name == "ova", f.Reads != nil, f.Name)
		require.True(t, f.Reads == nil || f.Reads.Name == f.Name, f.Name)
	}
}
