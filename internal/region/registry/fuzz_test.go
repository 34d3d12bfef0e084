package registry_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	godigest "github.com/opencontainers/go-digest"
	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/region"
	"zygos/internal/region/registry"
)

// at is a region at the address of a server, without credentials.
func at(t testing.TB, url string) region.Region {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zygos.toml"),
		[]byte("[workspace]\nname = \"x\"\n[region.bay]\nkind = \"registry\"\nurl = \""+
			url+"/golden\"\n"), 0o644))
	var problems definition.Problems
	kinds := definition.Kinds{Regions: definition.RegionKinds{Names: []string{"registry"},
		Read: func(_, name string, v definition.Values) any { return registry.Kind.Read(name, v) },
		Can:  func(string) []string { return registry.Kind.Can }}}
	org := definition.ReadOrganisation(dir, kinds, &problems)
	require.NoError(t, problems.Err())
	return registry.Kind.Open(&org.Regions[0], func(p string) string { return filepath.Join(dir, p) })
}

// Whatever a registry answers, looking ends.
func FuzzAnswers(f *testing.F) {
	var answer []byte
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "/manifests/") {
			w.Header().Set("Content-Type", "application/vnd.oci.image.manifest.v1+json")
			w.Header().Set("Docker-Content-Digest", godigest.FromBytes(answer).String())
		}
		_, _ = w.Write(answer)
	}))
	f.Cleanup(server.Close)
	r := at(f, server.URL)
	host := strings.TrimPrefix(server.URL, "http://")
	f.Add([]byte(`{"repositories":["golden/a","golden/zygos/documents/a"],"tags":["1.0.0"]}`))
	f.Add([]byte(`{"schemaVersion":2,"artifactType":"application/vnd.zygos.document.v1+json","layers":[{"digest":"sha256:` +
		strings.Repeat("0", 64) + `","size":1}]}`))
	f.Add([]byte(`{"manifests":[{"digest":"sha256:x"}],"layers":[],"config":{}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		answer = text
		_, _ = r.List(t.Context())
		_, _ = r.Documents(t.Context(), "")
		_, _, _ = r.Read(t.Context(), "index.json")
		_, _, _ = r.Stat(t.Context(), host+"/golden/a@"+godigest.FromBytes(text).String())
	})
}
