package layer

import (
	"io"
	"os"
	"path/filepath"
)

// Files reads the files of a stacked tree. Their owners may forbid that to a process outside the
// user namespace they were made in.
type Files struct {
	Store  *Store
	Layers []string // digests, lowest first
	Tree   *Tree    // what they come to
}

// Path is where the file of a node lies.
func (f *Files) Path(n *Node) string {
	return filepath.Join(f.Store.TreeDir(f.Layers[n.Layer]), n.Path)
}

// Open opens the file of a node.
func (f *Files) Open(n *Node) (*os.File, error) { return os.Open(f.Path(n)) }

const mostRead = 128 << 20 // bytes; what people and package databases keep is smaller

// Read is a file's content, through links inside the tree; nil if it is not there, cannot be read or is
// larger than 128 MiB.
func (f *Files) Read(name string) []byte {
	n := f.Tree.Follow(name)
	if n == nil || n.Kind != File {
		return nil
	}
	file, err := f.Open(n)
	if err != nil {
		return nil
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, mostRead+1))
	if err != nil || len(text) > mostRead {
		return nil
	}
	return text
}

// Names lists what lies below a folder, at any depth.
func (f *Files) Names(dir string) []string { return f.Tree.Under(dir) }
