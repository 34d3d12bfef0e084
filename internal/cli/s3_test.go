package cli_test

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
)

const s3Key, s3Secret = "KEEPER", "a-long-secret-of-the-keeper"

// bucketServer starts a real S3 server on a folder with one bucket, and returns its address.
func bucketServer(t *testing.T, dir string) string {
	server, err := filepath.Abs("../../.cache/versitygw")
	require.NoError(t, err)
	if _, err := os.Stat(server); err != nil {
		needtest.Skip(t, "there is no S3 server; 'make test' builds one")
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "store/golden"), 0o755))
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := free.Addr().String()
	require.NoError(t, free.Close())
	cmd := exec.Command(server, "--access", s3Key, "--secret", s3Secret, "--port", address, "--quiet",
		"posix", "--sidecar", filepath.Join(dir, "meta"), filepath.Join(dir, "store"))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "meta"), 0o755))
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	return address
}

func (p *person) toBucket(where string) {
	p.starter()
	p.write("zygos.toml", p.read("zygos.toml")+"\n[region.golden]\nkind = \"s3\"\nurl = \""+where+"\"\nbucket = \"golden\"\n"+
		"prefix = \"images\"\ncredentials = \"env:GOLDEN\"\n")
	p.env = append(p.env, "GOLDEN="+s3Key+":"+s3Secret)
	p.write("images/first.toml", "series = \"0.1\"\nbase = \"field-os\"\n"+
		"[[stage]]\nname = \"big\"\ninline = \"head -c 50000000 /dev/urandom > /big\"\n"+
		"[[artifact]]\nformat = \"tar\"\n[publish]\nregions = [\"golden\"]\n")
	p.ok("build", "first")
}

// What lies in a bucket is what was built, as another program reads it; what is lost is found and mended, and goes with its version.
func TestBucketHoldsWhatWasBuilt(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	at := bucketServer(t, dir)
	p.toBucket("http://" + at)
	require.Contains(t, p.ok("publish", "first"), "copied and verified")
	require.Contains(t, p.ok("publish", "first"), "already there, verified")
	require.Contains(t, p.ok("verify", "--deep"), "1 sound placement in 1 region, by all their bytes")
	other := func(args ...string) string {
		out, err := exec.Command("s3cmd", append([]string{"--access_key=" + s3Key, "--secret_key=" + s3Secret, "--no-ssl", "--host=" + at,
			"--host-bucket=" + at, "--quiet"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	const object = "s3://golden/images/first/0.1.0/first-0.1.0.tar.zst"
	require.Contains(t, p.ok("locate", "first", "--region", "golden", "--json"), object)
	other("get", object, filepath.Join(dir, "got"))
	sum, err := exec.Command("sha256sum", filepath.Join(dir, "got")).Output()
	require.NoError(t, err)
	require.Equal(t, digestIn(p, "first", "tar"), strings.Fields(string(sum))[0])
	out := filepath.Join(dir, "fetched")
	require.NoError(t, exec.Command("cp", filepath.Join(dir, "got"), out+".part").Run())
	require.NoError(t, os.Truncate(out+".part", 30_000_000))
	p.ok("fetch", "first", "--region", "golden", "--out", out)

	other("del", object)
	other("put", "/etc/hostname", "s3://golden/images/first/0.1.0/stray")
	r := p.run("verify")
	require.Equal(t, 6, r.code, r.err)
	require.Regexp(t, `golden +first@0.1.0 +tar +missing +there is no `+object, r.out)
	require.Regexp(t, `golden +- +\S+stray +foreign`, r.out)
	require.Contains(t, p.ok("verify", "--repair"), "repaired")
	other("del", "s3://golden/images/first/0.1.0/stray")
	p.ok("publish", "first", "--remove")
	require.NotContains(t, other("ls", "--recursive", "s3://golden"), "first-0.1.0")
	p.env = append(p.env, "GOLDEN=KEEPER:not-the-secret-of-the-keeper")
	p.fails(6, "", "publish", "first")
	p.env = append(p.env, "GOLDEN=nothing")
	p.fails(6, "they are no key and secret with a colon between them", "publish", "first")
}

// An upload that broke, or whose program was killed, is gone on with: parts that are there are not sent again.
func TestUploadToABucketGoesOn(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	to, err := url.Parse("http://" + bucketServer(t, dir))
	require.NoError(t, err)
	var sent, most atomic.Int64
	most.Store(2)
	pass := httputil.NewSingleHostReverseProxy(to)
	pass.ErrorHandler = func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) }
	line := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut && r.URL.Query().Has("partNumber") {
			if sent.Load() >= most.Load() {
				_, _ = io.CopyN(io.Discard, r.Body, 1_000_000)
				panic(http.ErrAbortHandler)
			}
			sent.Add(1)
		}
		pass.ServeHTTP(w, r)
	}))
	defer line.Close()
	p.toBucket(line.URL)
	r := p.run("publish", "first")
	require.Equal(t, 6, r.code, r.err)
	require.Contains(t, r.err, "no answer from")
	require.EqualValues(t, 2, sent.Load())
	most.Store(1 << 30)
	require.Contains(t, p.ok("publish", "first"), "copied and verified")
	require.EqualValues(t, 4, sent.Load(), "of four parts, two were there")
	require.Contains(t, p.ok("verify", "--deep"), "1 sound placement")
}
