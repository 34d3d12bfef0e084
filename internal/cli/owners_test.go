package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A format captured later of an adopted version comes from its tree, and is not the adopted file under another name.
func TestCaptureOfAnAdoptedVersion(t *testing.T) {
	t.Parallel()
	p := small(t)
	p.ok("capture", "first", "--format", "qcow2")
	p.ok("publish", "first")
	tar, disk := "regions/here/first/0.1.0/first-0.1.0.tar.zst", "regions/here/first/0.1.0/first-0.1.0.raw"
	if _, err := os.Stat(filepath.Join(p.dir, disk)); err != nil {
		p.ok("fetch", "first", "--region", "here", "--format", "qcow2", "--out", "disk.qcow2")
		p.sh("qemu-img convert -O raw disk.qcow2 disk.raw")
		disk = "disk.raw"
	}
	p.write("images/ad.toml", "series = \"1.0\"\nbase = \"field-os\"\n[[artifact]]\nformat = \"tar\"\n[publish]\nregions = [\"raws\"]\n")
	p.write("zygos.toml", p.read("zygos.toml")+"\n[region.raws]\nkind = \"folder\"\npath = \"regions/raws\"\nformats = [\"raw\"]\n")
	p.ok("adopt", disk, "--as", "ad", "--version", "1.0.0")
	p.ok("capture", "ad", "--format", "qcow2")
	require.NotEqual(t, digestIn(p, "ad@1.0.0", "raw"), digestIn(p, "ad@1.0.0", "qcow2"))
	file := filepath.Join(p.dir, ".zygos/store/blobs/sha256", digestIn(p, "ad@1.0.0", "qcow2"))
	out, err := exec.Command("qemu-img", "info", file).Output()
	require.NoError(t, err)
	require.Contains(t, string(out), "file format: qcow2")

	p.ok("adopt", tar, "--as", "ad", "--version", "1.1.0")
	require.Contains(t, p.ok("publish", "ad@1.1.0"), "copied and verified")
	raw := filepath.Join(p.dir, "regions/raws/ad/1.1.0/ad-1.1.0.raw")
	head, err := os.ReadFile(raw)
	require.NoError(t, err)
	require.NotEqual(t, "\x28\xb5\x2f\xfd", string(head[:4]), "a disk, and not the archive")
	p.ok("adopt", tar, "--as", "ad", "--version", "1.2.0")
	require.Equal(t, p.ok("verify", "--deep"), p.ok("verify", "--deep"))
}

// No two artifacts of a version have one name in a region, or one variable for a shell.
func TestArtifactsHaveNamesOfTheirOwn(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("images/coll.toml", `series = "0.1"
base = "field-os"
[variant.a]
[variant.a-b]
[variant."x.y"]
[variant.x-y]
[[stage]]
name = "s"
inline = "echo $ZYGOS_VARIANT > /v"
[[artifact]]
format = "tar"
[[artifact]]
format = "tar"
name = "b"
only = ["a"]
[[artifact]]
format = "tar"
name = "b-tar"
only = ["a"]
[publish]
regions = ["here"]
`)
	p.ok("lint")
	p.ok("build", "coll")
	p.ok("publish", "coll")
	files := p.glob("regions/here/coll/0.1.0/*.tar.zst")
	require.Len(t, files, 6)
	require.FileExists(t, filepath.Join(p.dir, "regions/here/coll/0.1.0/coll-0.1.0-a_b.tar.zst"))
	require.FileExists(t, filepath.Join(p.dir, "regions/here/coll/0.1.0/coll-0.1.0-a.tar.zst"), "names that nothing else has are short")
	require.Contains(t, p.ok("verify", "--deep"), "6 sound placements")
	env := p.ok("manifest", "coll", "--env")
	require.Contains(t, env, "_COLL_x_HERE_x_X_dot_Y_x_TAR=zy-")
	require.Contains(t, env, "_COLL_x_HERE_x_X_Y_x_TAR=zy-")
	names := map[string]bool{}
	for line := range strings.Lines(env) {
		name, _, _ := strings.Cut(line, "=")
		require.False(t, names[name], name)
		names[name] = true
	}
	require.Len(t, names, 7)

	// What was placed under a short name before stays there.
	p.write("images/3d.toml", "series = \"0.1\"\nbase = \"field-os\"\n[[artifact]]\nformat = \"tar\"\n[publish]\nregions = [\"here\"]\n")
	p.ok("build", "3d")
	p.ok("publish", "3d")
	require.Contains(t, p.ok("manifest", "3d", "--env"), "_3D_VERSION=0.1.0\n_3D_HERE_TAR=")
}

