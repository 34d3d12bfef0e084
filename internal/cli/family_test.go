package cli_test

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// family makes a parent, a child on its newest version and a child on its tag, published.
func (p *person) family() {
	p.starter()
	p.define("parent", "field-os", "[labels]\nowner = \"platform\"\n[[stage]]\nname = \"p\"\ninline = \"echo 1 > /p\"\n")
	p.define("newest", "parent", "[[stage]]\nname = \"c\"\ninline = \"cp /p /c\"\n[publish]\nregions = [\"here\"]\n")
	p.define("tagged", "parent@stable", "[[stage]]\nname = \"c\"\ninline = \"cp /p /t\"\n")
	p.ok("build", "parent")
	p.ok("tag", "parent", "stable")
	p.ok("build", "newest", "tagged")
	p.ok("publish", "newest")
}

func TestDueNamesWhatAndWhyAndIsBuilt(t *testing.T) {
	t.Parallel()
	test := func(t *testing.T, p *person) {
		p.family()
		require.Contains(t, p.run("due", "parent", "newest", "tagged").out, "Nothing is due")
		p.define("parent", "field-os", "[labels]\nowner = \"platform\"\n[[stage]]\nname = \"p\"\ninline = \"echo 2 > /p\"\n")
		r := p.run("due", "parent", "newest", "tagged")
		require.Equal(t, 1, r.code)
		require.Regexp(t, `parent +0\.1\.0 +newest +p: inline script changed, line 1`, r.out)
		require.NotContains(t, r.out, "tagged")
		r = p.run("build", "--due", "parent")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.out, "Registered parent@0.1.1")
		require.Contains(t, r.out, "Registered newest@0.1.1")
		require.Equal(t, "2\n", p.ask("cat /c", "newest"))
		p.ok("tag", "parent@0.1.1", "stable")
		require.Regexp(t, `tagged +0\.1\.0 +- +c: base parent moved from 0\.1\.0 to 0\.1\.1`, p.run("due").out)
		// A parent that comes out the same ends the chain.
		p.define("parent", "field-os", "[labels]\nowner = \"platform\"\n[[stage]]\nname = \"p\"\ninline = \"echo 2 > /p; true\"\n")
		r = p.run("build", "--due", "parent")
		require.Contains(t, r.out, "Registered parent@0.1.2")
		require.Contains(t, r.out, "newest@0.1.1 is up to date")
		out := p.ok("lineage", "newest@0.1.1")
		require.Contains(t, out, "field-os@1.2.0\n└── parent@0.1.1")
		require.Contains(t, out, "    └── newest@0.1.1")
		out = p.ok("lineage", "parent@0.1.0", "--depth", "1")
		require.NotContains(t, out, "@0.1.1")
		require.Regexp(t, `tagged@0\.1\.0  \d+ s old  due: c: base parent moved from 0\.1\.0 to 0\.1\.1`, out)
		require.Contains(t, p.ok("lineage", "parent@0.1.0", "--html"), "due: c: base parent moved")
		require.True(t, strings.HasPrefix(p.ok("lineage", "parent@0.1.0", "--svg"), "<svg"))
		p.fails(2, "choose one", "lineage", "parent", "--svg", "--html")
	}
	anyone(t, test)
	onPostgres(t, test)
}

