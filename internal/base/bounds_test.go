package base_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// A download has a bound, declared or not; nothing of a longer one stays.
func TestDownloadsAreBounded(t *testing.T) {
	declared := false
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if declared {
			w.Header().Set("Content-Length", "1000000000000000")
		}
		for {
			if _, err := w.Write(make([]byte, 64<<10)); err != nil {
				return
			}
		}
	}))
	defer server.Close()
	im := importer(t)
	b := &definition.Base{Name: "b", Release: "1", From: []string{server.URL + "/x.tar"}, SHA256: digest.Of([]byte("x")), SizeAtMost: 8 << 20}
	_, err := im.Ensure(t.Context(), b)
	require.ErrorContains(t, err, "is larger than 8192 KiB")
	declared = true
	_, err = im.Ensure(t.Context(), b)
	require.ErrorContains(t, err,
		`it has 953674316.4 MiB, and 8.0 MiB is the most that is downloaded of a base; if that is right, add size_at_most`)
	b.SizeAtMost = 1 << 60
	_, err = im.Ensure(t.Context(), b)
	require.ErrorContains(t, err, "has room for")
	left, err := filepath.Glob(filepath.Join(im.Downloads, "*.part"))
	require.NoError(t, err)
	for _, name := range left {
		info, err := os.Stat(name)
		require.NoError(t, err)
		require.Zero(t, info.Size(), name)
	}
}

// A name that is no digest leads nowhere, however a base came by it.
func TestNoDigestNoPath(t *testing.T) {
	im := importer(t)
	state, _ := im.State(&definition.Base{Name: "b", Release: "1", From: []string{"https://mirror.example/x"},
		Feed: &definition.Feed{At: "x"}})
	require.Equal(t, base.Unasked, state)
	require.Equal(t, "no-digest", filepath.Base(im.Store.Path(digest.Digest{})))
}
