package feed

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// listed is a base that is found by a listing.
func listed(t testing.TB) *definition.Base {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zygos.toml"), []byte("[workspace]\nname = \"x\"\n[base.os]\nnewest = \"1.*\"\n"+
		"feed = \"mirror\"\nfile = \"os-${release}.tar.zst\"\n"), 0o644))
	var problems definition.Problems
	org := definition.ReadOrganisation(dir, definition.Kinds{Bases: base.Readers()}, &problems)
	require.NoError(t, problems.Err())
	return &org.Bases[0]
}

func releaseOf(name string) definition.Release {
	return definition.Release{Release: name, From: "mirror/" + name, SHA256: digest.Of([]byte(name))}
}

// Of releases that are one number written in two ways, the one stays that was taken before.
func TestOneNumberWrittenTwice(t *testing.T) {
	b := listed(t)
	old := releaseOf("1.2")
	for _, list := range [][]definition.Release{{releaseOf("1.02"), old}, {old, releaseOf("1.02")}} {
		other, told := twins(b, &old, list)
		require.Equal(t, "1.02", other)
		require.Contains(t, told, "1.2 and 1.02, which are one number; 1.2 is taken")
		other, _ = twins(b, nil, list)
		require.Equal(t, "1.02", other, "the shorter one, if there was none before")
	}
	zero := releaseOf("1.02")
	other, _ := twins(b, &zero, []definition.Release{old, zero})
	require.Equal(t, "1.2", other)
	other, _ = twins(b, nil, []definition.Release{releaseOf("1.1"), old})
	require.Empty(t, other)
}

func FuzzListing(f *testing.F) {
	b := listed(f)
	f.Add([]byte(strings.Repeat("0a", 32) + "  os-1.2.tar.zst\nSHA256 (os-1.3.tar.zst) = " + strings.Repeat("0B", 32) + "\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := releases(b, "mirror/SHA256SUMS", text)
		require.NoError(t, err)
		for _, r := range list {
			require.Len(t, r.SHA256.Hex(), 64)
			require.True(t, strings.HasPrefix(r.From, "mirror/os-"), r.From)
		}
	})
}