func TestRecallIsHeeded(t *testing.T) {
	t.Parallel()
	everyCatalog(t, func(t *testing.T, p *person) {
		p.family()
		p.fails(2, "say why", "recall", "parent")
		p.fails(2, "add --yes", "recall", "parent", "--why", "a hole")
		p.fails(2, "write a time as", "recall", "parent", "--why", "x", "--from", "soon")
		out := p.ok("recall", "parent@0.1.0", "--why", "a hole", "--descendants", "--yes")
		require.Regexp(t, `parent@0\.1\.0 +stable +- +2`, out)
		require.Regexp(t, `newest@0\.1\.0 +- +here +0`, out)
		says := "newest@0.1.0 is recalled through its ancestor parent@0.1.0: a hole"
		p.fails(5, says, "locate", "newest", "--region", "here")
		p.fails(5, says, "publish", "newest")
		p.fails(5, says, "tag", "newest@0.1.0", "stable")
		p.fails(5, "images/tagged.toml:2:8: base of tagged: parent@0.1.0 is recalled: a hole", "build", "tagged")
		require.Contains(t, p.ok("show", "newest@0.1.0"), "recalled through parent@0.1.0: a hole (by root")
		require.Contains(t, p.ok("list", "--only", "recalled"), "tagged")
		require.Contains(t, p.run("list", "--only", "usable").err, "none of 3 versions fits")
		valid(t, "region", p.read("regions/here/index.json"))
		require.Contains(t, p.read("regions/here/index.json"), `"recall":{"by":"parent@0.1.0"`)
		p.ok("build", "parent")
		p.fails(1, "is recalled through parent@0.1.0; reinstate that one", "reinstate", "newest@0.1.0")
		p.ok("reinstate", "parent@0.1.0")
		p.fails(1, "is not recalled", "reinstate", "parent@0.1.0")
		require.Regexp(t, `recall +a hole \(by root, from .*; ended by root, `, p.ok("show", "parent@0.1.0"))
		require.Regexp(t, `child +newest@0\.1\.0`, p.ok("show", "parent@0.1.0"))
		require.Contains(t, p.ok("show", "parent@0.1.0", "--json"), `"ended_by": "root"`)
		require.NotContains(t, p.read("regions/here/index.json"), "recall")
		p.ok("locate", "newest", "--region", "here")
		p.ok("recall", "newest", "--why", "end of life", "--from", "2099-01-01", "--yes")
		p.ok("locate", "newest", "--region", "here")
		require.Contains(t, p.ok("list", "--only", "planned"), "recall planned")
	})
}

func TestTagsGoBackAndFollowRules(t *testing.T) {
	t.Parallel()
	everyCatalog(t, func(t *testing.T, p *person) {
		p.family()
		p.write("zygos.toml", p.read("zygos.toml")+"\n[tag.gold]\nneeds = [\"regions\", \"from:candidate\", \"age:1h\"]\n[tag.silver]\nneeds "+
			"= [\"regions\"]\n")
		p.ok("build", "newest", "--force")
		r := p.run("tag", "newest", "gold")
		require.Equal(t, 5, r.code)
		require.Contains(t, r.err, "newest@0.1.1 may not become gold: [tag.gold] in zygos.toml needs more")
		require.Contains(t, r.err, "regions: it is not complete in here; zygos publish newest@0.1.1")
		require.Contains(t, r.err, "from:candidate: newest@0.1.1 was never candidate; zygos tag newest@0.1.1 candidate")
		require.Contains(t, r.err, "age:1h: newest@0.1.1 is ")
		p.ok("publish", "newest")
		p.ok("tag", "newest", "silver")
		p.fails(1, "silver pointed at nothing before", "tag", "newest", "silver", "--back")

		require.Contains(t, p.ok("tag", "newest@0.1.0", "tagged@0.1.0", "live", "--why", "passed the trials"), "tagged@live -> 0.1.0")
		p.ok("tag", "newest@0.1.1", "live")
		require.Contains(t, p.ok("tag", "newest", "live", "--back"), "newest@live -> 0.1.0 (was 0.1.1)")
		p.fails(1, "", "tag", "newest@0.1.1", "tagged@9.9.9", "live")
		require.Contains(t, p.ok("list", "newest", "--tag", "live"), "0.1.0", "nothing moved")
		require.Contains(t, p.ok("tag", "newest", "live", "--remove"), "newest@live removed (was 0.1.0)")
		p.fails(1, `newest has no tag "live"`, "tag", "newest", "live", "--remove")
		out := p.ok("tag", "newest")
		require.Regexp(t, `live +- +0\.1\.0 +removed`, out)
		require.Contains(t, out, "passed the trials")
		p.fails(2, "choose one", "tag", "newest", "live", "--back", "--remove")
	})
}

