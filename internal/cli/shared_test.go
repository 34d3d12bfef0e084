package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"

	"zygos/internal/catalog/catalogtest"
	"zygos/internal/needtest"
)

// onPostgres runs a test with the catalog in a PostgreSQL database.
func onPostgres(t *testing.T, test func(*testing.T, *person)) {
	t.Run("postgres", func(t *testing.T) {
		p := me(t)
		p.database = catalogtest.Database(t)
		test(t, p)
	})
}

// everyCatalog runs a test with the catalog in the state and in a database.
func everyCatalog(t *testing.T, test func(*testing.T, *person)) {
	t.Run("file", func(t *testing.T) { test(t, me(t)) })
	onPostgres(t, test)
}

// share puts the workspace's catalog into the database.
func (p *person) share() {
	user, rest, _ := strings.Cut(strings.TrimPrefix(p.database, "postgres://"), ":")
	password, rest, _ := strings.Cut(rest, "@")
	p.env = append(p.env, "CATALOG_PASSWORD="+password)
	p.write("zygos.toml", p.read("zygos.toml")+"\n[catalog]\nurl = \"postgres://"+user+"@"+rest+"\"\ncredentials = \"env:CATALOG_PASSWORD\"\n")
}

// Two machines with states of their own share a catalog: each knows what the other made and is
// making, and says where it is.
func TestTwoMachinesShareACatalog(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	onPostgres(t, func(t *testing.T, a *person) {
		a.family()
		b := *a
		b.dir = tempDir(t)
		require.NoError(t, os.CopyFS(b.dir, os.DirFS(a.dir)))
		require.NoError(t, os.RemoveAll(filepath.Join(b.dir, ".zygos")))
		require.Equal(t, a.ok("list", "--json"), b.ok("list", "--json"))
		require.Equal(t, a.ok("show", "newest", "--json"), b.ok("show", "newest", "--json"))

		a.define("slow", "field-os", "[[stage]]\nname = \"s\"\ninline = \"until [ -e /run/go ]; do sleep 0.1; done\"\n")
		b.write("images/slow.toml", strings.Replace(a.read("images/slow.toml"), "until [ -e /run/go ]; do sleep 0.1; done", "true", 1))
		cmd := a.command("build", "slow")
		require.NoError(t, cmd.Start())
		waitFor(t, "the build to run", func() bool { return strings.Contains(a.ok("builds", "slow"), "running") })
		require.Contains(t, b.ok("builds", "slow"), "running", "it is alive, though elsewhere")
		b.ok("sweep")
		require.Contains(t, b.ok("builds", "slow"), "running")
		b.fails(1, "is not from this state but from one on", "cancel", "slow")
		b.fails(1, "is not from this state but from one on", "log", "slow")
		require.Contains(t, b.ok("build", "slow"), "Registered slow@0.1.1", "the other holds 0.1.0")
		require.Contains(t, a.ok("builds", "slow"), "running")
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		require.Contains(t, b.ok("builds", "slow"), "cancelled")

		b.ok("tag", "slow", "live")
		require.Contains(t, a.ok("list", "--tag", "live"), "slow")
		b.fails(1, "the layers of parent@0.1.0 are not in this state, and its archive cannot be had from a region; publish it where it was "+
			"built", "build", "newest", "--force")
		require.Contains(t, b.ok("due", "newest"), "Nothing is due", "it is up to date, wherever it was built")
		a.ok("publish", "parent", "--region", "here")
		require.Contains(t, b.ok("build", "newest", "--force"), "Registered newest@0.1.1")
		require.Contains(t, b.run("build", "newest", "--force").err, "reused", "what was brought stays")
		// A copy of a state would pass for the first: it must say which of both it is.
		c := b
		c.dir = tempDir(t)
		require.NoError(t, errorsOf(exec.Command("cp", "-a", b.dir+"/.", c.dir)))
		c.fails(1, "If it was moved and nobody uses it there any more: rm "+c.dir+"/.zygos/state-place", "list")
		require.NoError(t, os.Remove(c.dir+"/.zygos/state-place"))
		require.NoError(t, os.Remove(c.dir+"/.zygos/state-id"))
		c.fails(1, "is not from this state", "log", "newest")
		c.ok("build", "newest")
		artifacts := map[string]string{}
		for _, v := range a.versions() {
			artifacts[v.Image+"@"+v.Version] = v.Artifacts[0].Digest
		}
		require.Equal(t, artifacts["newest@0.1.0"], artifacts["newest@0.1.1"], "the same bits on both")
		require.Contains(t, a.ok("sweep"), "Nothing to remove")
		a.ok("publish", "newest@0.1.0")
		b.write("zygos.toml", b.read("zygos.toml")+"\n[region.there]\nkind = \"folder\"\npath = \"regions/there\"\n")
		b.ok("publish", "newest@0.1.0", "--region", "there")
		require.Contains(t, a.ok("list", "newest"), "here, there", "a new region takes it from another, where it was not built")

		a.define("key", "field-os", "[input.k]\nsecret = true\nfrom = \"env:K\"\n[[stage]]\nname = \"s\"\ninline = \"[ -n \\\"$K\\\" "+
			"]\"\nsecrets = [\"k\"]\n")
		b.write("images/key.toml", a.read("images/key.toml"))
		a.env, b.env = append(a.env, "K=a long secret"), append(b.env, "K=a long secret")
		a.ok("build", "key")
		require.Contains(t, b.ok("build", "key"), "is up to date", "secrets are marked with one key")
		require.NotContains(t, b.ok("export"), "secret-key")

		for _, p := range []*person{a, &b} {
			p.define("lone", "field-os", "[keep]\nversions = 1\n[[stage]]\nname = \"s\"\ninline = \"echo $ZYGOS_VERSION > /v\"\n")
		}
		a.ok("build", "lone")
		b.ok("build", "lone", "--force")
		blobs := len(a.glob(".zygos/store/blobs/sha256/*"))
		require.Contains(t, b.ok("prune", "lone", "--yes"), "Removed 1 version")
		require.Contains(t, a.ok("sweep"), "artifact that no version has")
		require.Len(t, a.glob(".zygos/store/blobs/sha256/*"), blobs-2, "the archive, and what listed it")
	})
}

