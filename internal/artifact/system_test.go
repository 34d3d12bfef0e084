package artifact

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/loader"
)

// A new file system is one entry of the table: definitions name it, partitions hold it, and fstab mounts it.
func TestNewFileSystemIsOneEntryOfTheTable(t *testing.T) {
	old := disk.Systems
	t.Cleanup(func() { disk.Systems = old })
	var laid []disk.File
	shed := disk.System{Name: "shed", Type: [16]byte{1}, Label: 4, Files: true, Mount: "dry 0 2",
		Lay: func(_ context.Context, files []disk.File, o disk.Options) (disk.Volume, error) {
			laid = files
			require.Equal(t, "larg", o.Label)
			return disk.Swap(o.Size, o.Label, o.UUID), nil // any volume serves
		}}
	disk.Systems = append(slices.Clone(old), &shed)

	says := Says{partition.Name: PartsText([]Partition{{Name: "large", Bytes: 4 << 20, Mount: "srv", Other: "shed"}, {Name: "swap",
		Bytes: 4 << 20, Swap: true}})}
	x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}, {Path: "srv", Kind: layer.Dir, Mode: 0o755}, {Path: "srv/a", Kind: layer.Dir}}
	tree := &Tree{Merged: layer.Merge(x), Content: func(*layer.Node) string { return "" }}
	tree.Nodes = tree.Merged.Nodes()
	list, err := tree.partitions(t.Context(), Options{Says: says})
	require.NoError(t, err)
	require.Equal(t, [][16]byte{{1}, disk.TypeSwap}, [][16]byte{list[0].Type, list[1].Type})
	var names []string
	for _, f := range laid {
		names = append(names, f.Path)
	}
	require.Equal(t, []string{".", "a"}, names)
	mounts := tree.mounts(Options{Says: says})
	at := slices.IndexFunc(mounts, func(m loader.Mount) bool { return m.Folder == "srv" })
	require.Equal(t, "shed", mounts[at].System.Name)
	require.Equal(t, "shed", (&Partition{Other: "shed"}).System().Name)

	says[partition.Name] = PartsText([]Partition{{Name: "x", Bytes: 4 << 20, Other: "barn"}})
	_, err = tree.partitions(t.Context(), Options{Says: says})
	require.ErrorContains(t, err, "partition x is to hold barn, which this program does not write")
	require.Empty(t, tree.mounts(Options{Says: says}))
}
