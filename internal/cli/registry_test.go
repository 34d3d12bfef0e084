package cli_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"zygos/internal/needtest"
)

// registry starts a real registry server that keeps all in a folder, and returns its address; more is added to its
// settings below http.
func registry(t *testing.T, dir, more string) string {
	server, err := exec.LookPath("docker-registry")
	if err != nil {
		needtest.Skip(t, "docker-registry is not installed; 'make test' installs it")
	}
	address := freeAddress(t)
	settings := filepath.Join(dir, "registry.yml")
	require.NoError(t, os.WriteFile(settings, fmt.Appendf(nil, "version: 0.1\nlog: {level: error}\nstorage:\n"+
		"  filesystem: {rootdirectory: %s}\n"+
		"  delete: {enabled: true}\nhttp:\n  addr: %s\n%s", filepath.Join(dir, "stored"), address, more), 0o600))
	serve(t, address, exec.Command(server, "serve", settings))
	return address
}

// inRegistry is an image that goes to a registry.
const inRegistry = "series = \"0.1\"\nbase = \"field-os\"\n[labels]\nowner = \"controls\"\n" +
	"[[stage]]\nname = \"first\"\ninline = \"echo 1 > /one\"\n" +
	"[[stage]]\nname = \"last\"\ninline = \"echo 1 > /two\"\n[[artifact]]\nformat = \"tar\"\n[[artifact]]\nformat = \"qcow2\"\n" +
	"[[artifact]]\nformat = \"oci\"\n[publish]\nregions = [\"golden\"]\n"

func (p *person) toRegistry(where, more string) {
	p.starter()
	p.write("zygos.toml", p.read("zygos.toml")+"\n[region.golden]\nkind = \"registry\"\nurl = \""+where+"\"\n"+more)
	p.write("images/first.toml", inRegistry)
	p.ok("build", "first")
}

// What lies in a registry is what was built, as other programs read it, with tags that follow; recalls and removals show there.
func TestRegistryHoldsWhatWasBuilt(t *testing.T) {
	t.Parallel()
	p := me(t)
	dir := tempDir(t)
	at := registry(t, dir, "") + "/golden"
	p.toRegistry("http://"+at, "")
	say := func(args ...string) string {
		out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		return string(out)
	}
	look := func(tag string) string {
		return say("skopeo", "inspect", "--raw", "--tls-verify=false", "docker://"+at+"/first:"+tag)
	}
	require.Equal(t, 3, strings.Count(p.ok("publish", "first"), "copied and verified"))
	require.Equal(t, 3, strings.Count(p.ok("publish", "first"), "already there, verified"))
	p.ok("tag", "first", "stable")
	require.Equal(t, look("0.1.0"), look("stable"))
	require.Contains(t, p.ok("verify", "--deep"), "3 sound placements in 1 region")

	copied := func(tag string) string {
		to := filepath.Join(dir, tag)
		say("skopeo", "copy", "--quiet", "--insecure-policy", "--preserve-digests", "--src-tls-verify=false", "docker://"+at+"/first:"+tag,
			"dir:"+to)
		return to
	}
	image := copied("0.1.0")
	location := strings.TrimSpace(p.ok("locate", "first", "--region", "golden", "--format", "oci", "--json"))
	require.Contains(t, location, strings.Fields(say("sha256sum", image+"/manifest.json"))[0], "its digest is ours")
	for _, format := range []string{"tar", "qcow2", "oci"} {
		out := filepath.Join(dir, "fetched."+format)
		require.Equal(t, out+"\n", p.ok("fetch", "first", "--region", "golden", "--format", format, "--out", out))
	}

	// Layers are shared: the next version brings only what its last stage changed.
	blobs := func() int {
		list, err := filepath.Glob(filepath.Join(dir, "stored/docker/registry/v2/blobs/sha256/*/*/data"))
		require.NoError(t, err)
		return len(list)
	}
	before := blobs()
	p.write("images/first.toml", strings.Replace(inRegistry, "echo 1 > /two", "echo 2 > /two", 1))
	p.ok("build", "first")
	p.ok("publish", "first")
	// Three manifests, the version's index and manifest and the region's index with theirs, two files, and of the image a layer and a
	// configuration.
	require.LessOrEqual(t, blobs()-before, 14)
	next := copied("0.1.1")
	shared := 0
	list, err := os.ReadDir(next)
	require.NoError(t, err)
	for _, e := range list {
		if _, err := os.Stat(filepath.Join(image, e.Name())); err == nil && len(e.Name()) == 64 {
			shared++
		}
	}
	require.GreaterOrEqual(t, shared, 2)

	p.ok("recall", "first@0.1.0", "--why", "a hole", "--yes")
	require.Contains(t, look("0.1.0"), `"vnd.zygos.state":"recalled","vnd.zygos.why":"a hole"`)
	require.Contains(t, look("stable"), "a hole")
	p.fails(5, "a hole", "fetch", "first@0.1.0", "--region", "golden", "--format", "tar", "--out", "x")
	p.ok("reinstate", "first@0.1.0")
	require.Contains(t, look("stable"), "image.index")

	// A blob that the server lost is found and mended.
	digest := digestIn(p, "first@0.1.1", "qcow2")
	lost := filepath.Join(dir, "stored/docker/registry/v2/blobs/sha256", digest[:2], digest, "data")
	require.NoError(t, os.Remove(lost))
	r := p.run("verify", "first@0.1.1")
	require.Equal(t, 6, r.code, r.out)
	require.Regexp(t, "golden +first@0.1.1 +qcow2 +missing", r.out)
	require.Contains(t, p.ok("verify", "--repair"), "repaired")
	require.FileExists(t, lost)
	index, err := filepath.Glob(filepath.Join(dir, "stored/docker/registry/v2/repositories/golden/zygos/documents/_layers/sha256/*"))
	require.NoError(t, err)
	for _, layer := range index {
		name := filepath.Base(layer)
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "stored/docker/registry/v2/blobs/sha256", name[:2], name)))
	}
	require.Contains(t, p.run("verify").out, "index.json")
	require.Contains(t, p.ok("verify", "--repair"), "it was written anew")

	p.write("zygos.toml", p.read("zygos.toml")+"[keep]\nversions = 1\n")
	p.ok("tag", "first@0.1.1", "stable")
	p.ok("prune", "--yes")
	require.Contains(t, look("0.1.0"), `"vnd.zygos.state":"removed"`)
	require.Contains(t, look("stable"), "image.index")
	require.Contains(t, p.ok("verify", "--deep"), "3 sound placements")
}

