package cli_test

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/manifest"
)

// site is a workspace with a version of an image, whose regions are sites of the simulated cloud.
func site(t *testing.T, address, more string, sites ...string) *person {
	p := me(t)
	p.starter()
	text := p.read("zygos.toml")
	for _, name := range sites {
		text += "\n[region." + name + "]\nkind = \"cloud\"\nurl = \"http://" + address + "\"\n" +
			"credentials = \"file:.zygos/standin/credentials\"\n" + more
	}
	p.write("zygos.toml", text)
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), `"raw"`, "\"raw\"\nsize = \"40MiB\"\n", 1))
	p.ok("build", "first")
	return p
}

// strike sets the faults of a cloud.
func strike(t *testing.T, address, plan string) {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPut, "http://"+address+"/faults", strings.NewReader(plan))
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	text, _ := io.ReadAll(answer.Body) // for the message
	answer.Body.Close()
	require.Equal(t, http.StatusNoContent, answer.StatusCode, string(text))
}

func TestCloudRecoversFromFaults(t *testing.T) {
	t.Parallel()
	address := freeAddress(t)
	p := site(t, address, "", "bay", "cove")
	p.fails(6, "the credentials of region bay", "publish", "first", "--region", "bay")
	p.cloud("--import", "20ms")
	info, err := os.Stat(filepath.Join(p.dir, ".zygos/standin/credentials"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	strike(t, address, `{"next":["drop","throttle","silence","error","expire","refuse","lose","corrupt"]}`)
	r := p.run("publish", "first", "--region", "bay")
	require.Zero(t, r.code, r.err)
	for _, why := range []string{"the line to " + address + " broke", "too many requests; again in 1", "the site is busy",
		"the import failed: what was delivered has the digest", "the import failed: the import was lost"} {
		require.Contains(t, r.err, why)
	}
	require.Contains(t, p.ok("verify", "--region", "bay", "--deep"), "2 sound placements")
	id := strings.TrimSpace(p.ok("locate", "first", "--region", "bay", "--format", "raw"))
	require.Regexp(t, `^im-[0-9a-f]{16}$`, id)

	// What is there is not sent again, and another site has it from the first.
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), `regions = ["here"]`, `regions = ["bay", "cove"]`, 1))
	require.NoError(t, os.Rename(filepath.Join(p.dir, ".zygos/store"), filepath.Join(p.dir, ".zygos/away"))) // nothing is sent from here
	out := p.ok("publish", "first")
	require.Regexp(t, `bay +raw +`+id+` .* already there, verified`, out)
	require.Regexp(t, `cove +raw +im-[0-9a-f]{16} .* copied and verified`, out)
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".zygos/store")))
	require.NoError(t, os.Rename(filepath.Join(p.dir, ".zygos/away"), filepath.Join(p.dir, ".zygos/store")))
	require.NoError(t, os.WriteFile(p.glob(".zygos/standin/cove/images/*/content")[0], []byte("cut"), 0o644))
	p.fails(6, "1 problem", "verify", "--region", "cove", "--deep")

	// Taken out, nothing of it is left.
	p.ok("publish", "first", "--remove")
	require.Empty(t, p.glob(".zygos/standin/*/images/*"))
	require.Empty(t, p.glob(".zygos/standin/*/papers/first/*/*"))
	p.fails(6, "is not in bay", "locate", "first", "--region", "bay")
}

// What trying again cannot mend fails at once, and is kept; the others go on, and the tag stays until all is there.
func TestQuotaFailsAtOnceAndIsRemembered(t *testing.T) {
	t.Parallel()
	address := freeAddress(t)
	p := site(t, address, "", "bay")
	cloud := p.cloud("--quota", "10MiB")
	r := p.fails(6, "the quota of 10.0 MiB is reached", "publish", "first", "--region", "bay", "--region", "here", "--tag", "stable")
	require.NotContains(t, r.err, "again in")
	require.Contains(t, r.err, "no tag was moved")
	require.Regexp(t, `region +bay +raw +failed: the quota`, p.ok("show", "first"))
	require.Regexp(t, `bay +raw +.* copy +it failed: the quota`, p.ok("publish", "first", "--region", "bay", "--dry-run"))
	require.Contains(t, p.ok("locate", "first", "--region", "bay"), "im-", "what fitted is there")
	p.fails(1, "no version or tag", "show", "first@stable")
	require.NoError(t, cloud.Process.Kill())
	_ = cloud.Wait()
	p.fails(6, "no answer from "+address, "publish", "first", "--region", "bay")
	p.cloud()
	require.Contains(t, p.ok("publish", "first", "--region", "bay", "--region", "here", "--tag", "stable"), "first@stable -> 0.1.0")
	require.NotContains(t, p.ok("show", "first@stable"), "failed")
}

