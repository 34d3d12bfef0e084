package region_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/region"
)

func item(t *testing.T, content []byte) region.Item {
	source := filepath.Join(t.TempDir(), "blob")
	require.NoError(t, os.WriteFile(source, content, 0o600))
	sum := sha256.Sum256(content)
	return region.Item{Organisation: "ebbline", Image: "link", Version: "2.3.0", Key: artifact.Key{Format: "raw"}, Digest: "sha256:" + hex.EncodeToString(sum[:]),
		Bytes: int64(len(content)), Source: source, File: "link-2.3.0.raw"}
}

func open(t *testing.T) (region.Region, string) {
	dir := t.TempDir()
	return region.Open(&definition.Region{Name: "north", Kind: "folder", Path: "regions/north"}, func(p string) string { return filepath.Join(dir, p) }), filepath.Join(dir, "regions/north")
}

func told(int64) {}

func TestPlacementIsCopiedOnceAndVerified(t *testing.T) {
	r, dir := open(t)
	it := item(t, []byte("artifact"))
	var bytes int64
	placed, err := r.Place(t.Context(), it, func(n int64) { bytes += n })
	require.NoError(t, err)
	require.True(t, placed.Copied)
	require.Equal(t, int64(8), bytes)
	require.Equal(t, filepath.Join(dir, "link/2.3.0/link-2.3.0.raw"), placed.Location)
	content, err := os.ReadFile(placed.Location)
	require.NoError(t, err)
	require.Equal(t, "artifact", string(content))
	again, err := r.Place(t.Context(), it, told)
	require.NoError(t, err)
	require.False(t, again.Copied)
	require.Equal(t, placed.ID, again.ID)

	// Same size, other content: found by its digest, and replaced.
	require.NoError(t, os.WriteFile(placed.Location, []byte("artifakt"), 0o644))
	again, err = r.Place(t.Context(), it, told)
	require.NoError(t, err)
	require.True(t, again.Copied)
}

func TestSparseFilesStaySparse(t *testing.T) {
	r, _ := open(t)
	content := make([]byte, 8<<20)
	copy(content[4<<20:], "data")
	it := item(t, content)
	require.NoError(t, os.Remove(it.Source))
	f, err := os.Create(it.Source)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("data"), 4<<20)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(8<<20))
	require.NoError(t, f.Close())
	placed, err := r.Place(t.Context(), it, told)
	require.NoError(t, err)
	var st unix.Stat_t
	require.NoError(t, unix.Stat(placed.Location, &st))
	require.Equal(t, int64(8<<20), st.Size)
	require.Less(t, st.Blocks*512, int64(1<<20))
}

func TestFailedPlacementLeavesNothing(t *testing.T) {
	r, dir := open(t)
	it := item(t, []byte("artifact"))
	it.Digest = "sha256:" + strings.Repeat("0", 64)
	_, err := r.Place(t.Context(), it, told)
	require.ErrorContains(t, err, "is damaged")
	left, err := os.ReadDir(filepath.Join(dir, "link/2.3.0"))
	require.NoError(t, err)
	require.Empty(t, left)

	it = item(t, []byte("artifact"))
	require.NoError(t, os.Remove(it.Source))
	_, err = r.Place(t.Context(), it, told)
	require.ErrorIs(t, err, os.ErrNotExist)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = r.Place(ctx, item(t, []byte("artifact")), told)
	require.ErrorIs(t, err, context.Canceled)
	left, err = os.ReadDir(filepath.Join(dir, "link/2.3.0"))
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestLeftoversOfKilledPublicationsGo(t *testing.T) {
	r, dir := open(t)
	it := item(t, []byte("artifact"))
	for _, version := range []string{"2.3.0", "2.2.9", "2.2.8"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "link", version), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "link", version, ".part-"+it.Name), []byte("half of something longer"), 0o644))
	}
	busy, err := os.Open(filepath.Join(dir, "link/2.2.8/.part-"+it.Name))
	require.NoError(t, err)
	defer busy.Close()
	require.NoError(t, unix.Flock(int(busy.Fd()), unix.LOCK_EX))
	placed, err := r.Place(t.Context(), it, told)
	require.NoError(t, err)
	content, err := os.ReadFile(placed.Location)
	require.NoError(t, err)
	require.Equal(t, "artifact", string(content))
	left, err := os.ReadDir(filepath.Dir(placed.Location))
	require.NoError(t, err)
	require.Len(t, left, 1)
	require.NoFileExists(t, filepath.Join(dir, "link/2.2.9/.part-"+it.Name))
	require.FileExists(t, busy.Name(), "somebody is writing it")
}

func TestManyPlaceTheSameAtOnce(t *testing.T) {
	r, _ := open(t)
	it := item(t, bytes.Repeat([]byte("artifact"), 1<<18))
	copied := make(chan bool, 8)
	for range cap(copied) {
		go func() {
			placed, err := r.Place(t.Context(), it, told)
			assert.NoError(t, err)
			copied <- placed.Copied
		}()
	}
	count := 0
	for range cap(copied) {
		if <-copied {
			count++
		}
	}
	require.Equal(t, 1, count, "copied once, found by the others")
}

func TestIDsAreTheSameEachTimeAndUnique(t *testing.T) {
	base := region.Item{Organisation: "o", Image: "i", Version: "1.0.0", Key: artifact.Key{Format: "tar"}, Digest: "sha256:x"}
	seen := map[string]bool{region.ID("r", base): true}
	require.Equal(t, region.ID("r", base), region.ID("r", base))
	for _, change := range []func(*region.Item){
		func(i *region.Item) { i.Organisation = "p" }, func(i *region.Item) { i.Image = "j" }, func(i *region.Item) { i.Version = "1.0.1" },
		func(i *region.Item) { i.Format = "raw" }, func(i *region.Item) { i.Name = "disk" }, func(i *region.Item) { i.Digest = "sha256:y" },
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
	moved.Source, moved.File, moved.Bytes = "/elsewhere", "n", 7
	require.Equal(t, region.ID("r", base), region.ID("r", moved))
}

func TestDocumentsAreWholeOrNotThere(t *testing.T) {
	r, dir := open(t)
	at, err := r.Document(t.Context(), "link/2.3.0/manifest.json", []byte("{}"))
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "link/2.3.0/manifest.json"), at)
	_, err = r.Document(t.Context(), "link/2.3.0/manifest.json", []byte("{1}"))
	require.NoError(t, err)
	content, err := os.ReadFile(at)
	require.NoError(t, err)
	require.Equal(t, "{1}", string(content))
	left, err := os.ReadDir(filepath.Dir(at))
	require.NoError(t, err)
	require.Len(t, left, 1)
}

func TestTakes(t *testing.T) {
	require.True(t, region.Takes(&definition.Region{}, "raw"))
	require.True(t, region.Takes(&definition.Region{Formats: []string{"tar", "raw"}}, "raw"))
	require.False(t, region.Takes(&definition.Region{Formats: []string{"tar"}}, "raw"))
}