// A region has names of its own, which no image takes.
func TestImagesThatWouldSpoilARegion(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	for _, name := range []string{"index.json", "zygos", "layers", "zygos-owner.json"} {
		p.define(name, "field-os", "")
		p.fails(3, "an image cannot be called \""+name+"\"", "lint")
		require.NoError(t, os.Remove(filepath.Join(p.dir, "images", name+".toml")))
	}
}

// A region belongs to one catalog: another one writes nothing there, until it claims the region.
func TestTwoCatalogsAndOneRegion(t *testing.T) {
	t.Parallel()
	ours := small(t)
	ours.ok("publish", "first")
	require.Contains(t, ours.read("regions/here/zygos-owner.json"), `"schema":"zygos.owner/1"`)
	theirs := small(t)
	theirs.ok("build", "first", "--force")
	at := filepath.Join(ours.dir, "regions/here")
	theirs.write("zygos.toml", strings.Replace(theirs.read("zygos.toml"), `"regions/here"`, `"`+at+`"`, 1))
	require.Contains(t, theirs.read("zygos.toml"), at)
	before := ours.sh("cd regions/here && find . -type f | sort | xargs sha256sum")
	for _, args := range [][]string{{"publish", "first"}, {"publish", "first@0.1.0"}} {
		theirs.fails(6, "belongs to the catalog", args...)
	}
	require.Equal(t, before, ours.sh("cd regions/here && find . -type f | sort | xargs sha256sum"))
	require.Contains(t, theirs.run("verify").out, "zygos regions --claim here takes it over")

	// One without a mark is taken only if nothing in it is of others.
	require.NoError(t, os.Remove(filepath.Join(at, "zygos-owner.json")))
	theirs.fails(6, "has an index that names first@0.1.0, which another catalog made", "publish", "first@0.1.1")
	ours.ok("publish", "first")
	require.FileExists(t, filepath.Join(at, "zygos-owner.json"))

	require.Contains(t, theirs.ok("regions", "--claim", "here"), "belongs to this catalog")
	theirs.ok("publish", "first")
	ours.fails(6, "belongs to the catalog", "publish", "first")

	// A catalog that is made anew from records is the one that was lost.
	theirs.sh("rm .zygos/catalog.db*")
	theirs.ok("import", ".zygos/builds")
	theirs.ok("publish", "first")
	text := theirs.ok("export")
	theirs.write("catalog.jsonl", text)
	theirs.ok("import", "catalog.jsonl", "--state", "other")
	theirs.ok("publish", "first", "--state", "other")
}

// In a registry, versions with the same content share what lies there: it goes with the last of them.
func TestContentThatVersionsShare(t *testing.T) {
	t.Parallel()
	p := me(t)
	dir := tempDir(t)
	p.toRegistry("http://"+registry(t, dir, "")+"/golden", "")
	p.ok("publish", "first")
	p.ok("build", "first", "--force")
	p.ok("publish", "first")
	p.ok("publish", "first@0.1.0", "--remove", "--region", "golden")
	require.Contains(t, p.ok("verify", "--deep"), "3 sound placements")
	p.ok("publish", "first@0.1.0")
	p.write("images/first.toml", p.read("images/first.toml")+"\n[keep]\nversions = 1\n")
	require.Contains(t, p.ok("prune", "first", "--yes"), "Removed 1 version")
	require.Contains(t, p.ok("verify", "--deep"), "3 sound placements")
	p.ok("fetch", "first", "--region", "golden", "--format", "oci", "--out", filepath.Join(dir, "image.tar"))
	p.ok("publish", "first", "--remove")
	require.NotContains(t, p.run("verify").out, "foreign", "the last one takes it away")
}