func TestListIsFiltered(t *testing.T) {
	t.Parallel()
	everyCatalog(t, func(t *testing.T, p *person) {
		p.family()
		list := func(args ...string) string {
			var list []struct{ Image string }
			require.NoError(t, json.Unmarshal([]byte(p.ok(append([]string{"list", "--json"}, args...)...)), &list))
			var names []string
			for _, v := range list {
				names = append(names, v.Image)
			}
			return strings.Join(names, " ")
		}
		require.Equal(t, "newest parent tagged", list())
		require.Equal(t, "parent", list("--where", "owner=platform"))
		require.Equal(t, "newest tagged", list("--base", "parent"))
		require.Equal(t, "newest tagged", list("--base", "parent@0.1.0"))
		require.Equal(t, "newest", list("--region", "here"))
		require.Equal(t, "parent", list("--tag", "stable"))
		require.Equal(t, "newest parent tagged", list("--age", "1d", "--only", "usable"))
		require.Equal(t, "newest", list("--most", "1"))
		require.Equal(t, "parent", list("--most", "1", "--page", "2"))
		require.Contains(t, p.run("list", "--most", "1", "--page", "2").err, "there are more; --page 3 shows the next ones")
		require.True(t, strings.HasSuffix(list("--sort", "age"), " parent"))
		p.fails(2, "--page 9 is past the last of 3 versions", "list", "--page", "9")
		p.fails(2, "choose age or size", "list", "--sort", "x")
		p.fails(2, "pages count from 1", "list", "--page", "0")
		p.fails(2, "give 1 or more", "list", "--most", "-3")
		p.fails(2, "leave out --page and --most", "list", "--all", "--page", "2")
		p.fails(2, "--depth is -1", "lineage", "parent", "--depth", "-1")
		p.fails(1, "name a file that 'zygos export' wrote", "import", "nowhere")
		p.define("broken", "field-os", "[[stage]]\nname = \"s\"\ninline = \"exit 3\"\n")
		require.Equal(t, 4, p.run("build", "broken").code)
		require.Regexp(t, `(?m)^broken +0\.1\.0 .* failed\nnewest`, p.ok("list"))
		require.Regexp(t, `^IMAGE.*\nbroken +0\.1\.0 .* failed\n`, p.ok("list", "broken"))
		p.fails(2, "has no '='", "list", "--where", "owner")
		p.fails(2, "choose usable, recalled or planned", "list", "--only", "x")
		p.fails(2, "write for instance", "list", "--age", "old")
	})
}

func TestPruneRemovesWhatNothingKeeps(t *testing.T) {
	t.Parallel()
	test := func(t *testing.T, p *person) {
		p.family() // parent 0.1.0 is tagged, and has children
		for range 3 {
			p.ok("build", "newest", "--force")
		}
		p.define("lone", "field-os", "[[stage]]\nname = \"big\"\ninline = \"head -c 2000000 /dev/urandom > /big\"\n")
		p.ok("build", "lone")
		p.define("lone", "field-os", "[keep]\nversions = 1\n[[stage]]\nname = \"big\"\ninline = \"head -c 2000000 /dev/urandom > /big2\"\n")
		p.ok("build", "lone")
		require.Contains(t, p.ok("prune", "parent"), "0 versions to remove")
		p.write("zygos.toml", p.read("zygos.toml")+"\n[keep]\nversions = 2\n")
		out := p.ok("prune", "--all")
		require.Regexp(t, `lone +0\.1\.0 .* goes`, out)
		require.Regexp(t, `newest +0\.1\.1 .* goes`, out)
		require.Regexp(t, `newest +0\.1\.0 .* stays +the newest in here`, out)
		require.Regexp(t, `parent +0\.1\.0 .* stays +the newest of the image; tagged stable`, out)
		require.Len(t, p.versions(), 8)
		p.ok("publish", "newest")
		layers, blobs := len(p.glob(".zygos/layers/*/index.jsonl")), len(p.glob(".zygos/store/blobs/sha256/*"))
		require.Contains(t, p.ok("prune", "--yes"), "Removed 3 versions")
		require.Less(t, len(p.glob(".zygos/layers/*/index.jsonl")), layers)
		require.Less(t, len(p.glob(".zygos/store/blobs/sha256/*")), blobs)
		require.Len(t, p.versions(), 5)
		require.Empty(t, p.glob("regions/here/newest/0.1.0"))
		require.NotContains(t, p.read("regions/here/index.json"), "0.1.0")
		require.Contains(t, p.ok("prune", "--yes"), "0 versions to remove")
		require.Contains(t, p.ok("sweep"), "Nothing to remove")
		p.whole()
		p.clean()
		require.Equal(t, "2000000\n", p.ask("wc -c < /big2", "lone"))
		p.ok("build", "newest", "lone", "--force")
		require.Contains(t, p.ok("list", "lone"), "0.1.2", "a number is never given twice")
	}
	anyone(t, test)
	onPostgres(t, test)
}

