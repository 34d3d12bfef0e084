package cli_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

// published is somebody whose image, a tar and what more says, is placed in a region.
func published(t *testing.T, more string) *person {
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"s\"\ninline = \"seq 100000 > /long\"\n" + more)
	p.ok("build", "first")
	p.ok("publish", "first")
	return p
}

// What is not as it should be in a region is named and mended; what is foreign stays.
func TestVerifyFindsAndMends(t *testing.T) {
	t.Parallel()
	p := published(t, "[[artifact]]\nformat = \"raw\"\n")
	require.Equal(t, "2 sound placements in 1 region, by size\n", p.ok("verify"))
	raw := p.glob("regions/here/first/*/*.raw")[0]
	content, err := os.ReadFile(raw)
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.WriteFile(raw, content, 0o600))
	require.NoError(t, os.Remove(p.glob("regions/here/first/*/*.tar.zst")[0]))
	p.write("regions/here/index.json", "{}")
	require.NoError(t, os.Remove(p.glob("regions/here/first/*/manifest.json")[0]))
	p.write("regions/here/first/0.1.0/stray.img", "x")

	r := p.run("verify")
	require.Equal(t, 6, r.code)
	require.Regexp(t, `here +first@0.1.0 +tar +missing +there is no file`, r.out)
	require.Regexp(t, `here +first@0.1.0 +first/0.1.0/manifest.json +outdated +the document is not there`, r.out)
	require.Regexp(t, `here +- +index.json +outdated`, r.out)
	require.Regexp(t, `here +- +\S+stray.img +foreign`, r.out)
	require.NotContains(t, r.out, "changed", "only reading the bytes shows that")
	require.Contains(t, r.err, "3 problems; 'zygos verify --repair'")
	r = p.run("verify", "--json")
	require.Equal(t, 6, r.code)
	require.True(t, json.Valid([]byte(r.out)), "one document: "+r.out)
	r = p.run("verify", "--deep", "--repair", "--json")
	require.Zero(t, r.code, r.err)
	require.Equal(t, 4, strings.Count(r.out, `"state": "repaired"`), r.out)
	r = p.run("verify", "--deep")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.out, "2 sound placements in 1 region, by all their bytes")
	require.FileExists(t, filepath.Join(p.dir, "regions/here/first/0.1.0/stray.img"))
	p.fails(2, `region "there" is not in zygos.toml`, "verify", "--region", "there")
	p.fails(1, "", "verify", "nothing")
}

// A file that was fetched is whole and verified, or not there under its name; what came before is gone on with.
func TestFetchGoesOn(t *testing.T) {
	t.Parallel()
	p := published(t, "")
	placed := p.glob("regions/here/first/*/*.tar.zst")[0]
	want, err := os.ReadFile(placed)
	require.NoError(t, err)
	out := filepath.Join(p.dir, "got.tar.zst")
	require.NoError(t, os.WriteFile(out+".part", want[:len(want)/2], 0o600))
	require.NoError(t, os.WriteFile(placed, append(make([]byte, len(want)/2), want[len(want)/2:]...), 0o600))
	require.Equal(t, out+"\n", p.ok("fetch", "first", "--region", "here", "--out", out), "the first half was there")
	got, err := os.ReadFile(out)
	require.NoError(t, err)
	require.Equal(t, want, got)
	require.Equal(t, out+"\n", p.ok("fetch", "first", "--region", "here", "--out", out), "nothing is left to do")
	p.fails(1, "has the digest", "fetch", "first", "--region", "here", "--out", "other")
	require.NoFileExists(t, out+".part")
	require.NoFileExists(t, filepath.Join(p.dir, "other"))
	require.NoFileExists(t, filepath.Join(p.dir, "other.part"))
	require.NoError(t, os.WriteFile(placed, want[:100], 0o600))
	p.fails(1, "it ends after 100 of", "fetch", "first", "--region", "here", "--out", "other")
	require.NoFileExists(t, filepath.Join(p.dir, "other"))
	require.NoError(t, os.WriteFile(placed, want, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "first-0.1.0.tar.zst.part"), make([]byte, 2*len(want)), 0o600))
	require.Contains(t, p.ok("fetch", "first", "--region", "here", "--out", "."), "first-0.1.0.tar.zst", "the rest of something else goes")

	// Several at once bring one file, and none spoils what another one brought.
	var group errgroup.Group
	for range 4 {
		group.Go(func() error { return errorsOf(p.command("fetch", "first", "--region", "here", "--out", "shared")) })
	}
	require.NoError(t, group.Wait())
	got, err = os.ReadFile(filepath.Join(p.dir, "shared"))
	require.NoError(t, err)
	require.Equal(t, want, got)
	require.NoFileExists(t, filepath.Join(p.dir, "shared.part"))
	p.write("mine", "x")
	p.fails(1, "mine is there already, with other bytes", "fetch", "first", "--region", "here", "--out", "mine")
	p.fails(2, "fetch needs --region NAME and --out FILE", "fetch", "first")
	p.fails(1, "not as edge", "fetch", "first", "--region", "here", "--out", "z", "--variant", "edge")
}

