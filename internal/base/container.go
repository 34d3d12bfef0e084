package base

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/layer"
)

// container is a container image (OCI Image Format Specification 1.1): an image layout in a tar, the index of one in a folder, or an image
// in a registry. Its layers, one over the other, are the tree.
var container = Kind{Name: "container",
	Schemes: map[string]func(context.Context, *Importer, *definition.Base, string) error{
		inRegistry: func(ctx context.Context, im *Importer, b *definition.Base, from string) error {
			return im.pull(ctx, b, from)
		}},
	Takes: func(from string) bool {
		return strings.HasSuffix(from, ".oci.tar") || strings.HasPrefix(from, inRegistry) ||
			path.Base(from) == ocispec.ImageIndexFile && !isRemote(from)
	},
	Read: func(v definition.Values) (settings any, key string) {
		s := containerSays{platform: v.Text("platform"), credentials: v.Source("credentials"),
			realm: v.Text("realm"), environment: v.Bool("environment")}
		if n := strings.Count(s.platform, "/"); s.platform != "" && n != 1 && n != 2 {
			v.Problem(v.At("platform"), fmt.Sprintf("%q is no platform", s.platform), `write OS/ARCHITECTURE, for instance "linux/arm64"`)
		}
		if key = s.platform; s.environment {
			key += " with its environment"
		}
		return s, key
	},
	Whole: func(stored string, settings any) bool {
		file, err := os.Open(stored)
		if err != nil {
			return false
		}
		defer file.Close()
		l, err := openLayout(context.Background(), file)
		if err != nil {
			return true // whoever reads it says why
		}
		m, err := l.manifest(containerSettings(settings).wanted())
		return err == nil && !slices.ContainsFunc(m.Layers, func(d ocispec.Descriptor) bool {
			own, err := digest.Parse(d.Digest.String())
			if err == nil {
				_, _, err = l.find(own)
			}
			return err != nil
		})
	},
	Unpack: func(ctx context.Context, in io.Reader, file *os.File, settings any, to layer.Folder, limits layer.Limits) (layer.Index, error) {
		return beside(in, func() (layer.Index, error) {
			return takeContainer(ctx, file, containerSettings(settings), to, limits)
		})
	}}

// containerSays is what a definition says of a container image.
type containerSays struct {
	platform, credentials, realm string
	environment                  bool // taken over
}

func containerSettings(settings any) containerSays {
	s, _ := settings.(containerSays) // nothing was said
	return s
}

// wanted is the platform: this host's unless another one is named.
func (s containerSays) wanted() string { return cmp.Or(s.platform, "linux/"+runtime.GOARCH) }

// layout is where an image's content lies.
type layout struct {
	// find is the content of a digest, and its size.
	find func(d digest.Digest) (io.ReaderAt, int64, error)
	root []byte // the document that leads to the rest: an index or a manifest
}

const (
	mostFiles    = 100_000
	mostDocument = 4 << 20
	mostLayers   = 500
)

