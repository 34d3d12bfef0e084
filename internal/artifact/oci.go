package artifact

import (
	"context"
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	godigest "github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"zygos/internal/layer"
	"zygos/internal/store"
)

// oci is an image layout (OCI Image Format Specification 1.1) in a tar: a layer for each layer of the tree, so that what
// versions share is shared. Each holds only what the sealed tree still holds, and no white-outs: what a later stage or the
// seal took away is in none.
var oci = Format{Name: "oci", Extension: ".oci.tar", MediaType: "application/vnd.zygos.image.v1.oci+tar", Options: []*Option{&ociPacking},
	ReadRank: 2,
	Write:    writeOCI}

var ociPacking = Option{Name: "compression", Is: Word, Words: []string{"gzip", "zstd", "none"}}

// ociWriter writes a layout.
type ociWriter struct {
	ctx context.Context
	to  *store.Writer
	t   *Tree
	o   Options
	at  int64 // bytes so far
}

func writeOCI(ctx context.Context, to *store.Writer, t *Tree, o Options) error {
	w := &ociWriter{ctx: ctx, to: to, t: t, o: o}
	created := time.Unix(o.Epoch, 0).UTC()
	config := ocispec.Image{Created: &created, Platform: ocispec.Platform{Architecture: t.architecture(), OS: "linux"},
		RootFS: ocispec.RootFS{Type: "layers"}}
	env, err := t.environment()
	if err != nil {
		return err
	}
	config.Config = ocispec.ImageConfig{Labels: o.Labels, Cmd: []string{"/bin/sh"}, Env: env}
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest}
	for i, nodes := range t.byLayer() {
		if len(nodes) == 0 {
			continue
		}
		d, plain, err := w.layer(nodes)
		if err != nil {
			return err
		}
		m.Layers = append(m.Layers, d)
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, plain)
		config.History = append(config.History, ocispec.History{Created: &created, CreatedBy: o.Makers[i]})
	}
	if m.Config, err = w.document(ocispec.MediaTypeImageConfig, config); err != nil {
		return err
	}
	manifest, err := w.document(ocispec.MediaTypeImageManifest, m)
	if err != nil {
		return err
	}
	documents, err := layoutDocuments(manifest, config.Platform)
	if err != nil {
		return err
	}
	for _, d := range documents {
		if err := w.file(d.name, d.text); err != nil {
			return err
		}
	}
	return w.to.Zero(2 * tarBlock)
}

// environment is the usual, and what the tree says of that.
func (t *Tree) environment() (list []string, err error) {
	var text []byte
	if n := t.Merged.Lookup(layer.EnvironmentFile); n != nil && n.Kind == layer.File && n.Size <= layer.MostEnvironment {
		if text, err = os.ReadFile(t.Content(n)); err != nil {
			return nil, err
		}
	}
	list = layer.Variables(text)
	if !slices.ContainsFunc(list, func(v string) bool { return strings.HasPrefix(v, "PATH=") }) {
		list = append(list, "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
	}
	return list, nil
}

// named is a small file of a layout.
type named struct {
	name string
	text []byte
}

// layoutDocuments are what a layout ends with.
func layoutDocuments(manifest ocispec.Descriptor, platform ocispec.Platform) (list []named, err error) {
	manifest.Platform = &platform
	index := ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex,
		Manifests: []ocispec.Descriptor{manifest}}
	text, err1 := json.Marshal(index)
	version, err2 := json.Marshal(ocispec.ImageLayout{Version: ocispec.ImageLayoutVersion})
	return []named{{ocispec.ImageIndexFile, text}, {ocispec.ImageLayoutFile, version}}, errors.Join(err1, err2)
}

// Part is a piece of a layout in a tar: a text, or a blob of which only the description is known.
type Part struct {
	Text []byte
	Blob ocispec.Descriptor
}

// Layout is the tar that writeOCI wrote, from the manifest and the configuration that lie in it.
func Layout(manifest, config []byte) (parts []Part, err error) {
	var m ocispec.Manifest
	var c ocispec.Image
	if err := errors.Join(json.Unmarshal(manifest, &m), json.Unmarshal(config, &c)); err != nil {
		return nil, err
	}
	if c.Created == nil {
		return nil, errors.New("the configuration of the image says no time")
	}
	add := func(name string, d ocispec.Descriptor, text []byte) {
		head, e := tarHead(name, d.Size, c.Created.Unix())
		err = errors.Join(err, e)
		parts = append(parts, Part{Text: head})
		if text == nil {
			parts = append(parts, Part{Blob: d})
		}
		parts = append(parts, Part{Text: append(text, make([]byte, -d.Size&(tarBlock-1))...)})
	}
	inBlobs := func(d ocispec.Descriptor) string {
		return path.Join(ocispec.ImageBlobsDir, "sha256", d.Digest.Encoded())
	}
	for _, d := range m.Layers {
		if e := d.Digest.Validate(); e != nil || d.Size < 0 {
			return nil, fmt.Errorf("the manifest names the layer %q of %d bytes", d.Digest, d.Size)
		}
		add(inBlobs(d), d, nil)
	}
	if err := m.Config.Digest.Validate(); err != nil {
		return nil, err
	}
	add(inBlobs(m.Config), m.Config, config)
	whole := ocispec.Descriptor{MediaType: ocispec.MediaTypeImageManifest, Digest: godigest.FromBytes(manifest), Size: int64(len(manifest))}
	add(inBlobs(whole), whole, manifest)
	documents, e := layoutDocuments(whole, c.Platform)
	for _, d := range documents {
		add(d.name, ocispec.Descriptor{Size: int64(len(d.text))}, d.text)
	}
	return append(parts, Part{Text: make([]byte, 2*tarBlock)}), errors.Join(err, e)
}

