// Package seal removes from a tree what clones must not share: identities, keys, logs, caches.
// It works on the tree's description alone and never follows a link.
package seal

import (
	"crypto/sha256"
	"encoding/hex"
	"path"
	"slices"
	"strings"

	"zygos/internal/layer"
)

// Group is a kind of thing that clones must not share.
type Group struct {
	Name string
	Why  string
	// Patterns of paths, as in path.Match; a last element "**" takes everything below a folder.
	Remove []string
	Empty  []string // these keep their name, owner and mode, and lose their content
	Fresh  bool     // only what is as the base brought it
	While  string   // only while the tree has this path; "" for always
	// Add is what the tree gets instead, and what it lacks for more; nil for nothing.
	Add func(tree *layer.Tree, scripts []Script) (files []added, lacks []string)
}

// Groups is the table, in the order in which they are reported. Definitions name them.
var Groups = []Group{
	{Name: "identity", Why: "a clone draws its own machine identity at first boot",
		Remove: []string{"var/lib/dbus/machine-id", "etc/hostid", "etc/iscsi/initiatorname.iscsi", "etc/nvme/hostnqn", "etc/nvme/hostid",
			"var/lib/NetworkManager/secret_key", "var/lib/systemd/credential.secret", "etc/docker/key.json", "etc/krb5.keytab"},
		Empty: []string{"etc/machine-id"}},
	{Name: "host-name", Why: "the base's is that of the host that it was made on; a stage may set one", Fresh: true,
		Empty: []string{"etc/hostname"}},
	{Name: "network-names", Why: "the network cards of a clone have addresses of their own",
		Remove: []string{"etc/udev/rules.d/70-persistent-*.rules", "etc/udev/rules.d/*-persistent-net.rules",
			"etc/systemd/network/*-persistent-net.link"}},
	{Name: "ssh-host-keys", Why: "two hosts with one key cannot be told apart",
		Remove: []string{"etc/ssh/ssh_host_*_key", "etc/ssh/ssh_host_*_key.pub", "etc/dropbear/dropbear_*_host_key"}},
	{Name: "drawn-keys", Why: "packages drew them when they were installed; hosts that share a key answer for each other",
		Remove: []string{"etc/ssl/private/ssl-cert-snakeoil.key", "etc/ssl/certs/ssl-cert-snakeoil.pem", "etc/bind/rndc.key", "etc/rndc.key",
			"etc/unbound/unbound_*.key", "etc/unbound/unbound_*.pem", "etc/pki/tls/private/localhost.key", "etc/pki/tls/certs/localhost.crt",
			"etc/xrdp/rsakeys.ini", "etc/cockpit/ws-certs.d/0-self-signed*", "var/lib/samba/private/*.tdb"}},
	{Name: "registrations", Why: "an agent that is registered speaks for one host",
		Remove: []string{"var/lib/puppet/ssl/**", "etc/puppetlabs/puppet/ssl/**", "etc/salt/pki/minion/**", "etc/salt/minion_id",
			"etc/chef/client.pem", "var/lib/kubelet/pki/**", "etc/kubernetes/kubelet.conf"}},
	{Name: "logs", Why: "they tell of the build, not of the clone",
		Remove: []string{"var/log/journal/**", "var/log/*.gz", "var/log/*.[0-9]", "var/log/*.old", "var/log/*/*.gz", "var/log/*/*.[0-9]"},
		Empty:  []string{"var/log/**"}},
	{Name: "history", Why: "typed commands may hold secrets",
		Remove: []string{"root/.*_history", "home/*/.*_history", "root/.lesshst", "home/*/.lesshst", "root/.viminfo", "home/*/.viminfo",
			"root/.wget-hsts", "home/*/.wget-hsts"}},
	{Name: "package-caches", Why: "they can be fetched again and are out of date soon",
		Remove: []string{"var/cache/apt/archives/*.deb", "var/cache/apt/archives/partial/**", "var/cache/apt/*.bin", "var/lib/apt/lists/**",
			"var/cache/debconf/*-old",
			"var/lib/dpkg/*-old", "var/cache/dnf/**", "var/cache/yum/**", "var/cache/apk/**", "var/cache/zypp/**", "root/.cache/**"}},
	{Name: "temporary", Why: "nothing in them is meant to last", Remove: []string{"tmp/**", "var/tmp/**", "run/**"}},
	{Name: "random-seed", Why: "clones with one seed draw the same random numbers",
		Remove: []string{"var/lib/systemd/random-seed", "var/lib/urandom/random-seed", "var/lib/random-seed", "var/lib/seedrng/**",
			"boot/efi/loader/random-seed", "efi/loader/random-seed", "boot/loader/random-seed"}},
	{Name: "leases", Why: "an address belongs to one host",
		Remove: []string{"var/lib/dhcp/*.lease*", "var/lib/dhclient/**", "var/lib/dhcpcd/**", "var/lib/NetworkManager/*.lease",
			"var/lib/systemd/network/**"}},
	{Name: "cloud-init", Why: "a clone is another instance",
		Remove: []string{"var/lib/cloud/instance", "var/lib/cloud/instances/**", "var/lib/cloud/data/**", "var/lib/cloud/sem/**"}},
	{Name: "cloud-init-network", Why: "it is written anew for each instance, and holds the address of a network card",
		While: "usr/bin/cloud-init",
		Remove: []string{"etc/netplan/50-cloud-init.yaml", "etc/network/interfaces.d/50-cloud-init*", "etc/systemd/network/10-cloud-init-*",
			"etc/NetworkManager/system-connections/cloud-init-*"}},
	{Name: "subscription", Why: "a clone registers itself",
		Remove: []string{"etc/pki/consumer/*", "etc/pki/entitlement/*", "var/lib/rhsm/facts/*", "etc/zypp/credentials.d/*"}},
	{Name: "first-start", Why: "what was taken away comes back on each clone",
		Remove: []string{"var/lib/zygos/**", "var/log/zygos/**"}, Add: firstStart},
}

