package build

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"compress/bzip2"
	"context"
	"io"
	"os"
	"strings"
	"sync/atomic"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"zygos/internal/layer"
	"zygos/internal/secret"
)

// Archives in archives are opened that deep, and that many bytes of one file are unpacked: more
// is no place where a script forgets a secret. Of all files of a tree together, so many bytes are unpacked too. A zip archive is
// opened as a file of its own only.
const (
	deepest         = 3
	mostUnpacked    = 2 << 30
	mostUnpackedAll = 8 << 30
)

// searcher looks through one file after another.
type searcher struct {
	ctx  context.Context
	m    *secret.Matcher
	buf  []byte
	left int64
	all  *unpacking
}

// unpacking is what several searchers unpack together.
type unpacking struct {
	left atomic.Int64 // bytes
	over atomic.Int64 // files that were not unpacked to their ends
}

func newUnpacking() *unpacking {
	u := &unpacking{}
	u.left.Store(mostUnpackedAll)
	return u
}

func newSearcher(ctx context.Context, m *secret.Matcher, all *unpacking) *searcher {
	return &searcher{ctx: ctx, m: m, buf: make([]byte, 64<<10), all: all}
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
	name, found, err := s.m.Scan(cancellable{s.ctx, f}, s.buf)
	if found || err != nil {
		return name, "", err
	}
	s.left = min(mostUnpacked, s.all.left.Load())
	began := s.left
	if name = s.inside(f, n.Size); name != "" {
		where = "in the compressed contents of"
	}
	s.all.left.Add(s.left - began)
	if s.left <= 0 {
		s.all.over.Add(1)
	}
	return name, where, nil
}

// inside looks through what a file holds if it is compressed or an archive. What cannot be unpacked
// holds nothing.
func (s *searcher) inside(f *os.File, size int64) string {
	head := make([]byte, tarHead)
	n, _ := f.ReadAt(head, 0) // a shorter file has a shorter head
	if strings.HasPrefix(string(head), "PK\x03\x04") {
		return s.zip(f, size)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return ""
	}
	if isTar(head[:n]) {
		return s.unpacked(f, deepest)
	}
	r, close := unpacker(head[:n], f)
	if r == nil {
		return ""
	}
	defer close()
	return s.unpacked(r, deepest)
}

func (s *searcher) zip(f *os.File, size int64) string {
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

const tarHead = 263 // bytes in which a tar header says that it is one (POSIX.1-2001, pax, offset 257)

func isTar(head []byte) bool { return len(head) >= tarHead && string(head[257:262]) == "ustar" }

// compressed says whether a stream that begins so is compressed.
func compressed(head []byte) bool {
	for _, magic := range []string{"\x1f\x8b", "\x28\xb5\x2f\xfd", "BZh", "\xfd7zXZ\x00"} {
		if strings.HasPrefix(string(head), magic) {
			return true
		}
	}
	return false
}

// unpacker reads what a compressed stream holds, nil if it is none.
func unpacker(head []byte, r io.Reader) (plain io.Reader, close func()) {
	none := func() {}
	is := func(magic string) bool { return strings.HasPrefix(string(head), magic) }
	switch {
	case is("\x1f\x8b"):
		if z, err := gzip.NewReader(r); err == nil {
			return z, none
		}
	case is("\x28\xb5\x2f\xfd"):
		if z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20)); err == nil {
			return z, z.Close
		}
	case is("BZh"):
		return bzip2.NewReader(r), none
	case is("\xfd7zXZ\x00"):
		if z, err := xz.NewReader(r); err == nil {
			return z, none
		}
	}
	return nil, none
}

// unpacked looks through a stream, and through what it holds if that is compressed once more or an
// archive.
func (s *searcher) unpacked(r io.Reader, depth int) string {
	in := &searched{s: s, r: r, search: s.m.Search()}
	head := bufio.NewReader(in)
	first, _ := head.Peek(tarHead) // a shorter stream is searched as it is
	if depth > 0 && in.found == "" {
		if plain, close := unpacker(first, head); plain != nil {
			defer close()
			return s.unpacked(plain, depth-1)
		}
		if isTar(first) {
			if name := s.members(tar.NewReader(head), depth-1); name != "" {
				return name
			}
		}
	}
	for in.found == "" {
		if _, err := in.Read(s.buf); err != nil {
			break // the end, or damage: nobody else can read on either
		}
	}
	return in.found
}

// members looks through those members of an archive that are compressed or archives; the others are
// searched as the archive is read.
func (s *searcher) members(archive *tar.Reader, depth int) string {
	for {
		h, err := archive.Next()
		if err != nil {
			return ""
		}
		member := bufio.NewReader(archive)
		head, _ := member.Peek(tarHead) // a shorter member is searched as it is
		if h.Typeflag != tar.TypeReg || !isTar(head) && !compressed(head) {
			continue
		}
		if name := s.unpacked(member, depth); name != "" {
			return name
		}
	}
}

// searched is a stream that is searched while it is read.
type searched struct {
	s      *searcher
	r      io.Reader
	search *secret.Search
	found  string
}

func (r *searched) Read(p []byte) (int, error) {
	if r.found != "" || r.s.left <= 0 || r.s.ctx.Err() != nil {
		return 0, io.EOF
	}
	n, err := r.r.Read(p)
	r.s.left -= int64(n)
	if name, ok := r.search.Find(p[:n]); ok {
		r.found = name
	}
	return n, err
}

// cancellable is a stream that ends with an error when the context does.
type cancellable struct {
	ctx context.Context
	r   io.Reader
}

func (c cancellable) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}