// byLayer is the tree's names by the layer that holds them. A name of a file that another layer holds comes with that.
func (t *Tree) byLayer() [][]*layer.Node {
	var list [][]*layer.Node
	where := map[string]int{}
	for _, n := range t.Nodes {
		at := n.Layer
		if n.Same != "" {
			at = where[n.Same]
		}
		where[n.Path] = at
		for len(list) <= at {
			list = append(list, nil)
		}
		list[at] = append(list[at], n)
	}
	return list
}

// layer writes a layer's tar, and returns what describes it and the digest of what is packed in it. Names come in their
// order; those of a folder that a higher layer holds go there.
func (w *ociWriter) layer(nodes []*layer.Node) (d ocispec.Descriptor, plain godigest.Digest, err error) {
	place := w.at
	if err := w.to.Reserve(tarBlock); err != nil {
		return d, "", err
	}
	blob := &summed{Writer: w.to, hash: sha256.New()}
	packed, kind, err := w.packer(blob)
	if err != nil {
		return d, "", err
	}
	inner := &hashing{w: packed, hash: sha256.New()}
	tw := layer.NewTarWriter(inner)
	for _, n := range nodes {
		if err = tw.Add(w.ctx, n, w.t.Content(n)); err != nil {
			break
		}
		w.t.Tell(n.Size)
	}
	if err == nil {
		err = tw.Close()
	}
	if e := packed.Close(); err == nil {
		err = e
	}
	if err != nil {
		return d, "", err
	}
	sum := hex.EncodeToString(blob.hash.Sum(nil))
	if err := w.end(place, path.Join(ocispec.ImageBlobsDir, "sha256", sum), blob.size); err != nil {
		return d, "", err
	}
	return ocispec.Descriptor{MediaType: kind, Digest: godigest.Digest("sha256:" + sum), Size: blob.size},
		godigest.Digest("sha256:" + hex.EncodeToString(inner.hash.Sum(nil))), nil
}

// hashing is a writer that hashes what passes.
type hashing struct {
	w    io.Writer
	hash hash.Hash
}

func (h *hashing) Write(p []byte) (int, error) {
	h.hash.Write(p)
	return h.w.Write(p)
}

// packer packs a layer, by all processors at once.
func (w *ociWriter) packer(to io.Writer) (io.WriteCloser, string, error) {
	switch w.o.Says.Word(&ociPacking) {
	case "zstd":
		c, err := store.NewCompressor(to)
		return c, ocispec.MediaTypeImageLayerZstd, err
	case "none":
		return plainCloser{to}, ocispec.MediaTypeImageLayer, nil
	}
	c, err := store.NewGzip(to)
	return c, ocispec.MediaTypeImageLayerGzip, err
}

type plainCloser struct{ io.Writer }

func (plainCloser) Close() error { return nil }

// end fills a file of the tar to whole blocks and writes its header, whose place was left free.
func (w *ociWriter) end(place int64, name string, size int64) error {
	head, err := tarHead(name, size, w.o.Epoch)
	if err == nil {
		_, err = w.to.WriteAt(head, place)
	}
	if err != nil {
		return err
	}
	rest := -size & (tarBlock - 1)
	w.at += tarBlock + size + rest
	return w.to.Zero(rest)
}

func (w *ociWriter) file(name string, text []byte) error {
	place := w.at
	err := w.to.Reserve(tarBlock)
	if err == nil {
		_, err = w.to.Write(text)
	}
	if err != nil {
		return err
	}
	return w.end(place, name, int64(len(text)))
}

func (w *ociWriter) document(kind string, v any) (ocispec.Descriptor, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return ocispec.Descriptor{}, err
	}
	sum := sha256.Sum256(text)
	d := ocispec.Descriptor{MediaType: kind, Digest: godigest.Digest("sha256:" + hex.EncodeToString(sum[:])), Size: int64(len(text))}
	return d, w.file(path.Join(ocispec.ImageBlobsDir, "sha256", hex.EncodeToString(sum[:])), text)
}

// architecture is what the tree's programs run on, by its shell or the program that the kernel starts.
func (t *Tree) architecture() string {
	for _, name := range []string{"bin/sh", "sbin/init", "bin/busybox", "usr/bin/env"} {
		if n := t.Merged.Follow(name); n != nil && n.Kind == layer.File {
			if arch := elfArchitecture(t.Content(n)); arch != "" {
				return arch
			}
		}
	}
	return "amd64"
}

// elfArchitecture is the machine of a program (System V ABI, ELF header), in the words of the specification; "" for none.
func elfArchitecture(file string) string {
	f, err := elf.Open(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	return map[elf.Machine]string{elf.EM_X86_64: "amd64", elf.EM_AARCH64: "arm64", elf.EM_RISCV: "riscv64", elf.EM_386: "386"}[f.Machine]
}
