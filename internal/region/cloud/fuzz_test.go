package cloud_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/manifest"
	"zygos/internal/region"
)

// Whatever a site answers, a placement ends, and is nowhere that cannot be.
func FuzzAnswers(f *testing.F) {
	var answer []byte
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(answer) }))
	f.Cleanup(server.Close)
	r := at(f, server.URL)
	file := filepath.Join(f.TempDir(), "source")
	require.NoError(f, os.WriteFile(file, []byte("abc"), 0o644))
	f.Add([]byte(`{"state":"ready","image":"im-1","id":"im-1","bytes":3,"digest":"sha256:"}`))
	f.Add([]byte(`{"state":"open","part":3,"bytes":3,"have":[1]}`))
	f.Add([]byte(`{"images":[{"id":"a"}],"next":"b","papers":["a/1.0.0/manifest.json"]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		answer = text
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		i := item(t)
		placed, err := r.Place(ctx, i, func(state string, _ int64) {
			if state == region.Importing {
				cancel() // a site that never ends it is another test's
			}
		})
		if err == nil {
			require.True(t, manifest.IsID(placed.ID) && manifest.IsLocation(placed.Location))
		}
		_, _ = r.List(ctx)
		_, _ = r.Documents(ctx, "")
	})
}
