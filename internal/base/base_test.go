package base_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"golang.org/x/sync/errgroup"

	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/machine/machinetest"
	"zygos/internal/store"
)

func TestMain(m *testing.M) { machinetest.Main(m) }

func importer(t *testing.T) *base.Importer {
	dir := t.TempDir()
	s, err := store.Open(filepath.Join(dir, "store"))
	require.NoError(t, err)
	ids, _ := machine.Inside()
	im := &base.Importer{Root: dir, Store: s,
		Layers:    &layer.Store{Dir: filepath.Join(dir, "layers"), Owners: layer.Owners{First: ids.First, Count: ids.Count}},
		Downloads: filepath.Join(dir, "downloads"), Temp: filepath.Join(dir, "temp"), Progress: func(string, int64, int64) {}}
	require.NoError(t, os.Mkdir(im.Temp, 0o755))
	return im
}

func root(t *testing.T) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	body := bytes.Repeat([]byte("0123456789"), 20000)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "./a", Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(body))}))
	_, err := w.Write(body)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func sum(p []byte) string {
	s := sha256.Sum256(p)
	return hex.EncodeToString(s[:])
}

func pinned(t *testing.T, im *base.Importer, content []byte, from ...string) *definition.Base {
	require.NoError(t, os.WriteFile(filepath.Join(im.Root, "root.tar"), content, 0o644))
	if len(from) == 0 {
		from = []string{"root.tar"}
	}
	return &definition.Base{Name: "b", Release: "1", From: from, SHA256: digest.Of(content)}
}

// nothingLeft says that a refused base left no trace.
func nothingLeft(t *testing.T, im *base.Importer) {
	left, err := os.ReadDir(im.Temp)
	require.NoError(t, err)
	require.Empty(t, left)
	layers, err := filepath.Glob(filepath.Join(im.Layers.Dir, "*", "index.jsonl"))
	require.NoError(t, err)
	require.Empty(t, layers)
}

func TestEveryCompressionGivesTheSameLayer(t *testing.T) {
	plain := root(t)
	packers := map[string]func(io.Writer) (io.WriteCloser, error){
		"gz":  func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil },
		"zst": func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) },
		"xz":  func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) },
	}
	im := importer(t)
	snap, err := im.Ensure(t.Context(), pinned(t, im, plain))
	require.NoError(t, err)
	for name, pack := range packers {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			w, err := pack(&b)
			require.NoError(t, err)
			_, err = w.Write(plain)
			require.NoError(t, err)
			require.NoError(t, w.Close())
			im := importer(t)
			other, err := im.Ensure(t.Context(), pinned(t, im, b.Bytes()))
			require.NoError(t, err)
			require.Equal(t, snap.Layer, other.Layer)
			state, _ := im.State(pinned(t, im, b.Bytes()))
			require.Equal(t, base.Ready, state)
		})
	}
}

func TestMismatchStopsWithBothDigests(t *testing.T) {
	im := importer(t)
	b := pinned(t, im, root(t))
	require.NoError(t, os.WriteFile(filepath.Join(im.Root, "root.tar"), []byte("something else"), 0o644))
	b.From = append(b.From, "http://127.0.0.1:1/never-asked")
	_, err := im.Ensure(t.Context(), b)
	require.ErrorContains(t, err, b.SHA256.Hex())
	require.ErrorContains(t, err, sum([]byte("something else")))
	nothingLeft(t, im)
}

func TestUnsoundArchivesLeaveNothing(t *testing.T) {
	for name, content := range map[string][]byte{"cut short": root(t)[:70000],
		"no archive": []byte("not a tar, and long enough to be looked at"), "empty": {},
		"cut gzip": {0x1f, 0x8b, 8, 0, 0}} {
		t.Run(name, func(t *testing.T) {
			im := importer(t)
			_, err := im.Ensure(t.Context(), pinned(t, im, content))
			require.ErrorContains(t, err, "base b: root.tar cannot be used")
			nothingLeft(t, im)
		})
	}
}

