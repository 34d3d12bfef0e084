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
	x, _, results := seal.Seal(before, seal.Request{Epoch: 77})
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
	again, _, _ := seal.Seal(after, seal.Request{Epoch: 77})
	require.Empty(t, again, "a sealed tree stays as it is")
}

// A host name is the base's or a stage's; what cloud-init writes goes only where it will write it again.
func TestSealKnowsWhatTheBaseBrought(t *testing.T) {
	names := []string{"etc/hostname", "etc/netplan/50-cloud-init.yaml", "etc/udev/rules.d/70-persistent-net.rules"}
	base := tree(names...)
	gone := func(layers ...layer.Index) (paths []string) {
		x, _, results := seal.Seal(layer.Merge(layers...), seal.Request{})
		for _, r := range results {
			paths = append(paths, r.Paths...)
		}
		for _, e := range x {
			if e.Path == "etc/hostname" {
				require.Zero(t, e.Size)
			}
		}
		return paths
	}
	require.Equal(t, []string{names[0], names[2]}, gone(index(base)))
	stage := layer.Index{{Path: "etc/hostname", Kind: layer.File, Mode: 0o644, Size: 5, Digest: "e"}}
	require.Equal(t, []string{names[2]}, gone(index(base), stage))
	require.Equal(t, []string{names[0], names[2], names[1]}, gone(index(tree(append(names, "usr/bin/cloud-init")...))))
}

func index(tree *layer.Tree) (x layer.Index) {
	for _, n := range tree.Nodes() {
		x = append(x, n.Entry)
	}
	return x
}

func TestKeepLeavesGroupsAlone(t *testing.T) {
	x, _, results := seal.Seal(tree("var/log/syslog", "tmp/a"), seal.Request{Keep: []string{"logs"}})
	require.Equal(t, "tmp/a", x[len(x)-1].Path)
	logs := results[slices.Index(seal.Names(), "logs")]
	require.True(t, logs.Kept)
	require.Empty(t, logs.Paths)
}

// A new group is one entry of the table: definitions and sealing know it.
func TestNewGroupIsOneEntryOfTheTable(t *testing.T) {
	for _, g := range seal.Groups {
		require.NotEmpty(t, g.Why, g.Name)
	}
	old := seal.Groups
	t.Cleanup(func() { seal.Groups = old })
	seal.Groups = append(slices.Clone(old), seal.Group{Name: "dust", Why: "it settles", Remove: []string{"dust/**"}})
	x, _, results := seal.Seal(tree("dust/a"), seal.Request{})
	require.Equal(t, "dust/a", x[len(x)-1].Path)
	require.Equal(t, "dust", results[len(old)].Group)
	for keep, says := range map[string]string{"dust": "", "rust": `did you mean "dust"?`} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.toml"), []byte("series = \"1.0\"\nbase = \"b\"\n[seal]\nkeep = [\""+keep+
			"\"]\n[[stage]]\nname = \"s\"\ninline = \"true\"\n[[artifact]]\nformat = \"tar\"\n"), 0o644))
		var problems definition.Problems
		definition.ReadImage(dir, "a.toml", definition.ExpectKinds{}, &problems)
		if says == "" {
			require.Empty(t, problems)
		} else {
			require.ErrorContains(t, problems.Err(), says)
		}
	}
}

// What was taken away comes back by the tree's own init, where it has one that is known; a child has it already.
func TestSealAddsWhatBringsThingsBack(t *testing.T) {
	debian := []string{"usr/lib/systemd/systemd", "usr/lib/systemd/systemd-growfs", "usr/bin/systemd-repart", "usr/sbin/sshd", "etc/passwd"}
	before := tree(debian...)
	script := seal.Script{Name: "enrol", Text: []byte("echo x\n"), Env: []string{"SITE=north"}, Network: true}
	both := []seal.Script{script, {Name: "mark", Text: []byte("#!/bin/sh\n")}}
	x, contents, results := seal.Seal(before, seal.Request{Epoch: 77, Scripts: both})
	r := results[len(results)-1]
	require.Equal(t, "first-start", r.Group)
	require.Equal(t, []string{"ssh-keygen, which makes host keys: install openssh-client or openssh-keygen"}, r.Lacks)
	require.Contains(t, r.Added, "usr/lib/systemd/system/sysinit.target.wants/zygos-first-start.service")
	require.Contains(t, r.Added, "usr/lib/systemd/system/multi-user.target.wants/zygos-first-boot.service")
	require.Equal(t, "echo x\n", string(contents["usr/lib/zygos/first-boot-network.d/01-enrol"]))
	require.Equal(t, "SITE=north\n", string(contents["usr/lib/zygos/first-boot-network.d/01-enrol.env"]))
	require.Contains(t, r.Added, "usr/lib/zygos/first-boot.d/02-mark")
	after := layer.Merge(index(before), x)
	require.Equal(t, uint32(0o755), after.Lookup("usr/lib/zygos/first-start").Mode)
	require.Equal(t, layer.Dir, after.Lookup("usr/lib/zygos").Kind)
	require.Equal(t, "../zygos-first-start.service",
		after.Lookup("usr/lib/systemd/system/sysinit.target.wants/zygos-first-start.service").Link)
	again, _, _ := seal.Seal(after, seal.Request{Epoch: 78, Scripts: both})
	require.Empty(t, again)

	x, _, results = seal.Seal(before, seal.Request{Keep: []string{"first-start"}})
	require.Empty(t, x)
	require.True(t, results[len(results)-1].Kept)
	x, _, _ = seal.Seal(tree("etc/passwd", "usr/sbin/sshd"), seal.Request{})
	require.Empty(t, x, "nothing for a tree that no init starts")
	_, _, results = seal.Seal(tree("etc/passwd"), seal.Request{Scripts: []seal.Script{script}})
	require.Contains(t, results[len(results)-1].Lacks[0], "an init that runs first_boot")
	_, _, results = seal.Seal(tree("sbin/openrc-run"), seal.Request{})
	require.Contains(t, results[len(results)-1].Added, "etc/runlevels/boot/zygos-first-start")
}

// What is drawn at random, by a loader, a package or an agent, is not shared.
func TestSealTakesWhatWasDrawn(t *testing.T) {
	drawn := []string{"boot/efi/loader/random-seed", "efi/loader/random-seed", "var/lib/systemd/credential.secret", "etc/nvme/hostnqn",
		"etc/nvme/hostid",
		"var/lib/NetworkManager/secret_key", "etc/ssl/private/ssl-cert-snakeoil.key", "etc/ssl/certs/ssl-cert-snakeoil.pem", "etc/bind/rndc.key",
		"etc/unbound/unbound_server.key", "etc/salt/pki/minion/minion.pem", "etc/krb5.keytab", "etc/docker/key.json"}
	before := tree(append(drawn, "etc/ssl/certs/ca.pem", "boot/efi/loader/loader.conf")...)
	x, _, _ := seal.Seal(before, seal.Request{})
	after := layer.Merge(index(before), x)
	for _, name := range drawn {
		require.Nil(t, after.Lookup(name), name)
	}
	require.NotNil(t, after.Lookup("etc/ssl/certs/ca.pem"))
	require.NotNil(t, after.Lookup("boot/efi/loader/loader.conf"))
}
