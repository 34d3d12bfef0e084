package cli_test

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/needtest"
)

// States as programs of each schema left them, with what they exported (testdata/schemas): looking changes nothing in them, the first
// change brings them up to date, and all that they hold goes on.
func TestStatesOfEverySchema(t *testing.T) {
	t.Parallel()
	for schema := 1; schema < catalog.Newest; schema++ {
		if !needtest.IsLong() && schema%3 != 2 && schema != catalog.Newest-1 {
			continue // a short round: 2, 5, 8, and the last ones
		}
		t.Run(fmt.Sprint(schema), func(t *testing.T) {
			p := old(t, schema)
			children := schema >= 3 // there were recalls
			list := p.ok("list", "--json")
			require.Equal(t, 3, strings.Count(list, `"fingerprint"`))
			for _, args := range [][]string{{"show", "first@0.2.0"}, {"lineage", "first"}, {"tag", "first"}, {"builds"}, {"regions"},
				{"manifest", "first", "--json"}, {"prune"}, {"export"}, {"locate", "first@stable", "--region", "here", "--format", "tar"}, {"due",
					"first"},
				{"preview", "first"}, {"diff", "first@0.1.0", "first@0.1.0"}} {
				if r := p.run(args...); args[0] != "diff" && args[0] != "due" {
					require.Zero(t, r.code, "%v: %s%s", args, r.out, r.err)
				}
			}
			require.Contains(t, p.ok("lineage", "first@0.2.0"), "child@1.0.0")
			require.Equal(t, children, strings.Contains(p.ok("list", "child"), "recalled"))
			if schema >= 5 { // before, a catalog had no identity, and gets one
				require.Equal(t, schema, schemaOf(p), "looking changes nothing")
			}
			require.Contains(t, p.ok("verify"), "sound placements in 1 region", "documents of older programs are no damage")

			r := p.run("build", "first", "--force")
			require.Contains(t, r.out, "Registered first@0.2.1", r.err)
			if schema >= 5 {
				require.Contains(t, r.err, fmt.Sprintf("was brought from schema %d to %d", schema, catalog.Newest))
			}
			require.NotContains(t, p.run("build", "first").err, "was brought")
			p.ok("publish", "first")
			p.ok("tag", "first", "stable")
			require.FileExists(t, filepath.Join(p.dir, "regions/here/zygos-owner.json"))
			if children {
				p.ok("reinstate", "child")
			}
			p.ok("recall", "first@0.2.0", "--descendants", "--why", "a hole", "--yes")
			require.Contains(t, p.ok("list", "child"), "recalled", "what was built on it is known")

			q := old(t, schema)
			q.ok("import", ".zygos/catalog.db", "--state", "second")
			require.Equal(t, 3, strings.Count(q.ok("list", "--json", "--state", "second"), `"fingerprint"`))
			if _, err := os.Stat(filepath.Join(q.dir, "export.jsonl")); err == nil {
				q.ok("import", "export.jsonl", "--state", "third")
				require.Equal(t, list, q.ok("list", "--json", "--state", "third"))
			} else {
				require.Less(t, schema, 4, "every program since then exports")
			}
		})
	}
}

// schemaOf is the schema of the tables in a state.
func schemaOf(p *person) (n int) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(p.dir, ".zygos/catalog.db")+"?mode=ro")
	require.NoError(p.t, err)
	defer db.Close()
	require.NoError(p.t, db.QueryRow("SELECT max(version_id) FROM goose_db_version").Scan(&n))
	return n
}

// old is a workspace with the state that a program of a schema left.
func old(t *testing.T, schema int) *person {
	p := me(t)
	p.starter()
	data, err := filepath.Abs(fmt.Sprintf("testdata/schemas/%d.tar.gz", schema))
	require.NoError(t, err)
	require.NoError(t, errorsOf(exec.Command("tar", "-xzf", data, "-C", p.dir)))
	for line := range strings.Lines(p.read("sizes")) { // what was placed, as far as looking goes
		size, name, _ := strings.Cut(strings.TrimSpace(line), " ")
		p.sh("mkdir -p \"regions/$(dirname '" + name + "')\" && truncate -s " + size + " 'regions/" + name + "'")
	}
	return p
}

// A shared catalog of the schema before is used as it is; an older one is refused. Both are brought up to date by a command of its own.
func TestSharedCatalogOfAnOlderSchema(t *testing.T) {
	t.Parallel()
	onPostgres(t, func(t *testing.T, p *person) {
		p.family()
		db, err := sql.Open("pgx", p.database)
		require.NoError(t, err)
		defer db.Close()
		back := func(statements ...string) {
			for _, s := range statements {
				_, err := db.ExecContext(t.Context(), s)
				require.NoError(t, err, s)
			}
		}
		back("ALTER TABLE placements DROP COLUMN verified_by", "ALTER TABLE versions DROP COLUMN base_image",
			"DELETE FROM goose_db_version WHERE version_id = 12")
		require.Contains(t, p.ok("lineage", "parent"), "newest@0.1.0")
		p.ok("build", "parent", "newest", "--force")
		p.ok("publish", "newest")
		p.ok("verify", "--deep", "--repair")
		p.ok("recall", "parent", "--descendants", "--why", "a hole", "--yes")
		require.Contains(t, p.ok("list", "newest"), "recalled")
		p.ok("prune", "--yes")
		r := p.run("catalog")
		require.Regexp(t, `Schema +11; this program also knows 12`, r.out)
		require.Contains(t, r.err, "zygos catalog --upgrade")
		require.Regexp(t, `Schema +12, brought up from 11`, p.ok("catalog", "--upgrade"))
		require.Regexp(t, `Schema +12, the newest`, p.ok("catalog", "--upgrade"))
		require.Contains(t, p.ok("lineage", "parent@0.1.0"), "newest@0.1.0")

		back("ALTER TABLE placements DROP COLUMN verified_by", "ALTER TABLE versions DROP COLUMN base_image", "DROP TABLE leases",
			"DELETE FROM goose_db_version WHERE version_id >= 11")
		for _, args := range [][]string{{"list"}, {"build", "parent"}, {"catalog"}} {
			p.fails(1, "its tables are those of an older Zygos (schema 10, this one uses 11 and 12). 'zygos catalog --upgrade'", args...)
		}
		require.Regexp(t, `Schema +12, brought up from 10`, p.ok("catalog", "--upgrade"))
		p.ok("build", "parent", "--force")
		p.ok("catalog", "--json")
	})
}