// What is recalled can be looked at, and is not proposed in place of what is recalled.
func TestRecallLeadsAwayFromAllThatItRecalls(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.family()
	p.ok("build", "newest", "--force")
	p.ok("tag", "newest@0.1.0", "stable")
	p.ok("tag", "newest@0.1.1", "stable")
	r := p.run("recall", "parent", "--descendants", "--why", "a hole", "--yes")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.err, "zygos tag newest stable --remove")
	require.NotContains(t, r.err, "newest@0.1.0")
	require.NotContains(t, r.err, "--back")
	require.Contains(t, p.ok("lineage", "parent"), "recalled: a hole")
	require.Contains(t, p.ok("show", "newest"), "newest@0.1.1")
	p.ok("diff", "newest", "newest@0.1.0")
}

// A parent and its child that nothing keeps go together, or none of them: no version loses its bytes and
// stays, and none stays that nobody can build on.
func TestPruneTakesFamiliesWhole(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.family()
		p.ok("tag", "parent", "stable", "--remove")
		for range 2 {
			p.ok("build", "parent", "--force")
			p.ok("build", "newest", "--force")
		}
		p.define("tagged", "parent@0.1.2", "[[stage]]\nname = \"c\"\ninline = \"cp /p /t2\"\n")
		p.ok("build", "tagged")
		p.write("zygos.toml", p.read("zygos.toml")+"\n[keep]\nversions = 1\n")
		out := p.ok("prune", "parent", "--all")
		require.Regexp(t, `parent +0\.1\.0 .* stays +newest@0.1.0 is built on it`, out, "children that were not named protect it")
		require.NotContains(t, out, "not asked for")
		p.ok("publish", "newest")
		for i := 1; i < 3; i++ { // the first is cut short after its copies in regions are gone
			if i == 1 {
				layers := filepath.Join(p.dir, ".zygos/store/index.json")
				text := p.read(".zygos/store/index.json")
				p.write(".zygos/store/index.json", "{")
				p.fails(1, "what was removed so far is gone, 'zygos prune --yes' ends it", "prune", "--yes")
				p.write(".zygos/store/index.json", text)
				require.FileExists(t, layers)
				p.fails(5, "newest@0.1.0 is being removed by prune", "tag", "newest@0.1.0", "old")
				continue
			}
			require.Contains(t, p.ok("prune", "--yes"), "Removed 5 versions")
		}
		require.Len(t, p.versions(), 3)
		require.Contains(t, p.ok("prune", "--yes"), "0 versions to remove")
		p.whole()
		p.clean()
	})
}

func TestPrunedIsAsGoodAsItSays(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.family()
	p.write("zygos.toml", p.read("zygos.toml")+"\n[keep]\ndays = 30\n")
	p.ok("build", "parent", "--force")
	require.Regexp(t, `parent +0\.1\.0 .* younger than 30 days; tagged stable`, p.ok("prune", "--all"))
	p.write("zygos.toml", strings.Replace(p.read("zygos.toml"), "days = 30", "", 1))
	p.fails(3, "[keep] says nothing; add versions = 5, days = 90, or both", "prune")
}

