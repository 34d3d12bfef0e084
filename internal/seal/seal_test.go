package seal_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/seal"
)

// tree makes a tree of files with their folders; a name that ends in "/" is a folder.
func tree(names ...string) *layer.Tree {
	x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}}
	have := map[string]bool{".": true}
	for _, name := range names {
		parts := strings.Split(strings.TrimSuffix(name, "/"), "/")
		for i := 1; i <= len(parts); i++ {
			p := strings.Join(parts[:i], "/")
			if have[p] {
				continue
			}
			have[p] = true
			if i < len(parts) || strings.HasSuffix(name, "/") {
				x = append(x, layer.Entry{Path: p, Kind: layer.Dir, Mode: 0o755, UID: 3})
			} else {
				x = append(x, layer.Entry{Path: p, Kind: layer.File, Mode: 0o640, Size: 10, Digest: "d"})
			}
		}
	}
	x.Sort()
	return layer.Merge(x)
}

var dirty = []string{"etc/machine-id", "etc/ssh/ssh_host_rsa_key", "etc/ssh/ssh_host_rsa_key.pub", "etc/ssh/sshd_config",
	"var/log/syslog", "var/log/syslog.1", "var/log/apt/history.log", "var/log/journal/x/y", "root/.bash_history", "home/a/.ash_history",
	"var/cache/apt/archives/a.deb", "var/cache/apt/archives/lock", "var/lib/apt/lists/x", "tmp/a/b", "var/tmp/c", "run/d",
	"var/lib/systemd/random-seed", "var/lib/dhcp/dhclient.leases", "etc/passwd"}

func TestSealRemovesWhatClonesMustNotShare(t *testing.T) {
	before := tree(dirty...)
	x, results := seal.Seal(before, nil, 77)
	// The layer on top of the tree is what clones get.
	after := layer.Merge(index(before), x)
	var left []string
	for _, n := range after.Nodes() {
		if n.Kind == layer.File {
			left = append(left, n.Path)
		}
	}
	require.Equal(t, []string{"etc/machine-id", "etc/passwd", "etc/ssh/sshd_config", "var/cache/apt/archives/lock",
		"var/log/apt/history.log", "var/log/syslog"}, left)
	require.Zero(t, after.Lookup("etc/machine-id").Size)
	require.Equal(t, uint32(0o640), after.Lookup("var/log/syslog").Mode, "an emptied file keeps its mode")
	require.Equal(t, int64(77), after.Lookup("var/log/syslog").MTime)
	require.Equal(t, uint32(3), after.Lookup("var/log").UID, "folders stay as they are")
	require.NotNil(t, after.Lookup("tmp"))

	byGroup := map[string]seal.Result{}
	for _, r := range results {
		byGroup[r.Group] = r
	}
	require.Equal(t, []string{"etc/ssh/ssh_host_rsa_key", "etc/ssh/ssh_host_rsa_key.pub"}, byGroup["ssh-host-keys"].Paths)
	require.Equal(t, int64(20), byGroup["ssh-host-keys"].Bytes)
	require.Equal(t, []string{"run/d", "tmp/a", "var/tmp/c"}, byGroup["temporary"].Paths)
	require.Equal(t, int64(30), byGroup["temporary"].Bytes, "the content of a removed folder counts")
	again, _ := seal.Seal(after, nil, 77)
	require.Empty(t, again, "a sealed tree stays as it is")
}

func index(tree *layer.Tree) (x layer.Index) {
	for _, n := range tree.Nodes() {
		x = append(x, n.Entry)
	}
	return x
}

func TestKeepLeavesGroupsAlone(t *testing.T) {
	x, results := seal.Seal(tree("var/log/syslog", "tmp/a"), []string{"logs"}, 0)
	require.Equal(t, "tmp/a", x[len(x)-1].Path)
	require.True(t, results[2].Kept)
	require.Empty(t, results[2].Paths)
}

// A new group is one entry of the table: definitions and sealing know it.
func TestNewGroupIsOneEntryOfTheTable(t *testing.T) {
	for _, g := range seal.Groups {
		require.NotEmpty(t, g.Why, g.Name)
	}
	old := seal.Groups
	t.Cleanup(func() { seal.Groups = old })
	seal.Groups = append(slices.Clone(old), seal.Group{Name: "dust", Why: "it settles", Remove: []string{"dust/**"}})
	x, results := seal.Seal(tree("dust/a"), nil, 0)
	require.Equal(t, "dust/a", x[len(x)-1].Path)
	require.Equal(t, "dust", results[len(old)].Group)
	for keep, says := range map[string]string{"dust": "", "rust": `did you mean "dust"?`} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.toml"), []byte("series = \"1.0\"\nbase = \"b\"\n[seal]\nkeep = [\""+keep+
			"\"]\n[[stage]]\nname = \"s\"\ninline = \"true\"\n[[artifact]]\nformat = \"tar\"\n"), 0o644))
		var problems definition.Problems
		definition.ReadImage(dir, "a.toml", &problems)
		if says == "" {
			require.Empty(t, problems)
		} else {
			require.ErrorContains(t, problems.Err(), says)
		}
	}
}
