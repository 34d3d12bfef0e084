package cli_test

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// between is a server in front of another one, whose answers a test may change.
func between(t *testing.T, address string, answer func(*http.Response)) string {
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(&url.URL{Scheme: "http", Host: address})
		r.Out.Host = r.In.Host // what was signed
	}, ModifyResponse: func(r *http.Response) error {
		answer(r)
		return nil
	}}
	server := httptest.NewServer(proxy)
	t.Cleanup(server.Close)
	return strings.TrimPrefix(server.URL, "http://")
}

// body replaces the content of an answer.
func body(r *http.Response, text []byte) {
	r.Body = io.NopCloser(bytes.NewReader(text))
	r.ContentLength = int64(len(text))
	r.Header.Set("Content-Length", "")
	r.Header.Del("Content-Length")
}

func TestStoreThatLies(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	var lies, tags atomic.Bool
	front := between(t, bucketServer(t, dir), func(r *http.Response) {
		object := strings.HasSuffix(r.Request.URL.Path, ".zst") && r.StatusCode < 300
		if object && tags.Load() && r.Request.Method == http.MethodHead { // as where objects are encrypted with keys
			r.Header.Set("Etag", `"00000000000000000000000000000000-1"`)
		}
		if object && lies.Load() && r.Request.Method == http.MethodGet {
			text, _ := io.ReadAll(r.Body)
			body(r, bytes.ToUpper(text))
		}
	})
	p.toBucket("http://" + front)
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "50000000", "500000", 1))
	p.ok("build", "first")
	require.Contains(t, p.ok("publish", "first"), "copied and verified")
	require.Contains(t, p.ok("manifest", "first", "--json"), `"verified_by":"digest"`)

	p.ok("build", "first", "--force")
	tags.Store(true)
	require.Contains(t, p.ok("publish", "first"), "copied and verified")
	require.Contains(t, p.ok("manifest", "first", "--json"), `"verified_by":"content"`)

	p.ok("build", "first", "--force")
	lies.Store(true)
	r := p.run("publish", "first")
	require.Equal(t, 6, r.code, r.out)
	require.Regexp(t, "instead of|gives more than", r.err)
	require.NotContains(t, p.ok("show", "first"), "verified 2")
}

// A registry that says that it has what it has not is not believed, and of what was there already more than the end was not read.
func TestRegistryThatLies(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	var lies atomic.Bool
	blobs := regexp.MustCompile(`/v2/golden/first/blobs/sha256:`)
	front := between(t, registry(t, dir, ""), func(r *http.Response) {
		if lies.Load() && r.Request.Method == http.MethodHead && r.StatusCode == http.StatusNotFound && blobs.MatchString(r.Request.URL.Path) {
			r.StatusCode, r.Status = http.StatusOK, "200 OK"
			r.Header.Set("Content-Length", "1000")
			r.ContentLength = 1000
		}
	})
	p.toRegistry("http://"+front+"/golden", "")
	p.write("zygos.toml", p.read("zygos.toml")+"\n[tag.stable]\nneeds = [\"regions:content\"]\n")
	lies.Store(true)
	require.Contains(t, p.ok("publish", "first"), "copied and verified", "it was sent all the same")
	lies.Store(false)
	require.Contains(t, p.ok("verify", "--deep"), "3 sound placements")
	p.ok("tag", "first", "stable")

	// The next version shares a layer that is larger than what is read of it.
	p.write("images/first.toml", strings.Replace(inRegistry, "echo 1 > /two", "echo 2 > /two", 1))
	p.ok("build", "first")
	require.Contains(t, p.ok("publish", "first"), "copied, size checked")
	require.Contains(t, p.ok("manifest", "first", "--json"), `"verified_by":"size"`)
	p.fails(5, "nothing but sizes was verified in golden; zygos verify first@0.1.1 --deep --repair", "tag", "first", "stable")
	p.ok("verify", "first@0.1.1", "--deep", "--repair")
	require.NotContains(t, p.ok("manifest", "first", "--json"), `"verified_by":"size"`)
	p.ok("verify")
	p.ok("tag", "first", "stable")
}

func TestServerWithoutRanges(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	front := between(t, registry(t, dir, ""), func(r *http.Response) {
		r.Header.Del("Accept-Ranges")
		if r.StatusCode == http.StatusPartialContent { // it gives all
			whole, err := http.NewRequest(http.MethodGet, "http://"+r.Request.URL.Host+r.Request.URL.Path, nil)
			require.NoError(t, err)
			answer, err := http.DefaultClient.Do(whole)
			require.NoError(t, err)
			*r = http.Response{Status: "200 OK", StatusCode: http.StatusOK, Proto: r.Proto, ProtoMajor: 1, ProtoMinor: 1, Header: answer.Header,
				Body: answer.Body, ContentLength: answer.ContentLength, Request: r.Request}
		}
		if r.StatusCode == http.StatusOK && r.Request.Method == http.MethodGet {
			r.Header.Set("Accept-Ranges", "bytes") // though it does not
		}
	})
	p.toRegistry("http://"+front+"/golden", "")
	p.ok("publish", "first")
	out := filepath.Join(dir, "out.tar.zst")
	p.ok("fetch", "first", "--region", "golden", "--format", "tar", "--out", out)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	require.NoError(t, os.Remove(out))
	require.NoError(t, os.WriteFile(out+".part", text[:len(text)/2], 0o644))
	p.ok("fetch", "first", "--region", "golden", "--format", "tar", "--out", out)
}

// A certificate that does not verify is no matter of trying again.
func TestCertificateThatDoesNotVerify(t *testing.T) {
	t.Parallel()
	p := small(t)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	server.Config.ConnState = nil
	server.StartTLS()
	defer server.Close()
	p.write("zygos.toml", p.read("zygos.toml")+"\n[region.golden]\nkind = \"registry\"\nurl = \""+server.URL+"/golden\"\n")
	r := p.run("publish", "first", "--region", "golden")
	require.Equal(t, 6, r.code)
	require.Contains(t, r.err, "is not one to trust")
	require.Contains(t, r.err, "name the authority with ca")
	require.NotContains(t, r.err, "again in")
}
