package region_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/artifact"
	"zygos/internal/digest"
	"zygos/internal/region"
)

func TestIDsAreTheSameEachTimeAndUnique(t *testing.T) {
	base := region.Item{Organisation: "o", Image: "i", Version: "1.0.0", Key: artifact.Key{Format: "tar"}, Digest: digest.Of([]byte("x"))}
	seen := map[string]bool{region.ID("r", base): true}
	require.Equal(t, region.ID("r", base), region.ID("r", base))
	for _, change := range []func(*region.Item){
		func(i *region.Item) { i.Organisation = "p" }, func(i *region.Item) { i.Image = "j" }, func(i *region.Item) { i.Version = "1.0.1" },
		func(i *region.Item) { i.Format = "raw" }, func(i *region.Item) { i.Name = "disk" },
		func(i *region.Item) { i.Digest = digest.Of([]byte("y")) },
		func(i *region.Item) { i.Image, i.Version = "i\n1.0.0", "" },
	} {
		other := base
		change(&other)
		id := region.ID("r", other)
		require.False(t, seen[id])
		seen[id] = true
	}
	require.False(t, seen[region.ID("s", base)])
	require.Regexp(t, `^zy-[0-9a-f]{20}$`, region.ID("r", base))
	moved := base
	moved.File, moved.Bytes = "n", 7
	require.Equal(t, region.ID("r", base), region.ID("r", moved))
}
