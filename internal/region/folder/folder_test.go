package folder_test

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/region"
	"zygos/internal/region/folder"
)

func item(t *testing.T, content []byte) region.Item {
	source := filepath.Join(t.TempDir(), "blob")
	require.NoError(t, os.WriteFile(source, content, 0o600))
	return region.Item{Organisation: "ebbline", Image: "link", Version: "2.3.0", Key: artifact.Key{Format: "raw"}, Digest: digest.Of(content),
		Bytes: int64(len(content)), Open: from(source), File: "link-2.3.0.raw"}
}

func open(t *testing.T) (region.Region, string) {
	dir := t.TempDir()
	return folder.Kind.Open(&definition.Region{Name: "north", Settings: folder.Settings{Path: "regions/north"}},
		func(p string) string { return filepath.Join(dir, p) }), filepath.Join(dir, "regions/north")
}

func told(string, int64) {}

func source(t *testing.T, it region.Item) string {
	content, err := it.Open(t.Context())
	require.NoError(t, err)
	defer content.Close()
	name := content.(*region.File).Name()
	return name
}

func from(name string) func(context.Context) (region.Content, error) {
	return func(context.Context) (region.Content, error) { return region.OpenFile(name) }
}

func TestPlacementIsCopiedOnceAndVerified(t *testing.T) {
	r, dir := open(t)
	it := item(t, []byte("artifact"))
	var bytes int64
	placed, err := r.Place(t.Context(), it, func(_ string, n int64) { bytes += n })
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
	name := source(t, it)
	require.NoError(t, os.Remove(name))
	f, err := os.Create(name)
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
	it.Digest = digest.Of([]byte("something else"))
	_, err := r.Place(t.Context(), it, told)
	require.ErrorContains(t, err, "is damaged")
	left, err := os.ReadDir(filepath.Join(dir, "link/2.3.0"))
	require.NoError(t, err)
	require.Empty(t, left)

	it = item(t, []byte("artifact"))
	require.NoError(t, os.Remove(source(t, it)))
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
	for _, version := range []string{"2.2.9", "2.2.8"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "link", version), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "link", version, ".part-x"), []byte("half of something"), 0o644))
	}
	busy, err := os.Open(filepath.Join(dir, "link/2.2.8/.part-x"))
	require.NoError(t, err)
	defer busy.Close()
	require.NoError(t, unix.Flock(int(busy.Fd()), unix.LOCK_EX))
	gone, err := r.Sweep(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(dir, "link/2.2.9/.part-x")}, gone)
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

// A copy that broke is gone on with; what is no part of it, or too long, is not.
func TestBrokenCopyGoesOn(t *testing.T) {
	content := bytes.Repeat([]byte("artifact"), 1<<18)
	other := bytes.Repeat([]byte("anything"), 1<<18)
	for name, left := range map[string][]byte{"half": content[:1<<20], "other": other[:1<<20], "longer": append(content, 'x'),
		"all": content} {
		r, dir := open(t)
		it := item(t, content)
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "link/2.3.0"), 0o755))
		part := filepath.Join(dir, "link/2.3.0/.part-link-2.3.0.raw")
		require.NoError(t, os.WriteFile(part, left, 0o600))
		first, began := int64(0), false
		placed, err := r.Place(t.Context(), it, func(state string, n int64) {
			if state == region.Copying && !began {
				first, began = n, true
			}
		})
		require.NoError(t, err, name)
		require.NoError(t, r.Verify(t.Context(), placed.Location, it.Digest), name)
		require.NoFileExists(t, part)
		require.Equal(t, name != "longer", first > 0, name)

		ctx, cancel := context.WithCancel(t.Context())
		require.NoError(t, os.Remove(placed.Location))
		_, err = r.Place(ctx, item(t, bytes.Repeat(content, 16)), func(_ string, n int64) {
			if n > 0 {
				cancel()
			}
		})
		require.ErrorIs(t, err, context.Canceled)
		require.FileExists(t, part, "what was copied is kept")
	}
}

// What was placed is found again: by its location, also where the folder has another path, and in the list.
func TestWhatWasPlacedIsFetchedVerifiedAndListed(t *testing.T) {
	r, dir := open(t)
	placed, err := r.Place(t.Context(), item(t, []byte("artifact")), told)
	require.NoError(t, err)
	want := item(t, []byte("artifact")).Digest
	for _, at := range []string{placed.Location, "/on/another/machine/link/2.3.0/link-2.3.0.raw"} {
		content, err := r.Fetch(t.Context(), at, 0)
		require.NoError(t, err)
		text, err := io.ReadAll(content)
		require.NoError(t, err)
		require.NoError(t, content.Close())
		require.Equal(t, "artifact", string(text))
		require.NoError(t, r.Verify(t.Context(), at, want))
	}
	_, err = r.Document(t.Context(), "link/2.3.0/manifest.json", []byte("{}"))
	require.NoError(t, err)
	text, written, err := r.Read(t.Context(), "link/2.3.0/manifest.json")
	require.NoError(t, err)
	require.Equal(t, "{}", string(text))
	require.WithinDuration(t, time.Now(), written, time.Minute)
	_, _, err = r.Read(t.Context(), "nothing.json")
	require.ErrorIs(t, err, fs.ErrNotExist)
	list, err := r.List(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{placed.Location}, list, "documents are no artifacts")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "link/2.3.0/link-2.3.0.raw"), []byte("other"), 0o644))
	require.ErrorIs(t, r.Verify(t.Context(), placed.Location, want), region.ErrAbsent)
	require.NoError(t, os.Remove(placed.Location))
	require.ErrorIs(t, r.Verify(t.Context(), placed.Location, want), region.ErrAbsent)
	_, err = r.Fetch(t.Context(), placed.Location, 0)
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// Hosts can read what lies there, whatever the mask of who published it is.
func TestFoldersAreReadable(t *testing.T) {
	old := unix.Umask(0o777)
	defer unix.Umask(old)
	r, dir := open(t)
	it := item(t, []byte("artifact"))
	unix.Umask(0o077)
	placed, err := r.Place(t.Context(), it, told)
	require.NoError(t, err)
	_, err = r.Document(t.Context(), "link/2.3.0/manifest.json", []byte("{}"))
	require.NoError(t, err)
	for _, name := range []string{dir, filepath.Dir(placed.Location), placed.Location, filepath.Join(dir, "link/2.3.0/manifest.json")} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		want := os.FileMode(0o644)
		if info.IsDir() {
			want = 0o755
		}
		require.Equal(t, want, info.Mode().Perm(), name)
	}
}

// memory is content that no file has.
type memory struct {
	*bytes.Reader
	from, to int64 // where its data is
}

func (m memory) Close() error { return nil }

func (m memory) Data(at int64) (from, to int64, err error) {
	if at >= m.to {
		return 0, 0, io.EOF
	}
	return max(at, m.from), m.to, nil
}

// Content need not be a file: extents and bytes are all that is asked for.
func TestContentFromElsewhere(t *testing.T) {
	r, dir := open(t)
	text := append(make([]byte, 1<<20), []byte("the end")...)
	it := item(t, text)
	it.Open = func(context.Context) (region.Content, error) {
		return memory{bytes.NewReader(text), 1 << 20, int64(len(text))}, nil
	}
	placed, err := r.Place(t.Context(), it, func(string, int64) {})
	require.NoError(t, err)
	require.True(t, placed.Copied)
	got, err := os.ReadFile(placed.Location)
	require.NoError(t, err)
	require.Equal(t, text, got)
	require.Contains(t, placed.Location, dir)
}
