package state_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
	"zygos/internal/state"
)

// Of an error for want of room it is said what takes the room.
func TestWhatTakesTheRoom(t *testing.T) {
	d := state.Dir(t.TempDir())
	for name, mib := range map[string]int{"store/a": 3, "layers/b": 5, "downloads/c.part": 2, "builds/d": 0} {
		require.NoError(t, os.MkdirAll(filepath.Dir(d.In(name)), 0o755))
		require.NoError(t, os.WriteFile(d.In(name), make([]byte, mib<<20), 0o644))
	}
	require.Regexp(t, `^layers 5\.0 MiB, store 3\.0 MiB, downloads 2\.0 MiB$`, d.Largest())
	err := d.Full(fmt.Errorf("write it: %w", unix.ENOSPC))
	require.ErrorIs(t, err, unix.ENOSPC)
	require.ErrorContains(t, err, "The largest in "+string(d)+": layers 5.0 MiB")
	require.True(t, state.IsFull(err) && state.IsFull(&catalog.FullError{}))
	require.False(t, state.IsFull(errors.New("x")))
	require.Empty(t, d.MakeRoom(), "a disk with room keeps what was downloaded")
	require.FileExists(t, d.In("downloads/c.part"))
}