func TestDiffTellsWhatChanged(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		stage := "[[stage]]\nname = \"s\"\ninline = \"\"\"\n%\n\"\"\"\n"
		p.define("first", "field-os", strings.Replace(stage, "%",
			"echo one > /etc/motd; echo gone > /gone; echo same > /same; echo 'null::respawn:/opt/old' >> /etc/inittab", 1))
		p.ok("build", "first")
		p.define("first", "field-os", strings.Replace(stage, "%", `echo two > /etc/motd; echo same > /same; chmod 600 /same; echo new > `+
			`/new; ln -s new /link
echo 'link:x:200:200::/:/bin/false' >> /etc/passwd; echo 'null::respawn:/opt/new' >> /etc/inittab
mkdir -p /var/lib/dpkg; printf 'Package: curl\\nStatus: install ok installed\\nVersion: 7.88\\n' > /var/lib/dpkg/status`, 1))
		p.ok("build", "first")
		out := p.ok("diff", "first@0.1.0", "first", "--all")
		for _, want := range []string{"first@0.1.0 -> first@0.1.1", "packages   1 added, 0 removed, 0 changed", "+ curl  7.88",
			"users      1 added", "+ link  200 200 / /bin/false",
			"services   1 added, 1 removed", "+ /opt/new  inittab respawn", "- /opt/old", "~ /etc/motd  content, 4 -> 4 bytes",
			"~ /same  mode 0644 -> 0600", "- /gone", "+ /new", "+ /link", "listening  the same"} {
			require.Contains(t, out, want)
		}
		require.Contains(t, p.ok("diff", "first@0.1.0", "first", "--file", "/etc/motd"), "-one\n+two")
		require.NotContains(t, p.ok("diff", "first@0.1.0", "first", "--path", "/etc"), "/gone")
		require.Contains(t, p.ok("diff", "first", "first"), "files      the same")
		require.Contains(t, p.ok("diff", "first", "first", "--file", "/etc/motd"), "is the same in")
		p.fails(1, "has a file /nowhere", "diff", "first@0.1.0", "first", "--file", "/nowhere")
		var d struct {
			Files []struct{ Path, State string }
		}
		require.NoError(t, json.Unmarshal([]byte(p.ok("diff", "first@0.1.0", "first", "--stage", "s", "--json")), &d))
		require.NotEmpty(t, d.Files)
	})
}

func TestCatalogIsExportedAndImported(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.family()
	p.ok("recall", "parent", "--why", "a hole", "--yes")
	text := p.ok("export")
	p.write("catalog.jsonl", text)
	p.fails(1, "the catalog is not empty; import into a new state", "import", "catalog.jsonl")
	require.Contains(t, p.ok("import", "catalog.jsonl", "--state", "other"), "rows into the catalog ")
	require.Equal(t, text, p.ok("export", "--state", "other"))
	require.Equal(t, p.ok("list", "--json"), p.ok("list", "--json", "--state", "other"))
	require.Contains(t, p.ok("list", "--where", "owner=platform", "--state", "other"), "parent")
	p.write("bad.jsonl", text+"{\"table\":\"sqlite_master\",\"row\":{}}\n")
	p.fails(1, `there is no table "sqlite_master"`, "import", "bad.jsonl", "--state", "third")
	require.Equal(t, "[]\n", p.ok("list", "--json", "--state", "third"), "all or nothing")
	p.write("bad.jsonl", "{\"schema\":\"x\"}\n")
	p.fails(1, "this is no exported catalog", "import", "bad.jsonl", "--state", "third")
	p.write("bad.jsonl", "{\"schema\":\"zygos.catalog/1\",\"version\":99}\n")
	p.fails(1, "written by a newer Zygos (schema 99, ", "import", "bad.jsonl", "--state", "third")
}

// What a definition speaks of is not known while it is wrong, so nothing is taken for a leftover.
func TestSweepTouchesNothingWhileDefinitionsAreWrong(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	blobs := p.glob(".zygos/store/blobs/sha256/*")
	good := p.read("zygos.toml")
	p.write("zygos.toml", strings.Replace(good, "[base.", "[bsae.", 1))
	p.fails(3, "in the definitions; nothing was done", "sweep")
	p.fails(3, "in the definitions; nothing was done", "prune", "--yes")
	require.Equal(t, blobs, p.glob(".zygos/store/blobs/sha256/*"))
	p.write("zygos.toml", good)
	require.Contains(t, p.ok("sweep"), "Nothing to remove")
	require.Equal(t, blobs, p.glob(".zygos/store/blobs/sha256/*"))
	p.whole()
}

// Who looks at a planned recall sees when it holds; nothing is refused before.
func TestPlannedRecallShowsItsTime(t *testing.T) {
	t.Parallel()
	everyCatalog(t, func(t *testing.T, p *person) {
		p.family()
		p.ok("recall", "newest", "--why", "end of life", "--from", "2099-01-01T12:00:00Z", "--yes")
		require.Contains(t, p.ok("show", "newest"), "recall planned: end of life (by root, from 2099-01-01T12:00:00Z)")
		require.Contains(t, p.ok("lineage", "newest"), "recall planned from 2099-01-01T12:00:00Z: end of life")
		require.Contains(t, p.read("regions/here/index.json"), `"since":"2099-01-01T12:00:00Z"`)
		p.ok("publish", "newest")
		p.ok("tag", "newest", "live")
	})
}
