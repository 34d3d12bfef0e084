package artifact

import (
	archive "archive/tar"
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

// A time that the header of an appliance cannot say becomes the nearest that it can.
func TestTimesOfAnAppliance(t *testing.T) {
	for epoch, want := range map[int64]int64{1: 1, -5: 0, 1 << 33: 1<<33 - 1, 1 << 40: 1<<33 - 1} {
		text, err := tarHead("a.ovf", 7, epoch)
		require.NoError(t, err)
		h, err := archive.NewReader(bytes.NewReader(append(text, make([]byte, 1024)...))).Next()
		require.NoError(t, err)
		require.Equal(t, want, h.ModTime.Unix())
	}
}
