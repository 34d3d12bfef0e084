package cloud_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/region"
	"zygos/internal/region/cloud"
)

// opened is a region at a server, without credentials.
func opened(t *testing.T, answer http.HandlerFunc) region.Region {
	server := httptest.NewServer(answer)
	t.Cleanup(server.Close)
	return at(t, server.URL)
}

// at is a region at the address of a server.
func at(t testing.TB, url string) region.Region {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zygos.toml"), []byte(
		"[workspace]\nname = \"x\"\n[region.bay]\nkind = \"cloud\"\nurl = \""+
			url+"\"\n"), 0o644))
	var problems definition.Problems
	kinds := definition.Kinds{Regions: definition.RegionKinds{Names: []string{"cloud"},
		Read: func(_, name string, v definition.Values) any { return cloud.Kind.Read(name, v) },
		Can:  func(string) []string { return cloud.Kind.Can }}}
	org := definition.ReadOrganisation(dir, kinds, &problems)
	require.NoError(t, problems.Err())
	return cloud.Kind.Open(&org.Regions[0], func(p string) string { return filepath.Join(dir, p) })
}

func item(t testing.TB) region.Item {
	file := filepath.Join(t.TempDir(), "source")
	require.NoError(t, os.WriteFile(file, []byte("abc"), 0o644))
	return region.Item{Image: "a", Version: "1.0.0", Key: artifact.Key{Format: "raw"}, Called: "a-1.0.0-raw", Bytes: 3,
		Digest: digest.Of(nil), Open: func(context.Context) (region.Content, error) { return region.OpenFile(file) }}
}

// A site that lies is believed nothing that would lead astray.
func TestLyingSiteLeadsNowhere(t *testing.T) {
	for name, c := range map[string]struct{ delivery, image, says string }{
		"an id with a line":    {`{"state":"ready","image":"im-1\nKEY=x"}`, "", "an id that is none"},
		"an id that is a path": {`{"state":"ready","image":"../../x"}`, "", "an id that is none"},
		"no id":                {`{"state":"ready"}`, "", "an id that is none"},
		"parts of nothing":     {`{"state":"open","part":0,"bytes":3}`, "", "which cannot be"},
		"parts of too much":    {`{"state":"open","part":1099511627776,"bytes":3}`, "", "which cannot be"},
		"other bytes": {`{"state":"ready","image":"im-1"}`, `{"id":"im-1","bytes":4,"digest":"sha256:` + strings.Repeat("1", 64) + `"}`,
			"something else than was sent"},
		"no document": {`[1,2`, "", "cannot be read"},
	} {
		r := opened(t, func(w http.ResponseWriter, r *http.Request) {
			text := c.delivery
			if strings.Contains(r.URL.Path, "/images/") {
				text = c.image
			}
			_, _ = w.Write([]byte(text)) // the client tells
		})
		_, err := r.Place(t.Context(), item(t), func(string, int64) {})
		require.ErrorContains(t, err, c.says, name)
	}
}

// Errors are told apart: what may pass, with the time that the site asks for, and what does not.
func TestWhatMayPassIsTried(t *testing.T) {
	for status, again := range map[int]bool{429: true, 503: true, 500: true, 507: false, 403: false, 409: false} {
		r := opened(t, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "7")
			w.WriteHeader(status)
			_, _ = w.Write([]byte(`{"code":"no","error":"because"}`))
		})
		_, err := r.Place(t.Context(), item(t), func(string, int64) {})
		require.ErrorContains(t, err, "because")
		var soon *region.AgainError
		require.Equal(t, again, errors.As(err, &soon), status)
		if again {
			require.Equal(t, 7*time.Second, soon.After)
		}
	}
}
