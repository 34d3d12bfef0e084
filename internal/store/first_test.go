package store_test

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/store"
)

// Of many that give a file its first content, all get what one of them gave.
func TestFirstContentCounts(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "id")
	var group sync.WaitGroup
	stop := make(chan struct{})
	group.Go(func() { // as a sweep does
		for {
			select {
			case <-stop:
				return
			default:
				parts, _ := filepath.Glob(filepath.Join(dir, ".new-*"))
				for _, part := range parts {
					_ = os.Remove(part)
				}
			}
		}
	})
	var givers sync.WaitGroup
	got := make([]string, 20)
	for i := range got {
		givers.Go(func() {
			content, err := store.First(name, fmt.Append(nil, "given by ", i))
			if got[i] = string(content); err != nil {
				t.Error(err)
			}
		})
	}
	givers.Wait()
	close(stop)
	group.Wait()
	for _, content := range got {
		require.Equal(t, got[0], content)
		require.Contains(t, content, "given by")
	}
	info, err := os.Stat(name)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing half-made stays")
	_, err = store.First(filepath.Join(dir, "no", "folder"), nil)
	require.ErrorIs(t, err, os.ErrNotExist)
}