// A region that is not mounted is not filled, and what was placed there is not taken for lost.
func TestUnmountedRegionIsNotFilled(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("zygos.toml", strings.Replace(p.read("zygos.toml"), "kind = \"folder\"", "kind = \"folder\"\nmark = true", 1))
	require.Contains(t, p.read("zygos.toml"), "mark = true")
	p.ok("build", "first")
	p.fails(6, "no marker lies there. If it should be mounted, mount it; if it is the right one: zygos regions --mark here",
		"publish", "first")
	require.NoDirExists(t, filepath.Join(p.dir, "regions/here/first"))
	p.ok("regions", "--mark", "here")
	p.ok("publish", "first")
	require.Contains(t, p.ok("verify"), "2 sound placements in 1 region")
	require.NoError(t, os.Rename(filepath.Join(p.dir, "regions"), filepath.Join(p.dir, "away")))
	r := p.run("verify")
	require.Equal(t, 6, r.code)
	require.Regexp(t, `here .*unreachable.*no marker`, r.out)
	require.NoDirExists(t, filepath.Join(p.dir, "regions"))
	require.NoError(t, os.Rename(filepath.Join(p.dir, "away"), filepath.Join(p.dir, "regions")))
	p.ok("verify")
	p.write("regions/here/.zygos-region", "elsewhere\n")
	p.fails(6, "its marker is that of \"elsewhere\"", "publish", "first")
	p.fails(2, "is not in zygos.toml", "regions", "--mark", "there")
}

// A deploy job asks a region's index, from a file or a server, where there is neither workspace nor catalog.
func TestLocateByAnIndexAlone(t *testing.T) {
	t.Parallel()
	p := published(t, "[[artifact]]\nformat = \"raw\"\n")
	p.ok("tag", "first", "stable")
	want := p.ok("locate", "first", "--region", "here", "--format", "raw")
	index := filepath.Join(p.dir, "regions/here/index.json")
	server := httptest.NewServer(http.FileServer(http.Dir(filepath.Dir(index))))
	defer server.Close()
	other := me(t)
	for _, ref := range []string{"first", "first@0.1", "first@0.1.0", "first@stable"} {
		for _, from := range []string{index, server.URL + "/index.json"} {
			require.Equal(t, want, other.ok("locate", ref, "--index", from, "--format", "raw"))
		}
	}
	require.Contains(t, other.ok("locate", "first", "--index", index, "--format", "raw", "--json"), `"location": "`)
	other.fails(2, "choose one with --variant, --name or --format", "locate", "first", "--index", index)
	other.fails(6, "first@0.2 is not in here; of first it holds 0.1.0, stable", "locate", "first@0.2", "--index", index)
	other.fails(1, "404", "locate", "first", "--index", server.URL+"/nothing.json")
	other.fails(1, "is no index of a region", "locate", "first", "--index", p.glob("regions/here/first/*/manifest.json")[0])
	p.write("empty.json", `{"schema":"zygos.region/1","region":"here","versions":[{"image":"first","version":"1.0.0","artifacts":[]}]}`)
	other.fails(6, "first is not in here", "locate", "first", "--index", filepath.Join(p.dir, "empty.json"))
	require.Equal(t, 2, strings.Count(p.ok("locate", "first", "--all"), "zy-"))
	p.ok("recall", "first@0.1.0", "--why", "a hole", "--yes")
	other.fails(5, "a hole", "locate", "first@stable", "--index", index, "--format", "raw")
}

// What a publication would do is told without doing it; a version that is taken out of a region is named there no more.
func TestPublishIsPlannedAndTakenBack(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	require.Equal(t, 2, strings.Count(p.ok("publish", "first", "--dry-run"), "it was not placed there yet"))
	require.NoDirExists(t, filepath.Join(p.dir, "regions/here/first"))
	p.ok("publish", "first")
	require.Equal(t, 2, strings.Count(p.ok("publish", "first", "--dry-run"), "it is there, as zy-"))
	require.NoError(t, os.Truncate(p.glob("regions/here/first/*/*.raw")[0], 7))
	require.Contains(t, p.ok("publish", "first", "--dry-run", "--json"), `"does":"copy","why":"what lies there is something else"`)

	// While a document still names it, the bytes stay.
	index := filepath.Join(p.dir, "regions/here/index.json")
	require.NoError(t, os.Remove(index))
	require.NoError(t, os.MkdirAll(filepath.Join(index, "in-the-way"), 0o755))
	p.fails(6, "the index of here could not be written", "publish", "first", "--remove")
	require.Len(t, p.glob("regions/here/first/*/first-*"), 2)
	require.NoError(t, os.RemoveAll(index))
	require.Equal(t, 2, strings.Count(p.ok("publish", "first", "--remove"), "removed"))
	require.NoDirExists(t, filepath.Join(p.dir, "regions/here/first/0.1.0"))
	require.NotContains(t, p.read("regions/here/index.json"), "first")
	require.Contains(t, p.run("publish", "first", "--remove").err, "is in none of these regions")
	p.fails(6, "is not in here", "locate", "first", "--region", "here", "--format", "tar")
	p.fails(2, "do not go together", "publish", "first", "--remove", "--dry-run")
	p.ok("publish", "first")
}