// digestIn is the digest of a version's artifact of a format.
func digestIn(p *person, ref, format string) string {
	_, rest, _ := strings.Cut(p.ok("show", ref, "--json"), `"format": "`+format+`",`)
	_, rest, _ = strings.Cut(rest, `"digest": "sha256:`)
	return rest[:64]
}

// A registry with a certificate of its own and a password takes nobody else, and the password shows nowhere.
func TestRegistryWantsToKnowWhoComes(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "golden"}, NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	certificate, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	secret, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	for name, block := range map[string]*pem.Block{"ca.pem": {Type: "CERTIFICATE", Bytes: certificate},
		"key.pem": {Type: "EC PRIVATE KEY", Bytes: secret}} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600))
	}
	hash, err := bcrypt.GenerateFromPassword([]byte("a-long-password"), bcrypt.MinCost)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "people"), []byte("keeper:"+string(hash)+"\n"), 0o600))
	at := registry(t, dir, strings.ReplaceAll("  tls: {certificate: DIR/ca.pem, key: DIR/key.pem}\n"+
		"auth: {htpasswd: {realm: golden, path: DIR/people}}\n", "DIR", dir))
	p.toRegistry("https://"+at, "credentials = \"env:GOLDEN\"\n")
	require.Contains(t, p.run("publish", "first").err, "certificate")
	p.write("zygos.toml", strings.Replace(p.read("zygos.toml"), "credentials = \"env", "ca = \""+dir+"/ca.pem\"\ncredentials = \"env", 1))
	require.Contains(t, p.run("publish", "first").err, "the credentials of region golden, env:GOLDEN, give nothing: it is not set")
	p.env = append(p.env, "GOLDEN=keeper:a-wrong-password")
	r := p.run("publish", "first")
	require.Equal(t, 6, r.code)
	require.Regexp(t, "401|unauthorized", r.err)
	p.env = append(p.env, "GOLDEN=keeper:a-long-password")
	r = p.run("publish", "first", "--json")
	require.Zero(t, r.code, r.err)
	require.NoError(t, exec.Command("sh", "-c", "! grep -r a-long-password "+p.dir).Run())
	require.NotContains(t, r.out+r.err, "a-long-password")
}

// A transfer to a registry that breaks, and a server that is busy, are tried again.
func TestRegistryThatStumbles(t *testing.T) {
	t.Parallel()
	p, dir := me(t), tempDir(t)
	var faults atomic.Int64
	at := line(t, registry(t, dir, "  relativeurls: true\n"), func(w http.ResponseWriter, r *http.Request) bool {
		switch n := faults.Load(); {
		case n > 2 && r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/uploads/"):
			faults.Add(-1)
			breakOff(r)
		case n > 0 && n <= 2 && r.Method != http.MethodGet:
			faults.Add(-1)
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
			return true
		}
		return false
	})
	p.toRegistry("http://"+at, "")
	faults.Store(4)
	require.Equal(t, 3, strings.Count(p.ok("publish", "first"), "copied and verified"))
	require.Zero(t, faults.Load(), "the faults were met")
	require.Contains(t, p.ok("verify", "--deep"), "3 sound placements")
	faults.Store(1 << 40)
	p.write("images/first.toml", strings.Replace(inRegistry, "echo 1 > /two", "echo 2 > /two", 1))
	p.ok("build", "first")
	r := p.run("publish", "first")
	require.Equal(t, 6, r.code)
	require.Contains(t, r.err, "the line to "+at+" broke")
	faults.Store(0)
	p.ok("publish", "first")
}

// Another region of the same registry has the bytes from there.
func TestRegionsOfOneRegistryShareBytes(t *testing.T) {
	t.Parallel()
	p := me(t)
	uploads := atomic.Int64{}
	at := line(t, registry(t, tempDir(t), ""), func(_ http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/first/blobs/uploads/") && !strings.Contains(r.URL.Path, "documents") && r.Method != http.MethodPost {
			uploads.Add(1)
		}
		return false
	})
	p.toRegistry("http://"+at+"/one", "")
	p.write("zygos.toml", p.read("zygos.toml")+"\n[region.other]\nkind = \"registry\"\nurl = \"http://"+at+"/two\"\n")
	p.ok("publish", "first", "--region", "golden")
	require.Positive(t, uploads.Swap(0))
	require.Contains(t, p.ok("publish", "first", "--region", "other"), "copied and verified")
	require.Zero(t, uploads.Load())
	p.ok("verify", "--deep")
}
