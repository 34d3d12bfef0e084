package cli_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"zygos/internal/needtest"
)

// shown is a version as list --json writes it.
type shown struct {
	Image, Version string
	Trees          []struct{ Layers []string }
	Artifacts      []struct {
		Digest string
		Bytes  int64
	}
}

func (p *person) versions() (list []shown) {
	require.NoError(p.t, json.Unmarshal([]byte(p.ok("list", "--json")), &list))
	return list
}

// whole says that everything a version needs is in the state.
func (p *person) whole() {
	for _, v := range p.versions() {
		for _, a := range v.Artifacts {
			out, err := exec.Command("sha256sum", p.dir+"/.zygos/store/blobs/sha256/"+strings.TrimPrefix(a.Digest, "sha256:")).Output()
			require.NoError(p.t, err)
			require.Equal(p.t, strings.TrimPrefix(a.Digest, "sha256:"), strings.Fields(string(out))[0])
		}
		for _, tree := range v.Trees {
			for _, layer := range tree.Layers {
				require.FileExists(p.t, p.dir+"/.zygos/layers/"+layer+"/index.jsonl")
			}
		}
	}
}

// consistent says that the catalog is whole and speaks of what is there.
func (p *person) consistent() {
	driver, where := "sqlite", "file:"+p.dir+"/.zygos/catalog.db?mode=ro"
	if p.database != "" {
		driver, where = "pgx", p.database
	}
	db, err := sql.Open(driver, where)
	require.NoError(p.t, err)
	defer db.Close()
	count := func(query string) (n int) {
		require.NoError(p.t, db.QueryRow("SELECT count(*) FROM ("+query+") AS rows").Scan(&n), query)
		return n
	}
	if p.database == "" {
		var state string
		require.NoError(p.t, db.QueryRow("PRAGMA integrity_check").Scan(&state))
		require.Equal(p.t, "ok", state)
		require.Zero(p.t, count("SELECT * FROM pragma_foreign_key_check"))
	}
	require.Zero(p.t, count("SELECT id FROM builds WHERE state = 'running'"), "after sweep no build is called running")
	require.Zero(p.t, count("SELECT build FROM versions EXCEPT SELECT id FROM builds WHERE state = 'registered'"))
	if !strings.Contains(p.read("zygos.toml"), "[keep]") { // builds of pruned versions stay in the history
		require.Zero(p.t, count("SELECT id FROM builds WHERE state = 'registered' EXCEPT SELECT build FROM versions"))
	}
	require.Zero(p.t, count("SELECT image, version, bytes FROM versions EXCEPT "+
		"SELECT image, version, sum(bytes) FROM artifacts GROUP BY 1, 2"))
	require.Zero(p.t, count("SELECT image, version, variant, format FROM placements EXCEPT SELECT image, version, variant, format FROM "+
		"artifacts"))
}

// clean says that nothing is left of what died.
func (p *person) clean() {
	for _, pattern := range []string{"run/*", "store/blob-*", "store/.new-*", "layers/keys/new-*", "layers/*.gone", ".new-*",
		"builds/*/.new-*"} {
		require.Empty(p.t, p.glob(".zygos/"+pattern))
	}
	require.Empty(p.t, p.glob("regions/here/*/*/.part-*"))
	mounts, err := os.ReadFile("/proc/self/mounts")
	require.NoError(p.t, err)
	require.NotContains(p.t, string(mounts), p.dir)
	cwds, err := filepath.Glob("/proc/[0-9]*/cwd")
	require.NoError(p.t, err)
	for _, cwd := range cwds {
		if at, err := os.Readlink(cwd); err == nil { // processes end while we look
			require.NotContains(p.t, at, p.dir)
		}
	}
}

// die starts a command and kills all its processes within so many milliseconds.
func (p *person) die(within int, args ...string) {
	cmd := p.command(args...)
	cmd.SysProcAttr.Setpgid = true
	require.NoError(p.t, cmd.Start())
	time.Sleep(time.Duration(rand.IntN(within*1000)) * time.Microsecond)
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // it may have ended
	_ = cmd.Wait()
}

