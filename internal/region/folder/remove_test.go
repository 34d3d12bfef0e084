package folder_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/definition"
	"zygos/internal/region/folder"
)

func TestWhatIsRemovedLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	r := folder.Kind.Open(&definition.Region{Name: "north", Settings: folder.Settings{Path: dir}}, func(p string) string { return p })
	version := filepath.Join(dir, "link", "1.0.0")
	require.NoError(t, os.MkdirAll(version, 0o755))
	for _, name := range []string{"link-1.0.0.raw", "link-1.0.0.tar.zst", "manifest.json"} {
		require.NoError(t, os.WriteFile(filepath.Join(version, name), []byte("x"), 0o644))
	}
	require.NoError(t, r.Remove(t.Context(), filepath.Join(version, "link-1.0.0.raw")))
	require.FileExists(t, filepath.Join(version, "manifest.json"), "as long as another artifact is there")
	require.NoError(t, r.Remove(t.Context(), filepath.Join(version, "link-1.0.0.tar.zst")))
	require.NoDirExists(t, version)
	require.NoError(t, r.Remove(t.Context(), filepath.Join(version, "link-1.0.0.raw")), "gone already")
	outside := filepath.Join(t.TempDir(), "a", "file")
	require.NoError(t, os.MkdirAll(filepath.Dir(outside), 0o755))
	require.NoError(t, os.WriteFile(outside, nil, 0o644))
	require.ErrorContains(t, r.Remove(t.Context(), outside), "does not lie in region north")
	require.FileExists(t, outside)
}

func TestSweepSparesWhatSomebodyWrites(t *testing.T) {
	dir := t.TempDir()
	version := filepath.Join(dir, "link", "1.0.0")
	require.NoError(t, os.MkdirAll(version, 0o755))
	dead, alive := filepath.Join(version, ".part-dead"), filepath.Join(version, ".part-alive")
	require.NoError(t, os.WriteFile(dead, []byte("half"), 0o644))
	f, err := os.Create(alive)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, unix.Flock(int(f.Fd()), unix.LOCK_EX))
	again := folder.Kind.Open(&definition.Region{Name: "north", Settings: folder.Settings{Path: dir}}, func(p string) string { return p })
	removed, err := again.Sweep(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{dead}, removed)
	require.FileExists(t, alive)
}
