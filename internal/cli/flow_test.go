package cli_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestBaseFromAServer(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		archive := p.read(strings.TrimPrefix(p.glob("bases/*")[0], p.dir+"/"))
		requests := 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			requests++
			fmt.Fprint(w, archive)
		}))
		defer server.Close()
		p.write("zygos.toml", strings.Replace(p.read("zygos.toml"), `"bases/field-os-1.2.0.tar.zst"`,
			`"missing.tar", "`+server.URL+`/a.tar.zst"`, 1))
		require.Regexp(t, `field-os +1.2.0 +remote`, p.ok("bases"))
		require.Regexp(t, `field-os +1.2.0 +downloaded`, p.ok("bases", "--fetch"))
		server.Close()
		p.ok("build", "first")
		require.Equal(t, 1, requests)
		require.Regexp(t, `field-os +1.2.0 +ready`, p.ok("bases"))
	})
}

func TestOwnRootArchiveAsBase(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		root := tempDir(t)
		require.NoError(t, errorsOf(exec.Command("sh", "-c",
			"zstd -dc "+p.glob("bases/*")[0]+" | tar -x -C "+root+" && echo ours > "+root+"/etc/ours && rm -r "+root+"/var/log")))
		own := filepath.Join(p.dir, "bases/own.tar.gz")
		require.NoError(t, errorsOf(exec.Command("tar", "--create", "--gzip", "--owner=0", "--group=0", "--directory", root, "--file", own, ".")))
		content, err := os.ReadFile(own)
		require.NoError(t, err)
		sum := sha256.Sum256(content)
		p.write("zygos.toml", p.read("zygos.toml")+"\n[base.own]\nrelease = \"7\"\nfrom = [\"bases/own.tar.gz\"]\nsha256 = "+
			"\""+hex.EncodeToString(sum[:])+"\"\n")
		p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), `"field-os"`, `"own"`, 1))
		p.ok("build", "first")
		require.Contains(t, p.ok("show", "first"), "own@7")
		p.ok("publish", "first")
		out, err := exec.Command("debugfs", "-R", "cat /etc/ours", p.glob("regions/here/first/*/*.raw")[0]).Output()
		require.NoError(t, err)
		require.Equal(t, "ours\n", string(out))
	})
}

func TestSourceDateEpochBoundsAllTimes(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	p.env = []string{"SOURCE_DATE_EPOCH=1700000000"}
	p.ok("build", "first") // another epoch is a change
	versions := p.versions()
	require.Equal(t, "0.1.1", versions[0].Version)
	require.NotEqual(t, versions[0].Artifacts[1].Digest, versions[1].Artifacts[1].Digest)
	p.ok("publish", "first@0.1.1")
	out, err := exec.Command("sh", "-c", "zstd -dc "+p.glob("regions/here/first/0.1.1/*.zst")[0]+" | tar --list --verbose --full-time "+
		"--utc ./etc/motd").Output()
	require.NoError(t, err)
	require.Contains(t, string(out), "2023-11-14 22:13:20")
	require.Contains(t, p.ok("build", "first"), "up to date")
}

// A base with a time that is still to come gives the same bits whenever it is built on.
func TestTimeInTheFutureIsNoReasonToDiffer(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	root := tempDir(t)
	require.NoError(t, errorsOf(exec.Command("sh", "-euc",
		"zstd -dc "+p.glob("bases/*")[0]+" | tar -x -C "+root+"; touch -d 2099-01-02T03:04:05Z "+root+"/etc/future; tar --create --owner=0 "+
			"--group=0 --directory "+root+" --file "+p.dir+"/bases/own.tar .")))
	content, err := os.ReadFile(filepath.Join(p.dir, "bases/own.tar"))
	require.NoError(t, err)
	sum := sha256.Sum256(content)
	p.write("zygos.toml", p.read("zygos.toml")+"\n[base.own]\nrelease = \"7\"\nfrom = [\"bases/own.tar\"]\nsha256 = "+
		"\""+hex.EncodeToString(sum[:])+"\"\n")
	p.define("first", "own", "[[stage]]\nname = \"s\"\ninline = \"echo x > /now; touch -d '2001-02-03 04:05:06' /then; touch -d "+
		"'2101-02-03 04:05:06' /late; chmod 600 /etc/future; touch -c /etc/hosts\"\n[publish]\nregions = [\"here\"]\n")
	p.ok("build", "first")
	p.ok("publish", "first")
	out, err := exec.Command("sh", "-c", "zstd -dc "+p.glob("regions/here/first/*/*.zst")[0]+" | tar --list --verbose --full-time --utc "+
		"./now ./then ./late ./etc/future ./etc/hosts").Output()
	require.NoError(t, err)
	for name, at := range map[string]string{"./now": "2099-01-02 03:04:05", "./then": "2001-02-03 04:05:06", "./late": "2101-02-03 04:05:06",
		"./etc/future": "2099-01-02 03:04:05"} {
		require.Regexp(t, at+" "+name, string(out))
	}
	require.NotContains(t, string(out), time.Now().UTC().Format("2006-01-02"))
}