// Who is built on whom is told by what a version was built on, and not by its name alone.
func TestABaseThatBecomesAnImage(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.define("one", "field-os", "")
	p.ok("build", "one")
	text := p.read("zygos.toml")
	p.write("zygos.toml", strings.Replace(text, "[base.field-os]", "[base.other-os]", 1))
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "images")))
	release := strings.Split(strings.Split(text, `release = "`)[1], `"`)
	p.write("images/field-os.toml", "version = \""+release[0]+"\"\nbase = \"other-os\"\n[[artifact]]\nformat = \"tar\"\n")
	if !strings.Contains(text, `release = "`) {
		t.Fatal(text)
	}
	p.ok("build", "field-os")
	require.NotContains(t, p.ok("lineage", "field-os"), "one@0.1.0")
	p.ok("recall", "field-os", "--descendants", "--why", "a hole", "--yes")
	require.NotContains(t, p.ok("list", "one"), "recalled")
}

// A lowered series is built once, and says what it means.
func TestALoweredSeries(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.define("s", "field-os", "")
	p.edit("images/s.toml", `series = "0.1"`, `series = "0.2"`)
	p.ok("build", "s")
	p.edit("images/s.toml", `series = "0.2"`, `series = "0.1"`)
	r := p.run("build", "s")
	require.Contains(t, r.out, "Registered s@0.1.0")
	require.Contains(t, r.err, `the series of s is below 0.2.0, which "s" still means`)
	require.Contains(t, p.ok("build", "s"), "is up to date")
	require.Contains(t, p.run("due", "s").out, "Nothing is due")
}

// Retention counts what can be used.
func TestPruneKeepsWhatCanBeUsed(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.define("k", "field-os", "[keep]\nversions = 1\n[[stage]]\nname = \"s\"\ninline = \"echo $ZYGOS_VERSION > /v\"\n")
	p.ok("build", "k")
	p.ok("build", "k", "--force")
	p.ok("recall", "k@0.1.1", "--why", "a hole", "--yes")
	p.ok("prune", "k", "--yes")
	p.ok("tag", "k", "stable")
}

// One wrong definition stops what it is about, and nothing else.
func TestOneWrongDefinition(t *testing.T) {
	t.Parallel()
	p := small(t)
	p.define("orphan", "a-parent-that-is-gone", "")
	for _, args := range [][]string{{"prune"}, {"repeat", "first"}, {"publish", "first"}, {"preview", "first"}, {"sweep"}} {
		p.ok(args...)
	}
	require.Contains(t, p.run("due").out, "cannot be planned: images/orphan.toml:2:8")
	p.fails(3, "orphan.toml:2:8", "preview", "orphan")
	p.fails(3, "orphan.toml:2:8", "lint")
}

// A recall that is said again is the one that was made, also where the reference means another version by then.
func TestARecallSaidTwice(t *testing.T) {
	t.Parallel()
	p := small(t)
	p.ok("build", "first", "--force")
	recall := []string{"recall", "first", "--why", "a hole", "--yes"}
	require.Contains(t, p.ok(recall...), "Recalled first@0.1.1")
	require.Contains(t, p.ok(recall...), "first@0.1.1 was recalled by the same words")
	require.Contains(t, p.ok("list", "first", "--only", "usable"), "0.1.0")
	require.Contains(t, p.ok(append(recall, "--again")...), "Recalled first@0.1.0")
	p.fails(2, "it is no UTF-8", "recall", "first@0.1.1", "--why", "a\xffb", "--yes")
	p.fails(2, "it is no UTF-8", "tag", "first@0.1.1", "x", "--why", "a\xffb")
	p.write("images/first.toml", p.read("images/first.toml")+"\n[input.site]\ndefault = \"north\"\n")
	p.fails(2, "it is no UTF-8", "build", "first", "--set", "site=a\xff")
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "[input.site]", "[labels]\nnote = \"a\\u0000b\"\n[input.site]",
		1))
	p.fails(3, "it holds the control character U+0000", "lint")
}