// Names lists the groups.
func Names() (names []string) {
	for _, g := range Groups {
		names = append(names, g.Name)
	}
	return names
}

// Result says what a group removed.
type Result struct {
	Group string   `json:"group"`
	Bytes int64    `json:"bytes"`
	Paths []string `json:"paths,omitempty"` // removed or emptied, sorted
	Kept  bool     `json:"kept,omitempty"`  // the definition asked to leave the group alone
	Added []string `json:"added,omitempty"` // paths that the tree got
	Lacks []string `json:"lacks,omitempty"` // what the tree would need for more, in words
}

// Request is what is said of how a tree is sealed.
type Request struct {
	Keep    []string // groups that are left alone
	Epoch   int64    // of what the layer holds, seconds since 1970
	Scripts []Script // of first boot, in order
}

// Seal returns the layer that seals a tree, the contents of its files that are not empty, by path, and for each group what
// it did.
func Seal(tree *layer.Tree, o Request) (x layer.Index, contents map[string][]byte, _ []Result) {
	contents = map[string][]byte{}
	results := make([]Result, 0, len(Groups))
	done := map[string]bool{}
	nodes := tree.Nodes()
	for _, g := range Groups {
		r := Result{Group: g.Name, Kept: slices.Contains(o.Keep, g.Name)}
		for _, n := range nodes {
			if r.Kept || done[n.Path] || g.Fresh && n.Layer > 0 || g.While != "" && tree.Lookup(g.While) == nil {
				continue
			}
			e, ok := g.replace(n, o.Epoch)
			if !ok || under(done, n.Path) {
				continue
			}
			done[n.Path] = e.Kind == layer.Whiteout
			r.Bytes += n.Size
			r.Paths = append(r.Paths, n.Path)
			x = append(x, e)
			if n.Kind == layer.Dir {
				r.Bytes += below(tree, n.Path)
			}
		}
		if g.Add != nil && !r.Kept {
			var files []added
			files, r.Lacks = g.Add(tree, o.Scripts)
			for _, f := range files {
				if e, new := f.entry(tree, o.Epoch); new {
					x = append(x, e)
					contents[f.path] = []byte(f.text)
					r.Added = append(r.Added, f.path)
				}
			}
			slices.Sort(r.Added)
		}
		results = append(results, r)
	}
	x = append(x, folders(tree, x, o.Epoch)...)
	x.Sort()
	return x, contents, results
}

// entry is a file as part of a layer; false if the tree has it as it is.
func (f *added) entry(tree *layer.Tree, epoch int64) (layer.Entry, bool) {
	e := layer.Entry{Path: f.path, Kind: layer.Symlink, Mode: f.mode, MTime: epoch, Link: f.link}
	if f.link == "" {
		sum := sha256.Sum256([]byte(f.text))
		e.Kind, e.Size, e.Digest = layer.File, int64(len(f.text)), hex.EncodeToString(sum[:])
	}
	n := tree.Lookup(f.path)
	return e, n == nil || n.Kind != e.Kind || n.Mode != e.Mode || n.Digest != e.Digest || n.Link != e.Link
}

// folders are the folders above a layer's entries, as they are in the tree, or new.
func folders(tree *layer.Tree, x layer.Index, epoch int64) (list layer.Index) {
	have := map[string]bool{}
	for i := range x {
		for dir := path.Dir(x[i].Path); !have[dir]; dir = path.Dir(dir) {
			have[dir] = true
			if n := tree.Lookup(dir); n != nil {
				list = append(list, n.Entry)
			} else {
				list = append(list, layer.Entry{Path: dir, Kind: layer.Dir, Mode: 0o755, MTime: epoch})
			}
		}
	}
	return list
}

// replace is the entry that takes a node's place, if the group concerns it.
func (g *Group) replace(n *layer.Node, epoch int64) (layer.Entry, bool) {
	if matches(g.Remove, n.Path) {
		return layer.Entry{Path: n.Path, Kind: layer.Whiteout}, true
	}
	if n.Kind == layer.File && n.Size > 0 && matches(g.Empty, n.Path) {
		return layer.Entry{Path: n.Path, Kind: layer.File, Mode: n.Mode, UID: n.UID, GID: n.GID, MTime: epoch, Digest: emptyDigest,
			Xattrs: n.Xattrs}, true
	}
	return layer.Entry{}, false
}

const emptyDigest = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855" // SHA-256 of nothing

func matches(patterns []string, p string) bool {
	for _, pattern := range patterns {
		if dir, ok := strings.CutSuffix(pattern, "/**"); ok {
			if strings.HasPrefix(p, dir+"/") {
				return true
			}
			continue
		}
		plain := strings.IndexAny(pattern, "*?[\\")
		if plain < 0 && pattern == p {
			return true
		}
		if plain < 0 || !strings.HasPrefix(p, pattern[:plain]) { // most of them: what follows is slow
			continue
		}
		if ok, err := path.Match(pattern, p); ok && err == nil {
			return true
		}
	}
	return false
}

// under says whether a folder above a path is removed already.
func under(removed map[string]bool, p string) bool {
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		if removed[dir] {
			return true
		}
	}
	return false
}

func below(tree *layer.Tree, dir string) (bytes int64) {
	for _, p := range tree.Under(dir) {
		bytes += tree.Lookup(p).Size
	}
	return bytes
}