// Who may use an image and its class follow the definition, without its bytes.
func TestTermsAreBroughtIntoLine(t *testing.T) {
	t.Parallel()
	address := freeAddress(t)
	p := site(t, address, "accounts = [\"control-room\"]\nname = \"${artifact}-of-${image}-${version}\"\n", "bay")
	p.cloud()
	require.Contains(t, p.ok("publish", "first", "--region", "bay"), "copied and verified")
	about := func() string { return p.read(relative(p, p.glob(".zygos/standin/bay/images/*/about.json")[0])) }
	require.Contains(t, about(), `"accounts":["control-room"]`)
	require.Regexp(t, `"name":"(raw|tar)-of-first-0.1.0"`, about())
	p.ok("verify")
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), `regions = ["here"]`,
		"regions = [\"bay\"]\n[publish.region.bay]\nclass = \"cold\"\naccounts = []\n", 1))
	r := p.fails(6, "problems", "verify")
	require.Regexp(t, `bay +first@0.1.0 +raw +settings +accounts: control-room instead of none, class: warm instead of cold`, r.out)
	require.Regexp(t, `bay +raw .* change +accounts: control-room instead of none`, p.ok("publish", "first", "--dry-run"))
	require.Contains(t, p.ok("publish", "first"), "brought into line: accounts: control-room instead of none, class: warm instead of cold")
	require.NotContains(t, about(), "control-room")
	require.Contains(t, about(), `"class":"cold"`)
	p.ok("verify")
	p.write("zygos.toml", strings.Replace(p.read("zygos.toml"), "${artifact}-of-", "an-image-of-", 1))
	p.fails(3, "tell them apart with ${variant} and ${artifact}", "publish", "first")
}

func relative(p *person, name string) string { return strings.TrimPrefix(name, p.dir+"/") }

// A publication that is killed is gone on with by another process; no part is sent twice.
func TestKilledPublicationGoesOn(t *testing.T) {
	t.Parallel()
	address := freeAddress(t)
	parts := atomic.Int64{}
	enough, gone := make(chan bool), make(chan bool)
	through := line(t, address, func(_ http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/parts/") && strings.Contains(r.URL.Path, "raw") {
			if parts.Add(1) == 3 {
				close(enough)
				<-gone
				panic(http.ErrAbortHandler)
			}
		}
		return false
	})
	p := site(t, through, "", "bay")
	p.cloud("--listen", address, "--site", "bay")
	killed := p.command("publish", "first", "--region", "bay")
	require.NoError(t, killed.Start())
	<-enough
	require.NoError(t, killed.Process.Kill())
	_ = killed.Wait()
	close(gone)
	require.Regexp(t, `region +bay +raw +copying, [0-9.]+ MiB of 40.0 MiB`, p.ok("show", "first"))
	require.Contains(t, p.ok("publish", "first", "--region", "bay", "--dry-run"), "it was begun and not ended, last on")
	p.ok("publish", "first", "--region", "bay")
	require.Equal(t, int64(6), parts.Load(), "five parts of 8 MiB, and the one that was cut off")
	p.ok("verify", "--deep")
}

