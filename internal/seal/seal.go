// Package seal removes from a tree what clones must not share: identities, keys, logs, caches.
// It works on the tree's description alone and never follows a link.
package seal

import (
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
}

// Groups is the table, in the order in which they are reported. Definitions name them.
var Groups = []Group{
	{"identity", "a clone draws its own machine identity at first boot",
		[]string{"var/lib/dbus/machine-id", "etc/hostid", "etc/udev/rules.d/70-persistent-*.rules", "etc/iscsi/initiatorname.iscsi"},
		[]string{"etc/machine-id"}},
	{"ssh-host-keys", "two hosts with one key cannot be told apart",
		[]string{"etc/ssh/ssh_host_*_key", "etc/ssh/ssh_host_*_key.pub", "etc/dropbear/dropbear_*_host_key"}, nil},
	{"logs", "they tell of the build, not of the clone",
		[]string{"var/log/journal/**", "var/log/*.gz", "var/log/*.[0-9]", "var/log/*.old", "var/log/*/*.gz", "var/log/*/*.[0-9]"},
		[]string{"var/log/**"}},
	{"history", "typed commands may hold secrets",
		[]string{"root/.*_history", "home/*/.*_history", "root/.lesshst", "home/*/.lesshst", "root/.viminfo", "home/*/.viminfo",
			"root/.wget-hsts", "home/*/.wget-hsts"}, nil},
	{"package-caches", "they can be fetched again and are out of date soon",
		[]string{"var/cache/apt/archives/*.deb", "var/cache/apt/archives/partial/**", "var/cache/apt/*.bin", "var/lib/apt/lists/**",
			"var/cache/debconf/*-old",
			"var/lib/dpkg/*-old", "var/cache/dnf/**", "var/cache/yum/**", "var/cache/apk/**", "var/cache/zypp/**", "root/.cache/**"}, nil},
	{"temporary", "nothing in them is meant to last",
		[]string{"tmp/**", "var/tmp/**", "run/**"}, nil},
	{"random-seed", "clones with one seed draw the same random numbers",
		[]string{"var/lib/systemd/random-seed", "var/lib/urandom/random-seed", "var/lib/random-seed", "var/lib/seedrng/**"}, nil},
	{"leases", "an address belongs to one host",
		[]string{"var/lib/dhcp/*.lease*", "var/lib/dhclient/**", "var/lib/dhcpcd/**", "var/lib/NetworkManager/*.lease",
			"var/lib/systemd/network/**"}, nil},
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
}

// Seal returns the layer that seals a tree, and for each group what it removed. Times in the
// layer are epoch (seconds since 1970).
func Seal(tree *layer.Tree, keep []string, epoch int64) (layer.Index, []Result) {
	var x layer.Index
	results := make([]Result, 0, len(Groups))
	done := map[string]bool{}
	nodes := tree.Nodes()
	for _, g := range Groups {
		r := Result{Group: g.Name, Kept: slices.Contains(keep, g.Name)}
		for _, n := range nodes {
			if r.Kept || done[n.Path] {
				continue
			}
			e, ok := g.replace(n, epoch)
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
		results = append(results, r)
	}
	x = append(x, folders(tree, x)...)
	x.Sort()
	return x, results
}

// folders are the folders above a layer's entries, as they are in the tree.
func folders(tree *layer.Tree, x layer.Index) (list layer.Index) {
	have := map[string]bool{}
	for i := range x {
		for dir := path.Dir(x[i].Path); !have[dir]; dir = path.Dir(dir) {
			have[dir] = true
			if n := tree.Lookup(dir); n != nil {
				list = append(list, n.Entry)
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