func TestSealKeepsWhatItIsTold(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"dirty\"\ninline = \"echo key > /etc/machine-id; mkdir -p /etc/ssh; echo k > /etc/ssh/ssh_host_rsa_key; " +
		"echo l > /var/log/x\"\n[seal]\nkeep = [\"identity\"]\n")
	r := p.run("build", "first")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.err, "identity         left as it is, as [seal] keep says")
	require.Contains(t, r.err, "ssh-host-keys    1 path, <0.1 MiB: etc/ssh/ssh_host_rsa_key")
	p.ok("publish", "first")
	tar := func(args string) string {
		out, _ := exec.Command("sh", "-c", "zstd -dc "+p.glob("regions/here/first/*/*.zst")[0]+" | tar "+args).CombinedOutput()
		return string(out)
	}
	require.Equal(t, "key\n", tar("--extract --to-stdout ./etc/machine-id"))
	require.Empty(t, tar("--extract --to-stdout ./var/log/x"))
	require.NotContains(t, tar("--list"), "ssh_host")
}

func TestDocumentsForMachines(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.ok("demo", "ebb", "--quiet")
	p.dir += "/ebb"
	p.cloud()
	for _, args := range [][]string{{"lint"}, {"bases"}, {"preview", "turbine-link"}, {"builds"}, {"list"}, {"show", "turbine-link"},
		{"tag", "turbine-link"}, {"tag", "turbine-link", "x"},
		{"regions"}, {"manifest", "turbine-link"}, {"locate", "turbine-link", "--region", "north-sound"}, {"doctor"}, {"help"}, {"version"},
		{"schema"}, {"schema", "region"}, {"due"}, {"lineage", "ebb-base"}, {"scripts"}, {"prune"}, {"diff", "tide-desk", "buoy-logger"},
		{"recall", "buoy-logger@0.9.0", "--why", "x", "--yes"}, {"reinstate", "buoy-logger@0.9.0"}} {
		r := p.run(append(args, "--json")...)
		require.Zero(t, r.code, "%v: %s", args, r.err)
		var document any
		require.NoError(t, json.Unmarshal([]byte(r.out), &document), "%v: %s", args, r.out)
		require.Empty(t, r.err, "%v", args)
	}
	for _, args := range [][]string{{"publish", "turbine-link"}, {"log", "turbine-link"}, {"build", "turbine-link"}} {
		for _, line := range strings.Split(strings.TrimSpace(p.ok(append(args, "--json")...)), "\n") {
			require.True(t, json.Valid([]byte(line)), line)
		}
	}
	var commands []struct{ Name string }
	require.NoError(t, json.Unmarshal([]byte(p.ok("help", "--json")), &commands))
	require.Greater(t, len(commands), 25)
	for _, c := range commands {
		if c.Name == "scripts" {
			continue // words that nothing matches are an answer
		}
		r := p.run(c.Name, "nope@1.0.0", "no.pe", "a", "b", "--json")
		var document struct {
			Error struct {
				Code    int
				Message string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &document), "%s: %s", c.Name, r.out)
		require.Equal(t, r.code, document.Error.Code, "%s: %s", c.Name, r.out)
		require.NotEmpty(t, document.Error.Message, c.Name)
		require.Empty(t, r.err, c.Name)
	}
	var place struct{ ID, Location, Artifact string }
	require.NoError(t, json.Unmarshal([]byte(p.ok("locate", "buoy-logger@candidate", "--region", "far-skerry", "--json")), &place))
	content, err := os.ReadFile(place.Location)
	require.NoError(t, err)
	sum := sha256.Sum256(content)
	require.Equal(t, place.Artifact, "sha256:"+hex.EncodeToString(sum[:]))
}
