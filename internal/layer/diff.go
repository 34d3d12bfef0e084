package layer

import (
	"bytes"
	"maps"
	"path"
	"slices"
)

// Change is one name that differs between two trees.
type Change struct {
	Path  string   `json:"path"`
	State string   `json:"state"`          // added, removed or changed
	What  []string `json:"what,omitempty"` // of a changed one: type, content, mode, owner, target, device, attributes
	Was   *Node    `json:"-"`
	Now   *Node    `json:"-"`
}

// Diff lists what differs between two trees, by path, from their indexes alone. Times do not count.
// Of a folder that was added or removed as a whole, every name below it is listed too.
func Diff(was, now *Tree) []Change {
	list := []Change{}
	for _, n := range now.Nodes() {
		old := was.Lookup(n.Path)
		if old == nil {
			list = append(list, Change{Path: n.Path, State: "added", Now: n})
		} else if what := differs(&old.Entry, &n.Entry); what != nil {
			list = append(list, Change{Path: n.Path, State: "changed", What: what, Was: old, Now: n})
		}
	}
	for _, n := range was.Nodes() {
		if now.Lookup(n.Path) == nil {
			list = append(list, Change{Path: n.Path, State: "removed", Was: n})
		}
	}
	slices.SortFunc(list, func(a, b Change) int { return order(a.Path, b.Path) })
	return list
}

func differs(a, b *Entry) (what []string) {
	if a.Kind != b.Kind {
		return []string{"type"}
	}
	for _, c := range []struct {
		what    string
		differs bool
	}{
		{"content", a.Digest != b.Digest}, {"mode", a.Mode != b.Mode}, {"owner", a.UID != b.UID || a.GID != b.GID}, {"target", a.Link != b.Link},
		{"device", a.Major != b.Major || a.Minor != b.Minor}, {"attributes", !maps.EqualFunc(a.Xattrs, b.Xattrs, bytes.Equal)},
	} {
		if c.differs {
			what = append(what, c.what)
		}
	}
	return what
}

// Size is the sum of a tree's file sizes, each hard-link group counted once.
func (t *Tree) Size() (bytes int64) {
	for _, n := range t.Nodes() {
		if n.Same == "" {
			bytes += n.Entry.Size
		}
	}
	return bytes
}

// Follow finds the node at a path, through links in it and at its end; nil if there is none.
func (t *Tree) Follow(p string) *Node {
	const most = 40 // links, as the kernel follows
	for range most {
		n := t.Lookup(p)
		if n != nil && n.Kind != Symlink {
			return n
		}
		at := p // the link in the way
		for n == nil && at != "." {
			at = path.Dir(at)
			if n = t.Lookup(at); n != nil && n.Kind != Symlink {
				return nil
			}
		}
		if n == nil {
			return nil
		}
		to := n.Link
		if !path.IsAbs(to) {
			to = path.Join(path.Dir("/"+at), to)
		}
		p = path.Clean("/" + path.Join(to, p[len(at):]))[1:]
		if p == "" {
			p = "."
		}
	}
	return nil
}