// openLayout opens a layout in a tar, or a document whose content lies beside it by its digests, as in the store and in a folder's layout.
func openLayout(ctx context.Context, file *os.File) (*layout, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	first := make([]byte, 1)
	if _, err := file.ReadAt(first, 0); err == nil && first[0] == '{' && info.Size() <= mostDocument {
		text := make([]byte, info.Size())
		_, err := file.ReadAt(text, 0)
		return &layout{root: text, find: func(d digest.Digest) (io.ReaderAt, int64, error) {
			dir := filepath.Dir(file.Name())
			if filepath.Base(file.Name()) == ocispec.ImageIndexFile {
				dir = filepath.Join(dir, ocispec.ImageBlobsDir, "sha256")
			}
			f, err := os.Open(filepath.Join(dir, d.Hex())) // closed when it is collected
			if err != nil {
				return nil, 0, fmt.Errorf("it has no content %s", d)
			}
			info, err := f.Stat()
			return f, info.Size(), err
		}}, err
	}
	at := map[string][2]int64{} // offset and size of each file in it
	whole := io.NewSectionReader(file, 0, info.Size())
	for in := tar.NewReader(whole); ; {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		if err = cmp.Or(ctx.Err(), err); err != nil {
			return nil, fmt.Errorf("its archive is damaged or cut short: %w", err)
		}
		from, err := whole.Seek(0, io.SeekCurrent) // the reader takes headers whole, and no more
		if err != nil {
			return nil, err
		}
		if h.Typeflag == tar.TypeReg {
			at[path.Clean(h.Name)] = [2]int64{from, h.Size}
		}
		if len(at) > mostFiles {
			return nil, fmt.Errorf("it has more than %d files", mostFiles)
		}
	}
	if _, ok := at[ocispec.ImageLayoutFile]; !ok {
		return nil, errors.New("it is no image layout: it has no oci-layout; for an archive of a root, give the file another name than .oci.tar")
	}
	index, ok := at["index.json"]
	if !ok || index[1] > mostDocument {
		return nil, errors.New("it has no index.json")
	}
	l := &layout{root: make([]byte, index[1]), find: func(d digest.Digest) (io.ReaderAt, int64, error) {
		where, ok := at["blobs/sha256/"+d.Hex()]
		if !ok {
			return nil, 0, fmt.Errorf("it has no content %s", d)
		}
		return io.NewSectionReader(file, where[0], where[1]), where[1], nil
	}}
	_, err = file.ReadAt(l.root, index[0])
	return l, err
}

// blob is the content of a descriptor, which is verified at its end.
func (l *layout) blob(d ocispec.Descriptor) (io.Reader, error) {
	want, err := digest.Parse(d.Digest.String())
	if err != nil {
		return nil, fmt.Errorf("it names content by another digest than SHA-256: %w", err)
	}
	r, size, err := l.find(want)
	if err == nil && size != d.Size {
		err = fmt.Errorf("its content %s has %d bytes, and %d are named", d.Digest, size, d.Size)
	}
	if err != nil {
		return nil, err
	}
	return &verifying{Reader: io.NewSectionReader(r, 0, size), hash: sha256.New(), want: want}, nil
}

// verifying is a reader that fails at its end if the content is another one.
type verifying struct {
	io.Reader
	hash hash.Hash
	want digest.Digest
}

func (v *verifying) Read(p []byte) (int, error) {
	n, err := v.Reader.Read(p)
	v.hash.Write(p[:n])
	if err == io.EOF && digest.From(v.hash) != v.want {
		err = fmt.Errorf("its content %s has another digest: it is damaged", v.want)
	}
	return n, err
}

// document reads one.
func (l *layout) document(d ocispec.Descriptor) ([]byte, error) {
	if d.Size > mostDocument {
		return nil, fmt.Errorf("a document of %d bytes is too large", d.Size)
	}
	r, err := l.blob(d)
	if err != nil {
		return nil, err
	}
	return bounded.All(context.Background(), r, d.Digest.String(), d.Size)
}

// manifest is that of a platform.
func (l *layout) manifest(platform string) (*ocispec.Manifest, error) {
	text := l.root
	for range 4 { // an index may name another
		var either struct {
			Manifests []ocispec.Descriptor `json:"manifests"`
			ocispec.Manifest
		}
		if err := json.Unmarshal(text, &either); err != nil {
			return nil, fmt.Errorf("a document of it: %w", err)
		}
		if either.Manifests == nil {
			if n := len(either.Layers); n == 0 || n > mostLayers {
				return nil, fmt.Errorf("it has %d layers", n)
			}
			return &either.Manifest, nil
		}
		d, err := choose(either.Manifests, platform)
		if err == nil {
			text, err = l.document(d)
		}
		if err != nil {
			return nil, err
		}
	}
	return nil, errors.New("its indexes name each other")
}

