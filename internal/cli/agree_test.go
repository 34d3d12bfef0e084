package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// small is a workspace of one small image, built and placed once.
func small(t *testing.T) *person {
	p := me(t)
	p.ok("new", "ws")
	p.dir = filepath.Join(p.dir, "ws")
	p.ok("build", "first")
	return p
}

// edit replaces a text in a file of the workspace.
func (p *person) edit(name, old, new string) {
	file := filepath.Join(p.dir, name)
	text, err := os.ReadFile(file)
	require.NoError(p.t, err)
	require.Contains(p.t, string(text), old)
	require.NoError(p.t, os.WriteFile(file, []byte(strings.Replace(string(text), old, new, 1)), 0o644))
}

// A result that cannot be written is told, and the command ends with 1; what it did is done. A reader that leaves is no news.
func TestOutputThatCannotBeWritten(t *testing.T) {
	p := small(t)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for _, args := range [][]string{{"list"}, {"list", "--json"}, {"show", "first"}, {"help"}, {"preview", "first"}, {"scripts"},
		{"manifest", "first", "--env"},
		{"lineage", "first"}, {"tag", "first@0.1.0", "good"}} {
		cmd := p.command(args...)
		cmd.Stdout = full
		var said strings.Builder
		cmd.Stderr = &said
		require.Error(t, cmd.Run(), args)
		require.Equal(t, 1, cmd.ProcessState.ExitCode(), args)
		require.Contains(t, said.String(), "the command is done, and its result could not be written: ", args)
	}
	require.Contains(t, p.ok("list"), "good", "the tag was moved")
	read, write, err := os.Pipe()
	require.NoError(t, err)
	require.NoError(t, read.Close())
	cmd := p.command("build", "first", "--force", "--json")
	cmd.Stdout = write
	var said strings.Builder
	cmd.Stderr = &said
	require.Error(t, cmd.Run())
	require.Equal(t, 1, cmd.ProcessState.ExitCode())
	require.Empty(t, said.String())
	require.Contains(t, p.ok("list"), "0.1.1", "the build went on")
}

// With --json there is one document on standard output, whatever happens.
func TestOneDocument(t *testing.T) {
	p := small(t)
	p.edit("zygos.toml", "[region.here]",
		"[base.gone]\nnewest = \"1.*\"\nfeed = \"http://127.0.0.1:1/\"\nfile = \"os-${release}.tar\"\n\n[region.here]")
	r := p.run("bases", "--refresh", "--json")
	require.Equal(t, 1, r.code)
	require.True(t, json.Valid([]byte(r.out)), "%s", r.out)
	p.ok("publish", "first")
	for _, args := range [][]string{{"locate", "first", "--all", "--env", "--json"}, {"manifest", "first", "--env", "--json"}} {
		r := p.run(args...)
		require.Equal(t, 2, r.code)
		require.True(t, json.Valid([]byte(r.out)), "%s", r.out)
	}
	for _, line := range strings.Split(strings.TrimSpace(p.ok("publish", "first", "--json")), "\n") {
		var event struct{ Time, Kind string }
		require.NoError(t, json.Unmarshal([]byte(line), &event))
		require.NotEmpty(t, event.Time)
		require.Equal(t, "placement", event.Kind)
	}
	r = p.run("build", "--due", "--json")
	require.Contains(t, r.out, `"kind":"nothing due"`)
}

// What is captured of a version that is placed stands in the manifests of its regions.
func TestCaptureOfAPlacedVersion(t *testing.T) {
	p := small(t)
	p.ok("publish", "first")
	p.ok("capture", "first", "--format", "qcow2")
	p.ok("verify")
	require.Contains(t, p.run("capture", "first", "--format", "qcow2").err, `has an artifact "qcow2" already`)
	require.Equal(t, 2, p.run("capture", "first", "--format", "raw", "--name", "big", "--size", "99999999TiB").code)
}

// A rule that has nothing to judge is not met, and says so.
func TestRulesThatHaveNothingToJudge(t *testing.T) {
	p := small(t)
	p.edit("zygos.toml", "[region.here]",
		"[tag.stable]\nneeds = [\"regions\"]\n[tag.checked]\nneeds = [\"checks\"]\n\n[region.vmdks]\nkind = \"folder\"\n"+
			"path = \"regions/vmdks\"\nformats = [\"vmdk\"]\n\n[region.here]")
	text, err := os.ReadFile(filepath.Join(p.dir, "images/first.toml"))
	require.NoError(t, err)
	image, _, _ := strings.Cut(string(text), "[publish]")
	image, _, _ = strings.Cut(image, "[[check]]")
	write := func(more string) {
		require.NoError(t, os.WriteFile(filepath.Join(p.dir, "images/first.toml"), []byte(image+more), 0o644))
	}
	write("")
	require.Contains(t, p.run("tag", "first@0.1.0", "stable").err, "first names no regions; add [publish] regions")
	write("[publish]\nregions = [\"vmdks\"]\n")
	require.Contains(t, p.run("tag", "first@0.1.0", "stable").err, "it is not complete in vmdks")
	write("[[check]]\nname = \"skips\"\ninline = \"exit 77\"\n")
	p.ok("build", "first", "--force")
	r := p.run("tag", "first@0.1.1", "checked")
	require.Contains(t, r.err, "no check passed when first@0.1.1 was last judged")
	require.Equal(t, 5, r.code)
}

// Only what was registered comes back, and of several records of one number none.
func TestOnlyRegisteredBuildsComeBack(t *testing.T) {
	p := small(t)
	builds := filepath.Join(p.dir, ".zygos/builds")
	made, err := filepath.Glob(builds + "/b-*")
	require.NoError(t, err)
	require.Len(t, made, 1)
	lose := func() {
		files, _ := filepath.Glob(filepath.Join(p.dir, ".zygos/catalog.db*"))
		for _, f := range files {
			require.NoError(t, os.Remove(f))
		}
	}
	again := func(id, name string, change func(string) string) {
		text, err := os.ReadFile(filepath.Join(made[0], "record.json"))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Join(builds, id), 0o755))
		text = []byte(change(strings.ReplaceAll(string(text), filepath.Base(made[0]), id)))
		require.NoError(t, os.WriteFile(filepath.Join(builds, id, name), text, 0o644))
	}
	as := func(text string) string { return text }
	again("b-20250101-000000-aaaaaaaa", "record-pending.json", as)
	again("b-20250101-000001-aaaaaaaa", "record.json", func(text string) string {
		require.NoError(t, os.WriteFile(filepath.Join(builds, "b-20250101-000001-aaaaaaaa/log.jsonl"), nil, 0o644))
		return strings.Replace(text, "zygos.build/3", "zygos.build/2", 1)
	})
	again("b-20250101-000002-aaaaaaaa", "record.json", func(text string) string {
		return strings.ReplaceAll(text, `"image": "first"`, `"image": "../../first"`)
	})
	lose()
	r := p.run("import", ".zygos/builds")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.out+r.err, "build b-20250101-000000-aaaaaaaa is not known to have been registered")
	require.Contains(t, r.out+r.err, "build b-20250101-000001-aaaaaaaa was not registered")
	require.Contains(t, r.out+r.err, "is no version of an image")
	require.Contains(t, p.ok("show", "first"), filepath.Base(made[0]))

	again("b-20250101-000003-aaaaaaaa", "record.json", as)
	lose()
	r = p.run("import", ".zygos/builds")
	require.Contains(t, r.out+r.err, "first@0.1.0 has several records")
	require.NotContains(t, p.ok("list"), "0.1.0")
}