// A state goes with one catalog; the way to another is an import.
func TestCatalogMovesToADatabase(t *testing.T) {
	t.Parallel()
	onPostgres(t, func(t *testing.T, p *person) {
		database := p.database
		p.database = ""
		p.family()
		before := p.ok("list", "--json")
		alone := p.read("zygos.toml")
		p.database = database
		p.share()
		p.fails(1, "belongs to the catalog "+p.dir+"/.zygos/catalog.db, and zygos.toml leads to postgres://zygos@", "list")
		p.fails(1, "To move the catalog there: zygos import", "sweep")
		require.Regexp(t, `Read \d+ rows into the catalog postgres://zygos@127.0.0.1:\d+/test_\w+\n`, p.ok("import", ".zygos/catalog.db"))
		require.Equal(t, before, p.ok("list", "--json"))
		p.ok("build", "newest", "--force")
		require.Contains(t, p.ok("sweep"), "Nothing to remove")
		p.write("catalog.jsonl", p.ok("export"))
		p.fails(1, "the catalog is not empty", "import", "catalog.jsonl")

		shared := p.read("zygos.toml")
		p.write("zygos.toml", strings.Replace(shared, "[base.", "[bsae.", 1)+"x = [")
		p.fails(3, "in the definitions; nothing was done", "list")
		p.write("zygos.toml", alone)
		p.fails(1, "belongs to the catalog postgres://zygos@", "list")
		p.fails(1, "name it in [catalog] again, 'zygos export > FILE', take it out, 'zygos import FILE'", "list")
		p.fails(1, "the catalog is not empty", "import", "catalog.jsonl")
		for _, name := range p.glob(".zygos/catalog.db*") {
			require.NoError(t, os.Remove(name))
		}
		p.write("other.jsonl", strings.Replace(p.read("catalog.jsonl"), `"name":"id","value":"`, `"name":"id","value":"X`, 1))
		p.fails(1, "it is another catalog than the one that this state belongs to", "import", "other.jsonl")
		p.ok("import", "catalog.jsonl")
		require.Contains(t, p.ok("list", "newest"), "0.1.1", "and back")
		p.whole()

		p.write("zygos.toml", regexp.MustCompile(`1:\d+/`).ReplaceAllString(shared, "1:1/"))
		p.fails(1, "the database cannot be reached: ", "list")
		p.write("zygos.toml", strings.Replace(shared, "127.0.0.1:", "127.0.0.1:1", 1))
		p.fails(1, "invalid port; write postgres://USER@HOST/DATABASE", "list")
		p.write("zygos.toml", strings.Replace(shared, "env:CATALOG", "env:NO", 1))
		p.fails(1, "the credentials of [catalog], env:NO_PASSWORD, give no password: it is not set", "list")
		p.env = append(p.env, "CATALOG_PASSWORD=wrong")
		p.write("zygos.toml", shared)
		p.fails(1, `the database refuses: password authentication failed for user "zygos"`, "list")
	})
}