// choose finds the one for a platform, or the only one.
func choose(list []ocispec.Descriptor, platform string) (ocispec.Descriptor, error) {
	var names []string
	for _, d := range list {
		if p := d.Platform; p != nil {
			name := strings.TrimSuffix(p.OS+"/"+p.Architecture+"/"+p.Variant, "/")
			if name == platform || p.OS+"/"+p.Architecture == platform {
				return d, nil
			}
			names = append(names, name)
		}
	}
	if len(list) == 1 {
		return list[0], nil
	}
	return ocispec.Descriptor{}, fmt.Errorf("it has no image for %s; it has %s. Name one with platform = \"…\"", platform,
		cmp.Or(strings.Join(names, ", "), "none with a platform"))
}

// takeContainer makes a tree of the layers for a platform.
func takeContainer(ctx context.Context, file *os.File, says containerSays, to layer.Folder, limits layer.Limits) (layer.Index, error) {
	l, err := openLayout(ctx, file)
	if err != nil {
		return nil, err
	}
	m, err := l.manifest(says.wanted())
	if err != nil {
		return nil, err
	}
	var config ocispec.Image
	if says.environment {
		text, err := l.document(m.Config)
		if err == nil {
			err = json.Unmarshal(text, &config)
		}
		if err != nil {
			return nil, fmt.Errorf("its configuration: %w", err)
		}
	}
	u := union{last: map[string]place{}, names: map[place][]string{}, below: map[string][]string{}, linked: map[string]bool{}}
	u.begin()
	for i, d := range m.Layers { // which entry of each name stays
		if err := l.layer(ctx, d, func(n int, h *tar.Header, _ io.Reader) error { return u.see(place{i, n}, h, limits) }); err != nil {
			return nil, fmt.Errorf("layer %d: %w", i+1, err)
		}
		u.cover()
	}
	for _, name := range slices.Sorted(maps.Keys(u.last)) {
		u.names[u.last[name]] = append(u.names[u.last[name]], name)
	}
	return layer.Take(ctx, func(give func(*tar.Header, io.Reader) error) error {
		own := environment{give: give, on: says.environment}
		for i, d := range m.Layers {
			if err := l.layer(ctx, d, func(n int, h *tar.Header, r io.Reader) error { return u.give(place{i, n}, h, r, own.pass) }); err != nil {
				return fmt.Errorf("layer %d: %w", i+1, err)
			}
		}
		return own.end(config.Config.Env)
	}, to, limits)
}

// environment passes entries on, but for the file that says the environment.
type environment struct {
	give   func(*tar.Header, io.Reader) error
	on     bool
	before []byte
}

func (e *environment) pass(h *tar.Header, content io.Reader) (err error) {
	if !e.on || path.Clean(h.Name) != layer.EnvironmentFile {
		return e.give(h, content)
	}
	if h.Typeflag == tar.TypeReg {
		e.before, err = bounded.All(context.Background(), io.LimitReader(content, layer.MostEnvironment), h.Name, layer.MostEnvironment)
	}
	return err
}

// end gives the file with the variables of the image.
func (e *environment) end(list []string) error {
	if !e.on {
		return nil
	}
	text, err := layer.Environment(e.before, list)
	if err != nil {
		return err
	}
	return e.give(&tar.Header{Name: layer.EnvironmentFile, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))}, bytes.NewReader(text))
}

// layer gives each entry of a layer, with its number.
func (l *layout) layer(ctx context.Context, d ocispec.Descriptor, each func(n int, h *tar.Header, r io.Reader) error) error {
	blob, err := l.blob(d)
	if err != nil {
		return err
	}
	plain, done, err := decompress(blob)
	if err != nil {
		return err
	}
	defer done()
	in := tar.NewReader(plain)
	for n := 0; ; n++ {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := each(n, h, in); err != nil {
			return err
		}
	}
	// Behind the end of an archive there is padding, and no more; blob is read to its end so that it is verified.
	_, err = bounded.Copy(ctx, io.Discard, plain, "what follows the end of its archive", mostPadding)
	if err == nil {
		_, err = bounded.Copy(ctx, io.Discard, blob, "its content", d.Size)
	}
	return err
}