// A format that a region wants and the version lacks is captured; several versions are published with one command.
func TestFormatsAreCapturedOnDemand(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("zygos.toml", p.read("zygos.toml")+"\n[region.disks]\nkind = \"folder\"\npath = \"regions/disks\"\n"+
		"formats = [\"qcow2\", \"vhd\"]\nrate = \"64MiB\"\n")
	p.ok("new", "image", "second", "--from", "first")
	p.ok("build", "first", "second")
	out := p.ok("publish", "first", "second", "--region", "disks", "--dry-run")
	require.Regexp(t, `first@0.1.0 +disks +qcow2 .* capture +the region wants the format`, out)
	require.Len(t, p.versions(), 2)
	out = p.ok("publish", "first", "second", "--region", "disks", "--tag", "stable")
	require.Regexp(t, `second@0.1.0 +disks +vhd +zy-`, out)
	require.Contains(t, out, "second@stable -> 0.1.0")
	require.Len(t, p.glob("regions/disks/*/*/*"), 6, "two disks and a manifest each")
	require.Contains(t, p.ok("show", "first@stable"), "qcow2")
}

// Documents alone are enough to find and to check what is in a region.
func TestDocumentsTellWithoutACatalog(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	p.ok("publish", "first")
	id := func(format string) string {
		return strings.TrimSpace(p.ok("locate", "first", "--region", "here", "--format", format))
	}
	require.Equal(t, "FIRST_VERSION=0.1.0\nFIRST_HERE_RAW="+id("raw")+"\nFIRST_HERE_TAR="+id("tar")+"\n",
		p.ok("locate", "first", "--all", "--env"))
	require.Equal(t, p.ok("manifest", "first", "--env"), p.ok("locate", "first", "--all", "--env"))
	p.ok("manifest", "first", "--region", "here", "--out", "m.json")
	valid(t, "manifest", p.read("m.json"))
	require.Contains(t, p.ok("manifest", "--check", "m.json"), "2 sound placements in 1 region, m.json is a manifest of first@0.1.0")
	p.fails(2, "name the version", "manifest")
	var m manifest.Manifest
	require.NoError(t, json.Unmarshal([]byte(p.read("m.json")), &m))

	files := http.FileServer(http.Dir(filepath.Join(p.dir, "regions")))
	at := "http://" + line(t, "127.0.0.1:1", func(w http.ResponseWriter, r *http.Request) bool {
		files.ServeHTTP(w, r)
		return true
	})
	away := &person{t: t, dir: t.TempDir()}
	for _, index := range []string{filepath.Join(p.dir, "regions/here/index.json"), at + "/here/index.json"} {
		require.Contains(t, away.ok("verify", "--index", index), "2 sound placements in 1 region, by size")
		require.Contains(t, away.ok("verify", "--index", index, "--deep"), "2 sound placements in 1 region, by all")
	}
	file := p.glob("regions/here/first/0.1.0/*.zst")[0]
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.WriteFile(file, content, 0o644))
	for _, index := range []string{filepath.Join(p.dir, "regions/here/index.json"), at + "/here/index.json"} {
		away.ok("verify", "--index", index)
		away.fails(6, "1 problem", "verify", "--index", index, "--deep")
	}
	require.NoError(t, os.Remove(file))
	for _, index := range []string{filepath.Join(p.dir, "regions/here/index.json"), at + "/here/index.json"} {
		require.Contains(t, away.fails(6, "1 problem", "verify", "--index", index).out, "missing")
	}
	require.Contains(t, p.fails(6, "1 problem", "manifest", "--check", "m.json").out, "missing")
	away.fails(2, "--index", "verify", "--index", "x", "--repair")
	p.write("m.json", strings.Replace(p.read("m.json"), "zygos.manifest/1", "zygos.manifest/2", 1))
	p.fails(1, "m.json is no manifest: /schema is not zygos.manifest/1", "manifest", "--check", "m.json")
	p.write("m.json", "{")
	p.fails(1, "m.json is no manifest: it is no JSON", "manifest", "--check", "m.json")
}

// A region takes no more bytes a second than it is to.
func TestRateIsKept(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("zygos.toml", strings.Replace(p.read("zygos.toml"), "kind = \"folder\"", "kind = \"folder\"\nrate = \"40MiB\"", 1))
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), `"raw"`, "\"raw\"\nsize = \"80MiB\"\n", 1))
	p.ok("build", "first")
	began := time.Now()
	p.ok("publish", "first")
	require.Greater(t, time.Since(began), 2*time.Second)
}
