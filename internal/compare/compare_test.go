package compare_test

import (
	"archive/tar"
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/compare"
	"zygos/internal/layer"
	"zygos/internal/session/sessiontest"
)

// side is a tree of files by name.
func side(t *testing.T, name string, files map[string]string) *compare.Side {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, text := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))}))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	s := &layer.Store{Dir: t.TempDir()}
	dir, err := s.Begin(s.Dir)
	require.NoError(t, err)
	x, err := layer.Unpack(t.Context(), &b, layer.Folder{Dir: dir + "/tree"}, layer.DefaultLimits)
	require.NoError(t, err)
	digest, err := s.Commit(dir, x)
	require.NoError(t, err)
	tree, err := s.Stack([]string{digest})
	require.NoError(t, err)
	return &compare.Side{Name: name, Files: layer.Files{Store: s, Layers: []string{digest}, Tree: tree}}
}

const curl = "Package: curl\nStatus: install ok installed\nVersion: "

func TestTreesAreComparedByFilesAndPackages(t *testing.T) {
	was := side(t, "link@1.0.0", map[string]string{"etc/a": "1\n", "etc/gone": "x", "srv/b": "same", "var/lib/dpkg/status": curl + "1.0\n",
		"etc/passwd": "root:x:0:0::/root:/bin/sh\n"})
	now := side(t, "link@1.1.0", map[string]string{"etc/a": "2\n", "etc/new": "y", "srv/b": "same", "var/lib/dpkg/status": curl + "1.1\n",
		"etc/passwd": "root:x:0:0::/root:/bin/sh\nkeeper:x:900:900::/:/bin/sh\n"})
	d := compare.TreesOf(was, now, "")
	states := map[string]string{}
	for _, c := range d.Files {
		states[c.Path] = c.State
	}
	require.Equal(t, "changed", states["etc/a"])
	require.Equal(t, "removed", states["etc/gone"])
	require.Equal(t, "added", states["etc/new"])
	require.NotContains(t, states, "srv/b")
	require.Equal(t, "curl", d.Packages[0].Name)
	require.Equal(t, []string{"1.0", "1.1"}, []string{d.Packages[0].Was, d.Packages[0].Now})
	require.Equal(t, "keeper", d.Users[0].Name)
	below := compare.TreesOf(was, now, "/etc/../etc/")
	for _, c := range below.Files {
		require.Regexp(t, `^etc(/|$)`, c.Path)
	}
	require.Empty(t, compare.TreesOf(was, now, "srv").Files)
}

func TestTextOfAFileIsCompared(t *testing.T) {
	was := side(t, "a", map[string]string{"etc/a": "1\n2\n", "bin/x": "\x00", "same": "s"})
	now := side(t, "b", map[string]string{"etc/a": "1\n3\n", "bin/x": "\x00\x01", "same": "s"})
	name, text, err := compare.File(was, now, "/etc/./a")
	require.NoError(t, err)
	require.Equal(t, "etc/a", name)
	require.Contains(t, text, "-2\n+3\n")
	_, text, err = compare.File(was, now, "same")
	require.NoError(t, err)
	require.Empty(t, text)
	_, _, err = compare.File(was, now, "bin/x")
	require.ErrorContains(t, err, "/bin/x is no text that can be compared line by line")
	_, _, err = compare.File(was, now, "../../etc/none")
	require.ErrorContains(t, err, "neither a nor b has a file /etc/none")
}

func TestViewsOfOtherStates(t *testing.T) {
	s := sessiontest.New(t, "", map[string]string{"link": sessiontest.Image("field-os")})
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	_, err := compare.View(t.Context(), s, v.Build, "", "")
	require.ErrorContains(t, err, "link@1.0.0 was built in another state")
	b := &catalog.Build{ID: "b-far", Image: "link", Place: "elsewhere", Host: "mast-7", Started: time.Now()}
	require.ErrorContains(t, compare.Elsewhere(s, b), "build b-far of link is not from this state but from one on mast-7")
	b.Place = s.ID
	require.NoError(t, compare.Elsewhere(s, b))
}
