package store_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/store"
)

func TestWhatTheIndexNamesAndForgets(t *testing.T) {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	named, err := s.Named()
	require.NoError(t, err)
	require.Empty(t, named)
	a, err := s.Put([]byte("one artifact"))
	require.NoError(t, err)
	b, err := s.Put([]byte("another"))
	require.NoError(t, err)
	require.NoError(t, s.List(t.Context(), "link:1.0.0", "2026-01-02T03:04:05Z",
		[]store.NamedBlob{{Blob: a, MediaType: "application/x", Title: "a"}}))
	require.NoError(t, s.List(t.Context(), "link:1.0.1", "2026-01-02T03:04:05Z",
		[]store.NamedBlob{{Blob: b, MediaType: "application/x", Title: "b"}}))
	named, err = s.Named()
	require.NoError(t, err)
	require.True(t, named[a.Digest] && named[b.Digest])
	require.Len(t, named, 5, "two artifacts, two manifests, one empty configuration")
	require.NoError(t, s.Unlist(t.Context(), func(reference string) bool { return reference == "link:1.0.0" }))
	named, err = s.Named()
	require.NoError(t, err)
	require.False(t, named[a.Digest])
	require.True(t, named[b.Digest])
	require.NoError(t, s.Remove(a.Digest))
	require.False(t, s.Has(a))
	require.NoError(t, s.Remove(a.Digest), "gone already")
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir, "index.json"), []byte("{"), 0o644))
	_, err = s.Named()
	require.ErrorContains(t, err, "store index")
}
