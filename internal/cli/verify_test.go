package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is not as it should be in a region is named and mended; what is foreign stays.
func TestVerifyFindsAndMends(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"s\"\ninline = \"seq 100000 > /long\"\n[[artifact]]\nformat = \"raw\"\n")
	p.ok("build", "first")
	p.ok("publish", "first")
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
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"s\"\ninline = \"seq 100000 > /long\"\n")
	p.ok("build", "first")
	p.ok("publish", "first")
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
	require.NoFileExists(t, filepath.Join(p.dir, "other"))
	require.NoFileExists(t, filepath.Join(p.dir, "other.part"))
	require.NoError(t, os.WriteFile(placed, want[:100], 0o600))
	p.fails(1, "it ends after 100 of", "fetch", "first", "--region", "here", "--out", "other")
	require.NoFileExists(t, filepath.Join(p.dir, "other"))
	require.NoError(t, os.WriteFile(placed, want, 0o600))
	require.Contains(t, p.ok("fetch", "first", "--region", "here", "--out", "."), "first-0.1.0.tar.zst")
	p.write("mine", "x")
	p.fails(1, "mine is there already, with other bytes", "fetch", "first", "--region", "here", "--out", "mine")
	p.fails(2, "fetch needs --region NAME and --out FILE", "fetch", "first")
	p.fails(1, "not as edge", "fetch", "first", "--region", "here", "--out", "z", "--variant", "edge")
}
