package loader

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Fields of fstab(5) are escaped; a mount point is known all the same.
func TestEscapedMountPoints(t *testing.T) {
	const line = "UUID=1 /my\\040data ext4 defaults 0 2\n"
	require.True(t, mounts(line, "/my data"))
	require.False(t, mounts(line, "/my"))
	require.Empty(t, without(line, []string{"/my data"}))
	require.Equal(t, line, without(line, []string{"/my\\040data"}))
}
