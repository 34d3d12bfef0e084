package layer

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Node is one name of a merged tree: the entry, and which layer of the stack holds its content.
type Node struct {
	Entry
	Layer int // position in the stack, 0 lowest
	// Group is the same for all names of one file and different for different files;
	// empty for a file that never had a second name.
	Group string
}

// Tree is a stack of layers merged into one view.
type Tree struct {
	nodes  map[string]*Node
	links  map[string]map[string]bool // groups, and the paths in each
	levels int
}

// Merge stacks indexes, lowest first, applying whiteouts and opaque folders.
func Merge(stack ...Index) *Tree {
	t := &Tree{nodes: map[string]*Node{}, links: map[string]map[string]bool{}}
	for _, x := range stack {
		t.Push(x)
	}
	return t
}

// Push puts one more layer on top.
func (t *Tree) Push(x Index) {
	level := t.levels
	t.levels++
	firsts := map[string]bool{}
	for i := range x {
		if x[i].Same != "" {
			firsts[x[i].Same] = true
		}
	}
	gone := map[string]bool{} // folders whose lower content is hidden
	for i := range x {
		e := &x[i]
		old := t.nodes[e.Path]
		if e.Kind == Whiteout || e.Opaque || (old != nil && old.Kind == Dir && e.Kind != Dir) {
			gone[e.Path] = true
		}
	}
	if len(gone) > 0 {
		t.hide(gone)
	}
	for i := range x {
		e := &x[i]
		if e.Kind == Whiteout {
			continue
		}
		n := &Node{Entry: *e, Layer: level}
		n.Opaque = false
		if firsts[e.Path] {
			n.Group = groupName(level, e.Path)
		} else if e.Same != "" {
			n.Group = groupName(level, e.Same)
		}
		t.put(e.Path, n)
	}
}

// put gives a path a node, or takes it away with nil.
func (t *Tree) put(p string, n *Node) {
	if old := t.nodes[p]; old != nil && old.Group != "" {
		if delete(t.links[old.Group], p); len(t.links[old.Group]) == 0 {
			delete(t.links, old.Group)
		}
	}
	if n == nil {
		delete(t.nodes, p)
		return
	}
	t.nodes[p] = n
	if n.Group != "" {
		if t.links[n.Group] == nil {
			t.links[n.Group] = map[string]bool{}
		}
		t.links[n.Group][p] = true
	}
}

// hide removes the paths given and everything below them.
func (t *Tree) hide(gone map[string]bool) {
	for p := range t.nodes {
		for at := p; at != "."; at = path.Dir(at) {
			if gone[at] {
				t.put(p, nil)
				break
			}
		}
	}
}

func groupName(level int, first string) string { return strconv.Itoa(level) + "/" + first }

// Lookup finds the node at a path, nil if there is none.
func (t *Tree) Lookup(p string) *Node { return t.nodes[p] }

// Nodes lists the tree sorted by path, the root first. In each hard-link group the first
// name has an empty Same, the others name the first: whatever happened to the group's
// names in the layers, the list is consistent in itself.
func (t *Tree) Nodes() []*Node {
	list := make([]*Node, 0, len(t.nodes))
	for _, n := range t.nodes {
		list = append(list, n)
	}
	slices.SortFunc(list, func(a, b *Node) int { return order(a.Path, b.Path) })
	first := map[string]string{}
	for i, n := range list {
		if n.Group == "" {
			continue
		}
		same := first[n.Group]
		if same == "" {
			first[n.Group] = n.Path
		}
		if n.Same != same {
			c := *n
			c.Same = same
			list[i] = &c
		}
	}
	return list
}

// Under lists the paths below a folder, sorted; the folder itself is not in the list.
func (t *Tree) Under(dir string) []string {
	var list []string
	for p := range t.nodes {
		if strings.HasPrefix(p, dir+"/") {
			list = append(list, p)
		}
	}
	slices.SortFunc(list, order)
	return list
}

// TreeDigest names the tree that a stack of layers makes: the digest of the layers' digests,
// lowest first, an empty layer left out.
func TreeDigest(layers []string) string { return NewTreeHash(layers).Digest() }

// TreeHash makes the digests of a tree and of those that more layers make of it.
type TreeHash struct{ hash hash.Hash }

// NewTreeHash begins with the tree that a stack of layers makes.
func NewTreeHash(layers []string) *TreeHash {
	t := &TreeHash{sha256.New()}
	for _, digest := range layers {
		t.Push(digest)
	}
	return t
}

// Push puts one more layer on top.
func (t *TreeHash) Push(digest string) {
	if digest != EmptyDigest {
		_, _ = io.WriteString(t.hash, digest+"\n") // a hash never fails
	}
}

// Digest names the tree as it stands.
func (t *TreeHash) Digest() string { return hex.EncodeToString(t.hash.Sum(nil)) }

// EmptyDigest is the digest of a layer without entries.
var EmptyDigest = Index{}.Digest()
