package cli_test

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
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
	for _, name := range []string{"store/golden", "meta"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
	}
	address := freeAddress(t)
	cmd := exec.Command(server, "--access", s3Key, "--secret", s3Secret, "--port", address, "--quiet",
		"posix", "--sidecar", filepath.Join(dir, "meta"), filepath.Join(dir, "store"))
	serve(t, address, cmd)
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
	p.fails(6, "are no key and secret with a colon between them", "publish", "first")
}

// An upload that something else began under the name is ended, and the file sent from the beginning.
func TestUploadThatOthersBegan(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	at := bucketServer(t, dir)
	p.toBucket("http://" + at)
	core, err := minio.NewCore(at, &minio.Options{Creds: credentials.NewStaticV4(s3Key, s3Secret, "")})
	require.NoError(t, err)
	const key = "images/first/0.1.0/first-0.1.0.tar.zst"
	id, err := core.NewMultipartUpload(t.Context(), "golden", key,
		minio.PutObjectOptions{UserMetadata: map[string]string{"Zygos-Digest": "other"}})
	require.NoError(t, err)
	_, err = core.PutObjectPart(t.Context(), "golden", key, id, 1, strings.NewReader("other bytes"), 11, minio.PutObjectPartOptions{})
	require.NoError(t, err)
	require.Contains(t, p.ok("publish", "first"), "copied and verified")
	require.Contains(t, p.ok("verify", "--deep"), "1 sound placement")
}

// An upload that broke, or whose program was killed, is gone on with: parts that are there are not sent again.
func TestUploadToABucketGoesOn(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	var sent, most atomic.Int64
	most.Store(2)
	at := line(t, bucketServer(t, dir), func(_ http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPut && r.URL.Query().Has("partNumber") {
			if sent.Load() >= most.Load() {
				breakOff(r)
			}
			sent.Add(1)
		}
		return false
	})
	p.toBucket("http://" + at)
	r := p.run("publish", "first")
	require.Equal(t, 6, r.code, r.err)
	require.Contains(t, r.err, "the line to "+at+" broke")
	require.EqualValues(t, 2, sent.Load())
	most.Store(1 << 30)
	require.Contains(t, p.ok("publish", "first"), "copied and verified")
	require.EqualValues(t, 4, sent.Load(), "of four parts, two were there")
	require.Contains(t, p.ok("verify", "--deep"), "1 sound placement")
}
