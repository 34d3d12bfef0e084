package inventory_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/inventory"
)

// files is a tree of files by path.
type files map[string]string

func (f files) Read(path string) []byte {
	if text, ok := f[path]; ok {
		return []byte(text)
	}
	return nil
}

func (f files) Names(dir string) (list []string) {
	for name := range f {
		if strings.HasPrefix(name, dir+"/") {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

func TestInventoryOfATree(t *testing.T) {
	i := inventory.Read(files{
		"var/lib/dpkg/status": "Package: curl\nStatus: install ok installed\nVersion: 7.88\nDescription: a tool\n with: " +
			"colons\n\nPackage: gone\nStatus: deinstall ok config-files\nVersion: 1\n\nPackage: git\nStatus: install ok installed\nVersion: 2.39\n",
		"var/lib/dpkg/status.d/x": "Package: tiny\nVersion: 3\n",
		"lib/apk/db/installed":    "P:musl\nV:1.2\n\nP:zlib\nV:1.3\n\n",
		"etc/passwd":              "root:x:0:0:root:/root:/bin/sh\n# comment\nbroken\nlink:x:200:200::/var/lib/link:/bin/false\n",
		"etc/group":               "link:x:200:root,link\n",
		"etc/inittab":             "::sysinit:/etc/init\n# ::respawn:/bin/no\nnull::respawn:/opt/link\n",
		"etc/systemd/system/multi-user.target.wants/ssh.service": "",
		"etc/ssh/sshd_config":             "#Port 99\nPort 2222\nListenAddress 10.0.0.1\nPermitRootLogin no\n",
		"lib/systemd/system/dbus.socket":  "[Socket]\nListenStream=/run/dbus\n",
		"lib/systemd/system/other.socket": "[Unit]\n",
	})
	require.Equal(t, map[string]string{"curl": "7.88", "git": "2.39", "tiny": "3", "musl": "1.2", "zlib": "1.3"}, i.Packages)
	require.Equal(t, map[string]string{"root": "0 0 /root /bin/sh", "link": "200 200 /var/lib/link /bin/false"}, i.Users)
	require.Equal(t, map[string]string{"link": "200 root,link"}, i.Groups)
	require.Equal(t, map[string]string{"ssh.service": "multi-user.target", "/etc/init": "inittab sysinit", "/opt/link": "inittab respawn"},
		i.Services)
	require.Equal(t, map[string]string{"/etc/ssh/sshd_config": "Port 2222, ListenAddress 10.0.0.1",
		"/lib/systemd/system/dbus.socket": "ListenStream=/run/dbus"}, i.Listening)
	require.Empty(t, inventory.Read(files{}).Packages)
}

func TestDiffOfInventories(t *testing.T) {
	require.Equal(t, []inventory.Change{{Name: "a", Now: "1", State: "added"}, {Name: "b", Was: "1", Now: "2", State: "changed"},
		{Name: "c", Was: "3", State: "removed"}},
		inventory.Diff(map[string]string{"b": "1", "c": "3", "d": "4"}, map[string]string{"a": "1", "b": "2", "d": "4"}))
}