func TestCandidatesAreTriedInOrder(t *testing.T) {
	content := root(t)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/root.tar" {
			http.NotFound(w, r)
			return
		}
		w.Write(content)
	}))
	defer server.Close()
	im := importer(t)
	b := pinned(t, im, content, "missing.tar", server.URL+"/missing", server.URL+"/root.tar")
	state, from := im.State(b)
	require.Equal(t, base.Remote, state)
	require.Equal(t, server.URL+"/missing", from)
	_, err := im.Ensure(t.Context(), b)
	require.NoError(t, err)
	b.SHA256, b.From = digest.Of([]byte("x")), b.From[:2]
	_, err = im.Ensure(t.Context(), b)
	require.ErrorContains(t, err, "missing.tar: no such file or directory")
	require.ErrorContains(t, err, "the server answers 404 Not Found")
}

func TestDownloadGoesOnWhereItStopped(t *testing.T) {
	content := root(t)
	var ranges []string
	cut := true
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ranges = append(ranges, r.Header.Get("Range"))
		if cut { // the line breaks in the middle, once
			cut = false
			w.Header().Set("Content-Length", fmt.Sprint(len(content)))
			w.Write(content[:100000])
			return
		}
		http.ServeContent(w, r, "root.tar", time.Time{}, bytes.NewReader(content))
	}))
	defer server.Close()
	im := importer(t)
	_, err := im.Ensure(t.Context(), pinned(t, im, content, server.URL+"/root.tar"))
	require.NoError(t, err)
	require.Equal(t, []string{"", "bytes=100000-"}, ranges)
}

func TestLeftoverOfAnotherFileIsNotTrusted(t *testing.T) {
	content := root(t)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write(content) }))
	defer server.Close()
	im := importer(t)
	b := pinned(t, im, content, server.URL)
	require.NoError(t, os.MkdirAll(im.Downloads, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(im.Downloads, b.SHA256.Hex()+".part"), []byte("left from elsewhere"), 0o644))
	_, err := im.Ensure(t.Context(), b)
	require.NoError(t, err)
}

// Two builds that need one base at once download it once; the server has no ranges.
func TestOneDownloadForAll(t *testing.T) {
	content := root(t)
	var asked atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		for part := range slices.Chunk(content, 50000) {
			w.Write(part)
			w.(http.Flusher).Flush()
			time.Sleep(5 * time.Millisecond) // so that the others come in between
		}
	}))
	defer server.Close()
	im := importer(t)
	b := pinned(t, im, content, server.URL)
	var group errgroup.Group
	for range 8 {
		group.Go(func() error {
			_, _, err := im.Archive(t.Context(), b)
			return err
		})
	}
	require.NoError(t, group.Wait())
	require.Equal(t, int64(1), asked.Load())
	got, err := os.ReadFile(im.Store.Path(b.SHA256))
	require.NoError(t, err)
	require.Equal(t, sum(content), sum(got))
}

func TestServerThatSendsAnotherRangeIsNotBelieved(t *testing.T) {
	content := root(t)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Range") != "" {
			w.Header().Set("Content-Range", fmt.Sprintf("bytes 0-%d/%d", len(content)-1, len(content)))
			w.WriteHeader(http.StatusPartialContent)
		}
		w.Write(content)
	}))
	defer server.Close()
	im := importer(t)
	b := pinned(t, im, content, server.URL)
	require.NoError(t, os.MkdirAll(im.Downloads, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(im.Downloads, b.SHA256.Hex()+".part"), content[:1000], 0o644))
	_, err := im.Ensure(t.Context(), b)
	require.ErrorContains(t, err, "was asked for what follows byte 1000 and answers with")
	_, err = im.Ensure(t.Context(), b)
	require.NoError(t, err, "from the start it goes")
}
