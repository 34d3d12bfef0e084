package base_test

import (
	"archive/tar"
	"bytes"
	"os"
	"testing"
)

// Whatever the layers of a container image hold, they become a tree or an error.
func FuzzLayers(f *testing.F) {
	archive := func(names ...string) []byte {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		for _, name := range names {
			_ = w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644})
		}
		_ = w.Close()
		return out.Bytes()
	}
	f.Add(archive("a", "b/c", "b/.wh.c"), archive("b/.wh..wh..opq", ".wh.a"))
	f.Add(archive("../x", "/y"), archive(".wh..", "b/.wh."))
	f.Fuzz(func(t *testing.T, one, two []byte) {
		im := importer(t)
		b := asBase(t, im, layout(t, map[string][][]byte{"linux/amd64": {one, two}}, whole), "linux/amd64")
		if snap, err := im.Ensure(t.Context(), b); err == nil {
			_ = os.RemoveAll(im.Layers.TreeDir(snap.Layer))
		}
	})
}