// Builds and publications are killed at random moments; what is registered is whole, sweep
// leaves nothing of the dead, and the next build goes through.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	rounds := 12
	if !needtest.IsLong() {
		rounds = 1
	}
	if text := os.Getenv("ZYGOS_CRASHES"); text != "" {
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		rounds = n / 4 // two builds or publications a round, as two users
	}
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.env = []string{"KEY=the key of the crash test"}
		for i := range rounds {
			p.define("first", "field-os", fmt.Sprintf(`
[input.key]
secret = true
from = "env:KEY"
[variant.edge]
[variant.bench]
[[stage]]
name = "a"
inline = "head -c 300000 /dev/urandom > /a; echo %d > /b"
[[stage]]
name = "c"
inline = "cp /a /c-$ZYGOS_VARIANT; sleep 0.03; [ -n \"$KEY\" ]"
secrets = ["key"]
[[artifact]]
format = "raw"
only = ["edge"]
[publish]
regions = ["here"]`, i))
			p.define("second", "field-os", fmt.Sprintf("[[stage]]\nname = \"a\"\ninline = \"head -c 300000 /dev/urandom > /a; echo %d > /b\"\n", i))
			p.die(400, "build", "first", "second")
			if i%5 == 4 {
				waitFor(t, "the dead to be gone", func() bool { return p.run("build", "first", "--force").code == 0 })
			}
			if len(p.versions()) > 0 && p.run("show", "first").code == 0 {
				p.die(60, "publish", "first")
			}
			waitFor(t, "the dead to be gone", func() bool { return !strings.Contains(p.ok("builds"), "running") })
			p.ok("sweep")
			p.clean()
			p.consistent()
		}
		p.ok("build", "first", "second", "--force")
		p.ok("publish", "first")
		p.whole()
		p.clean()
		p.consistent()
		for _, placed := range p.glob("regions/here/first/*/*.tar.zst") {
			require.NoError(t, errorsOf(exec.Command("zstd", "-qt", placed)))
		}
	})
}

// Prune is killed at random moments; repeated, it ends what it began, and no version loses anything.
func TestPruneKilledAtAnyMoment(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	test := func(t *testing.T, p *person) {
		p.family()
		p.write("zygos.toml", p.read("zygos.toml")+"\n[keep]\nversions = 2\n")
		for i := range 6 {
			for range 3 {
				p.ok("build", "newest", "--force")
				p.ok("publish", "newest")
			}
			before := len(p.versions())
			p.die(10+15*i, "prune", "--yes")
			if p.database == "" {
				waitFor(t, "the dead to be gone", func() bool { return p.run("prune", "--yes").code == 0 })
			} else {
				p.ok("prune", "--yes")
			}
			p.ok("sweep")
			require.Len(t, p.versions(), 4, "of %d", before) // parent, tagged, and two of newest
			p.whole()
			p.clean()
			p.consistent()
			require.Len(t, p.glob("regions/here/newest/*"), 2)
			require.Equal(t, 2, strings.Count(p.read("regions/here/index.json"), `"id":"zy-`))
		}
	}
	everyone(t, test)
	onPostgres(t, test)
}

// Sixteen processes build, tag and publish one image at once: no version is lost, no number given
// twice, no error.
func TestSixteenAtOnce(t *testing.T) {
	t.Parallel()
	many := 16
	if !needtest.IsLong() {
		many = 4
	}
	everyCatalog(t, func(t *testing.T, p *person) {
		p.starter()
		p.define("first", "field-os", "[[stage]]\nname = \"s\"\ninline = \"sleep 0.2; echo $ZYGOS_VERSION > /v\"\n[publish]\nregions = "+
			"[\"here\"]\n")
		p.ok("build", "first")
		var group sync.WaitGroup
		failed := make(chan string, 64)
		for i := range many {
			group.Go(func() {
				for _, args := range [][]string{{"build", "first", "--force", "--quiet"}, {"tag", "first", fmt.Sprint("t", i), "live"},
					{"publish", "first", "--quiet"}} {
					if r := p.run(args...); r.code != 0 {
						failed <- strings.Join(args, " ") + ": " + r.err
					}
				}
			})
		}
		group.Wait()
		close(failed)
		for f := range failed {
			t.Error(f)
		}
		numbers := map[string]bool{}
		for _, v := range p.versions() {
			numbers[v.Version] = true
			require.Equal(t, v.Version+"\n", p.ask("cat /v", "first@"+v.Version))
		}
		require.Len(t, numbers, many+1)
		require.True(t, numbers["0.1.0"] && numbers[fmt.Sprint("0.1.", many)], "the numbers have no gaps")
		p.consistent()
		p.whole()
	})
}

// Several people's commands at once, on one state: nothing is lost, nothing fails.
func TestManyCommandsAtOnce(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	p := me(t)
	p.ok("demo", "ebb", "--quiet")
	p.dir += "/ebb"
	p.cloud("--import", "10ms")
	images := []string{"turbine-link", "tide-desk", "buoy-logger"}
	var group sync.WaitGroup
	failed := make(chan string, 100)
	try := func(args ...string) {
		if r := p.run(args...); r.code != 0 {
			failed <- strings.Join(args, " ") + ": " + r.err
		}
	}
	for _, image := range images {
		group.Go(func() {
			for range 3 {
				try("build", image, "--force", "--quiet")
				try("tag", image, "candidate")
				try("publish", image, "--quiet")
			}
		})
		group.Go(func() {
			for range 6 {
				try("list")
				try("show", image)
				try("preview", image)
			}
		})
	}
	group.Wait()
	close(failed)
	for f := range failed {
		t.Error(f)
	}
	require.Len(t, p.versions(), 4+9)
	for _, place := range []string{"regions/north-sound", ".zygos/standin/kelp-bay/papers", "regions/far-skerry"} {
		valid(t, "region", p.read(place+"/index.json"))
	}
	require.Contains(t, p.read(".zygos/standin/kelp-bay/papers/index.json"), `"tags":["candidate"]`)
	p.ok("verify", "--deep")
}
