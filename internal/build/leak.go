package build

import (
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"context"
	"fmt"
	"io"
	"os"
	"runtime"
	"sync/atomic"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
	"golang.org/x/sync/errgroup"

	"zygos/internal/layer"
	"zygos/internal/secret"
)

// LeakError says that a secret lies in the tree that would be captured.
type LeakError struct {
	Image, Variant string
	Stage          string // that wrote it, "" for the base
	Secret, Where  string // name, and place in words
}

func (e *LeakError) Error() string {
	return fmt.Sprintf("the secret %s is %s, %s; %s", e.Secret, e.Where, e.By(), e.Do())
}

// By says in words who wrote it.
func (e *LeakError) By() string {
	if e.Stage == "" {
		return "part of the base"
	}
	return "written by stage " + e.Stage
}

// Do says what to do.
func (e *LeakError) Do() string {
	return "let the script remove it, or read the secret from /run/zygos/secrets, which never becomes part of an image"
}

// searchSecrets looks for every secret in the tree that will be captured: names, link targets,
// attributes and contents, also of compressed files and archives.
func (b *branch) searchSecrets(ctx context.Context) error {
	if b.secrets == nil {
		return nil
	}
	tree, err := b.merged()
	if err != nil {
		return err
	}
	nodes := tree.Nodes()
	tell := b.progress("search for secrets", nodes)
	var next atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	for range runtime.NumCPU() {
		group.Go(func() error {
			s := searcher{m: b.secrets, buf: make([]byte, 64<<10), left: mostUnpacked}
			for {
				i := int(next.Add(1)) - 1
				if i >= len(nodes) || ctx.Err() != nil {
					return ctx.Err()
				}
				name, where, err := s.node(nodes[i], b.content(nodes[i]))
				if err != nil {
					return fmt.Errorf("search for secrets in /%s: %w", nodes[i].Path, err)
				}
				if name != "" {
					return b.leak(b.maker(nodes[i]), name, where, nodes[i])
				}
				tell(nodes[i].Size)
			}
		})
	}
	return group.Wait()
}

func (b *branch) leak(stage, name, where string, n *layer.Node) *LeakError {
	if where == "" {
		where = "in"
	}
	return &LeakError{Image: b.plan.Image, Variant: b.shape.Variant, Stage: stage, Secret: name, Where: where + " /" + n.Path}
}

// maker is the stage that a node is from, "" for the base.
func (b *branch) maker(n *layer.Node) string {
	if i := n.Layer - (len(b.layers) - len(b.makers)); i >= 0 {
		return b.makers[i]
	}
	return ""
}

// Archives in archives are opened that deep, and that many bytes of one file are unpacked: more
// is no place where a script forgets a secret.
const (
	deepest      = 3
	mostUnpacked = 8 << 30
)

// searcher looks through one file after another.
type searcher struct {
	m    *secret.Matcher
	buf  []byte
	left int64
}

func (s *searcher) node(n *layer.Node, content string) (name, where string, err error) {
	if name, ok := s.m.In(n.Path); ok {
		return name, "in the name of", nil
	}
	if name, ok := s.m.In(n.Link); ok {
		return name, "in the target of the link", nil
	}
	for attribute, value := range n.Xattrs {
		if name, ok := s.m.In(attribute + "=" + string(value)); ok {
			return name, "in an attribute of", nil
		}
	}
	if n.Kind != layer.File || n.Same != "" || n.Size == 0 {
		return "", "", nil
	}
	f, err := os.Open(content)
	if err != nil {
		return "", "", err
	}
	defer f.Close()
	name, found, err := s.m.Scan(f, s.buf)
	if found || err != nil {
		return name, "", err
	}
	s.left = mostUnpacked
	if name = s.inside(f, n.Size); name != "" {
		where = "in the compressed contents of"
	}
	return name, where, nil
}

// inside looks through what a file holds if it is compressed. What cannot be unpacked holds nothing.
func (s *searcher) inside(f *os.File, size int64) string {
	head := make([]byte, 6)
	if _, err := f.ReadAt(head, 0); err != nil {
		return ""
	}
	if string(head[:4]) == "PK\x03\x04" {
		archive, err := zip.NewReader(f, size)
		if err != nil {
			return ""
		}
		for _, entry := range archive.File {
			if r, err := entry.Open(); err == nil {
				name := s.unpacked(r, deepest)
				r.Close()
				if name != "" {
					return name
				}
			}
		}
		return ""
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return ""
	}
	r, close := unpacker(head, f)
	if r == nil {
		return ""
	}
	defer close()
	return s.unpacked(r, deepest)
}

// unpacker reads what a compressed stream holds, nil if it is none.
func unpacker(head []byte, r io.Reader) (plain io.Reader, close func()) {
	none := func() {}
	switch {
	case string(head[:2]) == "\x1f\x8b":
		if z, err := gzip.NewReader(r); err == nil {
			return z, none
		}
	case string(head[:4]) == "\x28\xb5\x2f\xfd":
		if z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20)); err == nil {
			return z, z.Close
		}
	case string(head[:3]) == "BZh":
		return bzip2.NewReader(r), none
	case string(head[:6]) == "\xfd7zXZ\x00":
		if z, err := xz.NewReader(r); err == nil {
			return z, none
		}
	}
	return nil, none
}

// unpacked looks through a stream, and through what it holds if that is compressed once more.
func (s *searcher) unpacked(r io.Reader, depth int) string {
	head := make([]byte, 6)
	n, _ := io.ReadFull(r, head) // a shorter stream is searched as it is
	search := s.m.Search()
	if name, ok := search.Find(head[:n]); ok {
		return name
	}
	if n == len(head) && depth > 0 {
		if plain, close := unpacker(head, io.MultiReader(bytes.NewReader(head), r)); plain != nil {
			defer close()
			return s.unpacked(plain, depth-1)
		}
	}
	for s.left > 0 {
		n, err := r.Read(s.buf)
		s.left -= int64(n)
		if name, ok := search.Find(s.buf[:n]); ok {
			return name
		}
		if err != nil {
			return "" // the end, or damage: nobody else can read on either
		}
	}
	return ""
}
