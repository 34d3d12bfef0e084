package store_test

import (
	"bytes"
	"encoding/json"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/digest"
	"zygos/internal/store"
)

func open(t *testing.T) *store.Store {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	return s
}

func TestBlobIsStoredByDigestAndKeepsHoles(t *testing.T) {
	s := open(t)
	w, err := s.Create(t.Context())
	require.NoError(t, err)
	var plain bytes.Buffer
	add := func(p []byte) {
		plain.Write(p)
		_, err := w.Write(p)
		require.NoError(t, err)
	}
	add([]byte("head"))
	require.NoError(t, w.Zero(5<<20))
	plain.Write(make([]byte, 5<<20))
	add(bytes.Repeat([]byte("x"), 3<<20))
	add(make([]byte, 2<<20))
	require.NoError(t, w.Zero(10))
	plain.Write(make([]byte, 10))
	b, err := w.Commit()
	require.NoError(t, err)
	w.Discard()
	require.Equal(t, digest.Of(plain.Bytes()), b.Digest)
	got, err := os.ReadFile(s.Path(b.Digest))
	require.NoError(t, err)
	require.True(t, bytes.Equal(plain.Bytes(), got))
	var st unix.Stat_t
	require.NoError(t, unix.Stat(s.Path(b.Digest), &st))
	require.Less(t, st.Blocks*512, int64(4<<20))
	require.True(t, s.Has(b))
	require.NoError(t, s.Verify(t.Context(), b))
	require.NoError(t, os.Truncate(s.Path(b.Digest), 100))
	require.False(t, s.Has(b))
	require.ErrorContains(t, s.Verify(t.Context(), b), "damaged")
}

func TestDiscardedBlobLeavesNothing(t *testing.T) {
	s := open(t)
	w, err := s.Create(t.Context())
	require.NoError(t, err)
	_, err = w.Write([]byte("x"))
	require.NoError(t, err)
	w.Discard()
	left, err := filepath.Glob(filepath.Join(s.Dir, "blob-*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestCompressorGivesTheSameBytesAndLosesNone(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	plain := make([]byte, 9<<20+123)
	for i := range plain {
		plain[i] = byte(random.IntN(8))
	}
	pack := func(step int) []byte {
		var out bytes.Buffer
		c, err := store.NewCompressor(&out)
		require.NoError(t, err)
		for at := 0; at < len(plain); at += step {
			_, err := c.Write(plain[at:min(at+step, len(plain))])
			require.NoError(t, err)
		}
		require.NoError(t, c.Close())
		return out.Bytes()
	}
	packed := pack(1 << 20)
	require.Equal(t, packed, pack(777_777), "however the content comes")
	r, err := zstd.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	require.True(t, bytes.Equal(plain, got))
}

func TestFilesAreReplacedWholeAndOldLeftoversGo(t *testing.T) {
	dir := t.TempDir()
	name, old, fresh := filepath.Join(dir, "doc"), filepath.Join(dir, ".new-1"), filepath.Join(dir, ".new-2")
	for _, f := range []string{old, fresh} {
		require.NoError(t, os.WriteFile(f, []byte("half"), 0o600))
	}
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().Add(-2*time.Hour)))
	require.NoError(t, store.WriteFile(name, []byte("one")))
	require.NoError(t, store.WriteFile(name, []byte("two")))
	content, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, "two", string(content))
	require.NoFileExists(t, old)
	require.FileExists(t, fresh, "somebody may be writing it")
	require.Error(t, store.WriteFile(filepath.Join(dir, "missing/doc"), nil))
}

func TestIndexNamesEachVersionOnce(t *testing.T) {
	s := open(t)
	b, err := s.Put([]byte("artifact"))
	require.NoError(t, err)
	for range 2 {
		require.NoError(t, s.List(t.Context(), "a:1.0.0", "2026-01-01T00:00:00Z",
			[]store.NamedBlob{{Blob: b, MediaType: "application/x", Title: "a.tar"}}))
	}
	text, err := os.ReadFile(filepath.Join(s.Dir, "index.json"))
	require.NoError(t, err)
	var index struct {
		Manifests []struct {
			Digest      digest.Digest
			Annotations map[string]string
		}
	}
	require.NoError(t, json.Unmarshal(text, &index))
	require.Len(t, index.Manifests, 1)
	require.Equal(t, "a:1.0.0", index.Manifests[0].Annotations["org.opencontainers.image.ref.name"])
	manifest, err := os.ReadFile(s.Path(index.Manifests[0].Digest))
	require.NoError(t, err)
	require.Contains(t, string(manifest), b.Digest.String())
}
