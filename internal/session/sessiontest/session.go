// Package sessiontest makes sessions for tests of what works on a catalog and a state: with versions that were never built.
package sessiontest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/base"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/region/kinds"
	"zygos/internal/rules"
	"zygos/internal/session"
	"zygos/internal/state"
	"zygos/internal/workspace"
)

// Image is a definition of an image on a base, with an archive. more follows.
func Image(base string, more ...string) string {
	return "base = \"" + base + "\"\nseries = \"1.0\"\n[[artifact]]\nformat = \"tar\"\n" + strings.Join(more, "\n")
}

// field is the base field-os, which is nowhere to be had.
const field = "[base.field-os]\nrelease = \"1\"\nfrom = [\"a.tar\"]\nsha256 = \"" +
	"0000000000000000000000000000000000000000000000000000000000000000\"\n"

// New is a session in a new workspace with the base field-os. organisation is what zygos.toml says beside its name, images the
// definitions by name.
func New(t testing.TB, organisation string, images map[string]string) *session.Session {
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "images"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zygos.toml"), []byte("[workspace]\nname = \"ebbline\"\n"+field+organisation), 0o644))
	for name, text := range images {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "images", name+".toml"), []byte(text), 0o644))
	}
	s := Open(t, dir)
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(s.Layers.Dir)) })
	return s
}

// Open is a session in a workspace that is there.
func Open(t testing.TB, dir string) *session.Session {
	w, err := workspace.Find(dir, "", definition.Kinds{Regions: kinds.Readers(), Bases: base.Readers(), Needs: rules.Forms(),
		Expects: judge.Forms()})
	require.NoError(t, err)
	require.NoError(t, w.Load())
	at, err := state.Open(t.Context(), w, nil)
	require.NoError(t, err)
	t.Cleanup(at.Close)
	s, err := session.New(t.Context(), at, w, "somebody", "")
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// Register registers IMAGE@VERSION on a base NAME@VERSION, with an archive whose content is its reference and a tree of a layer that is
// nowhere. change may change it before.
func Register(t testing.TB, s *session.Session, ref, on string, change ...func(*catalog.Version)) *catalog.Version {
	image, version, _ := strings.Cut(ref, "@")
	blob, err := s.Store.Put([]byte(ref))
	require.NoError(t, err)
	v := catalog.Version{Image: image, Version: version, Build: "b-" + image + "-" + version, Created: time.Now(),
		Artifacts: []catalog.Artifact{{Name: "tar", Format: "tar", Digest: blob.Digest, Bytes: blob.Bytes}}}
	v.Trees = []catalog.Tree{{Layers: []string{strings.TrimPrefix(blob.Digest.String(), "sha256:")}}}
	v.BaseName, v.BaseVersion, _ = strings.Cut(on, "@")
	_, err = s.Image(v.BaseName)
	v.BaseImage = err == nil
	for _, c := range change {
		c(&v)
	}
	require.NoError(t, s.Catalog.StartBuild(t.Context(), catalog.Build{ID: v.Build, Image: image, Version: version, Place: s.ID,
		Started: v.Created}))
	require.NoError(t, s.Catalog.Register(t.Context(), v))
	made, err := s.Catalog.Resolve(t.Context(), definition.Ref{Image: image, Selector: version})
	require.NoError(t, err)
	return made
}