// mostPadding is how many bytes may follow the end of a layer's archive: tar fills its last record up.
const mostPadding = 1 << 20

// place is an entry of a layer.
type place struct{ layer, entry int }

// union is layers over each other.
type union struct {
	last   map[string]place    // the entry that each name comes from; of a hard link, that of its file
	own    map[string]bool     // names of the layer that is seen
	gone   map[string]bool     // what it takes away from those below, with all that is in it
	empty  map[string]bool     // folders of which it takes away what is in them
	below  map[string][]string // names in each folder, so that what a layer hides is found
	linked map[string]bool     // those that are in below
	seen   int
	names  map[place][]string
}

const (
	mostName = 4096 // bytes: PATH_MAX of Linux
	whiteout = ".wh."
	opaque   = ".wh..wh..opq"
)

// see notes an entry (OCI Image Format Specification 1.1, layer.md: whiteouts).
func (u *union) see(at place, h *tar.Header, limits layer.Limits) error {
	if u.seen++; u.seen > limits.Entries {
		return fmt.Errorf("it has more than %d names", limits.Entries)
	}
	if len(h.Name) > mostName {
		return fmt.Errorf("entry %.40q… has a name of more than %d bytes", h.Name, mostName)
	}
	name := path.Clean(h.Name)
	switch dir, base := path.Split(name); {
	case h.Typeflag == tar.TypeXGlobalHeader:
	case base == opaque:
		u.empty[path.Clean(dir)] = true
	case strings.HasPrefix(base, whiteout):
		u.gone[path.Join(dir, strings.TrimPrefix(base, whiteout))] = true
	default:
		if h.Typeflag == tar.TypeLink {
			from, ok := u.last[path.Clean(strings.TrimPrefix(h.Linkname, "/"))]
			if !ok {
				return fmt.Errorf("entry %q is a hard link to %q, which is no file before it", h.Name, h.Linkname)
			}
			at = from
		}
		if h.Typeflag != tar.TypeDir { // what was a folder is none any more
			u.empty[name] = true
		}
		u.last[name], u.own[name] = at, true
		u.link(name)
	}
	return nil
}

// cover takes away what the layer that was seen hides of those below. It visits what goes, and no name twice.
func (u *union) cover() {
	for name := range u.gone {
		u.hide(name, true)
	}
	for name := range u.empty {
		u.hide(name, false)
	}
	u.begin()
}

// hide takes away what lies below a name, and the name itself if it is said to go, but for what the layer itself brought. It reports
// whether anything is left.
func (u *union) hide(name string, itself bool) (left bool) {
	kept := u.below[name][:0]
	for _, child := range u.below[name] {
		if u.hide(child, true) {
			kept = append(kept, child)
		}
	}
	if u.below[name] = kept; len(kept) == 0 {
		delete(u.below, name)
	}
	if !itself || u.own[name] {
		return true
	}
	delete(u.last, name)
	if len(kept) == 0 {
		delete(u.linked, name)
	}
	return len(kept) > 0
}

// link notes a name below its folder, and that below its own.
func (u *union) link(name string) {
	for name != "." && name != "/" && !u.linked[name] {
		u.linked[name] = true
		dir := path.Dir(name)
		u.below[dir] = append(u.below[dir], name)
		name = dir
	}
}

// begin makes ready for a layer.
func (u *union) begin() {
	u.own, u.gone, u.empty = map[string]bool{}, map[string]bool{}, map[string]bool{}
}

// give passes an entry on under the names that are left of it.
func (u *union) give(at place, h *tar.Header, content io.Reader, give func(*tar.Header, io.Reader) error) error {
	names := u.names[at]
	if len(names) == 0 || h.Typeflag == tar.TypeLink {
		return nil
	}
	h.Name = names[0]
	if err := give(h, content); err != nil {
		return err
	}
	for _, name := range names[1:] {
		if err := give(&tar.Header{Name: name, Typeflag: tar.TypeLink, Linkname: names[0]}, nil); err != nil {
			return err
		}
	}
	return nil
}
