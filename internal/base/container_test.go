package base_test

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	godigest "github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// packed is an archive of entries: "dir/", "file=content", "link>target" for a hard link.
func packed(t *testing.T, how string, entries ...string) []byte {
	var plain bytes.Buffer
	w := tar.NewWriter(&plain)
	for _, e := range entries {
		h := &tar.Header{Name: e, Mode: 0o644, Typeflag: tar.TypeReg}
		content := ""
		switch name, rest, _ := strings.Cut(e, "="); {
		case strings.HasSuffix(e, "/"):
			h.Typeflag, h.Mode = tar.TypeDir, 0o755
		case strings.Contains(e, ">"):
			h.Name, h.Linkname, _ = strings.Cut(e, ">")
			h.Typeflag = tar.TypeLink
		default:
			h.Name, content = name, rest
			h.Size = int64(len(content))
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write([]byte(content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	var out bytes.Buffer
	switch how {
	case "gzip":
		z := gzip.NewWriter(&out)
		_, _ = z.Write(plain.Bytes()) // to memory
		require.NoError(t, z.Close())
	case "zstd":
		z, err := zstd.NewWriter(&out)
		require.NoError(t, err)
		_, _ = z.Write(plain.Bytes()) // as above
		require.NoError(t, z.Close())
	default:
		return plain.Bytes()
	}
	return out.Bytes()
}

// layout is an image layout in a tar, with an image for each platform.
func layout(t *testing.T, images map[string][][]byte, spoil func(name string, text []byte) []byte) []byte {
	files := map[string][]byte{"oci-layout": []byte(`{"imageLayoutVersion":"1.0.0"}`)}
	put := func(kind string, text []byte) ocispec.Descriptor {
		d := godigest.FromBytes(text)
		files["blobs/sha256/"+d.Encoded()] = text
		return ocispec.Descriptor{MediaType: kind, Digest: d, Size: int64(len(text))}
	}
	document := func(kind string, v any) ocispec.Descriptor {
		text, err := json.Marshal(v)
		require.NoError(t, err)
		return put(kind, text)
	}
	var index ocispec.Index
	for platform, layers := range images {
		m := ocispec.Manifest{Config: document(ocispec.MediaTypeImageConfig, ocispec.Image{})}
		for _, l := range layers {
			m.Layers = append(m.Layers, put(ocispec.MediaTypeImageLayerGzip, l))
		}
		d := document(ocispec.MediaTypeImageManifest, m)
		system, machine, _ := strings.Cut(platform, "/")
		d.Platform = &ocispec.Platform{OS: system, Architecture: machine}
		index.Manifests = append(index.Manifests, d)
	}
	index.Manifests = []ocispec.Descriptor{document(ocispec.MediaTypeImageIndex, index)} // an index in an index
	files["index.json"], _ = json.Marshal(index)
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for name, text := range files {
		text = spoil(name, text)
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))}))
		_, err := w.Write(text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func whole(_ string, text []byte) []byte { return text }

func asBase(t *testing.T, im *base.Importer, content []byte, platform string) *definition.Base {
	require.NoError(t, os.WriteFile(filepath.Join(im.Root, "os.oci.tar"), content, 0o644))
	return &definition.Base{Name: "b", Release: "1", From: []string{"os.oci.tar"}, SHA256: digest.Of(content), Kind: "container",
		Settings: base.Platform(platform), Key: platform}
}

// Layers lie one over the other: what a later one replaces or takes away is gone, and hard links lead where they led.
func TestContainerImagesAsBases(t *testing.T) {
	layers := [][]byte{
		packed(t, "gzip", "etc/", "etc/a=old", "etc/b=stays", "gone/", "gone/x=1", "gone/deep/", "gone/deep/y=1", "emptied/", "emptied/z=1",
			"became/", "became/file/", "became/file/in=1", "lib/", "lib/one=shared", "lib/two>lib/one", "lib/three=other"),
		packed(t, "zstd", "etc/a=new", ".wh.gone", "emptied/.wh..wh..opq", "emptied/fresh=2", "became/file=a file now", "lib/.wh.one",
			"lib/four>lib/three", "lib/three=replaced"),
		packed(t, "none", "gone/", "gone/again=3", "etc/.wh.nothing"),
	}
	image := layout(t, map[string][][]byte{"linux/amd64": layers, "linux/arm64": layers[:1]}, whole)
	im := importer(t)
	snap, err := im.Ensure(t.Context(), asBase(t, im, image, "linux/amd64"))
	require.NoError(t, err)
	tree, err := im.Layers.Stack([]string{snap.Layer})
	require.NoError(t, err)
	var got []string
	for _, n := range tree.Nodes() {
		if n.Kind == "file" {
			text, err := os.ReadFile(filepath.Join(im.Layers.TreeDir(snap.Layer), n.Path))
			require.NoError(t, err)
			got = append(got, fmt.Sprintf("%s=%s", n.Path, text))
		}
	}
	require.Equal(t, []string{"became/file=a file now", "emptied/fresh=2", "etc/a=new", "etc/b=stays", "gone/again=3", "lib/four=other",
		"lib/three=replaced", "lib/two=shared"}, got)

	im = importer(t)
	snap, err = im.Ensure(t.Context(), asBase(t, im, image, "linux/arm64"))
	require.NoError(t, err)
	tree, err = im.Layers.Stack([]string{snap.Layer})
	require.NoError(t, err)
	require.NotNil(t, tree.Lookup("gone/deep/y"))
}

// What an image lacks, or claims and does not hold, is said, and leaves nothing.
func TestUnsoundContainerImages(t *testing.T) {
	good := [][]byte{packed(t, "gzip", "a=1", "b>a")}
	two := map[string][][]byte{"linux/s390x": good, "linux/arm64": good}
	for says, text := range map[string][]byte{
		"it has no image for linux/amd64; it has linux/": layout(t, two, whole),
		"it is no image layout":                          packed(t, "none", "a=1"),
		"has another digest: it is damaged": layout(t, map[string][][]byte{"linux/amd64": {packed(t, "none", "a=spoil me")}},
			func(_ string, text []byte) []byte {
				return bytes.ReplaceAll(text, []byte("spoil me"), []byte("spoilt m"))
			}),
		"is a hard link to":    layout(t, map[string][][]byte{"linux/amd64": {packed(t, "none", "b>nothing")}}, whole),
		"has '..' in its name": layout(t, map[string][][]byte{"linux/amd64": {packed(t, "none", "../b=1")}}, whole),
		"damaged or cut short": layout(t, map[string][][]byte{"linux/amd64": good}, whole)[:1300],
	} {
		im := importer(t)
		_, err := im.Ensure(t.Context(), asBase(t, im, text, "linux/amd64"))
		require.ErrorContains(t, err, says)
		nothingLeft(t, im)
	}
}

// What follows the end of a layer's archive is bounded, and so is the work of layers that hide each other's names.
func TestLayersThatTakeTooLong(t *testing.T) {
	im := importer(t)
	bomb := append(packed(t, "none", "a=1"), make([]byte, 8<<20)...)
	_, err := im.Ensure(t.Context(), asBase(t, im, layout(t, map[string][][]byte{"linux/amd64": {bomb}}, whole), "linux/amd64"))
	require.ErrorContains(t, err, "what follows the end of its archive is larger than 1024 KiB")
	var many []string
	for i := range 2000 {
		many = append(many, fmt.Sprintf("%s/%d=x", strings.Repeat("d/", 50), i))
	}
	layers := [][]byte{packed(t, "none", many...)}
	for i := range 200 {
		layers = append(layers, packed(t, "none", fmt.Sprintf("link%d=x", i), "none/.wh.x="))
	}
	_, err = im.Ensure(t.Context(), asBase(t, im, layout(t, map[string][][]byte{"linux/amd64": layers}, whole), "linux/amd64"))
	require.NoError(t, err)
}
