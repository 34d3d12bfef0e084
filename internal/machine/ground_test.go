package machine_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"zygos/demo"
	"zygos/internal/layer"
	"zygos/internal/machine"
)

// ground is the bench's tree as a layer in a store.
func (b *bench) ground() machine.Ground {
	dir := b.t.TempDir()
	b.t.Cleanup(func() { require.NoError(b.t, layer.RemoveAll(dir)) })
	g := machine.Ground{Store: &layer.Store{Dir: filepath.Join(dir, "layers"), Owners: b.owners()}, Temp: filepath.Join(dir, "temp")}
	require.NoError(b.t, os.Mkdir(g.Temp, 0o755))
	made, err := g.Store.Begin(g.Temp)
	require.NoError(b.t, err)
	file, err := demo.Files.Open("workspace/bases/field-os-1.2.0.tar.zst")
	require.NoError(b.t, err)
	defer file.Close()
	plain, err := zstd.NewReader(file)
	require.NoError(b.t, err)
	defer plain.Close()
	x, err := layer.Unpack(b.t.Context(), plain, layer.Folder{Dir: filepath.Join(made, "tree"), Owners: b.owners()}, layer.DefaultLimits)
	require.NoError(b.t, err)
	digest, err := g.Store.Commit(made, x)
	require.NoError(b.t, err)
	g.Layers, g.Tree = []string{digest}, layer.Merge(x)
	return g
}

// unfinished lists what lies in a ground's folder for that.
func unfinished(t *testing.T, g machine.Ground) []os.DirEntry {
	list, err := os.ReadDir(g.Temp)
	require.NoError(t, err)
	return list
}

func TestShellInAnInstance(t *testing.T) {
	b := newBench(t)
	g := b.ground()
	i, err := machine.Sandbox{IDs: b.ids}.Start(t.Context(), g, false)
	require.NoError(t, err)
	enter := func(input string) (string, int) {
		var out strings.Builder
		code, err := i.Run(t.Context(), machine.Shell{Dir: "/var", Env: []string{"A=b"}, In: strings.NewReader(input), Out: &out, Err: &out,
			Scripts: []machine.Script{{Content: []byte("#!/bin/sh\necho ran\n")}}})
		require.NoError(t, err)
		return out.String(), code
	}
	out, code := enter("pwd; echo $A; /run/zygos/steps/01; touch /tmp/t /etc/new; exit 3\n")
	require.Equal(t, "/var\nb\nran\n", out)
	require.Equal(t, 3, code)
	out, code = enter("ls /tmp/t /etc/new; kill -9 $$\n")
	require.Equal(t, "/etc/new\n/tmp/t\n", out, "what a shell changed is there for the next")
	require.Equal(t, 128+9, code)
	require.NotEmpty(t, unfinished(t, g))
	i.Stop()
	require.Empty(t, unfinished(t, g))
}

// A stage's result becomes a layer, or is kept and stood on, or is gone.
func TestWhatAStageLeft(t *testing.T) {
	b := newBench(t)
	g := b.ground()
	m := machine.Sandbox{IDs: b.ids}
	stage := func(script string) machine.Stage {
		return machine.Stage{Name: "s", Hostname: "h", Steps: []machine.Step{{Name: "a", Script: &machine.Script{Content: []byte(script)}}}}
	}
	left, err := m.Run(t.Context(), g, stage("echo 1 >/etc/one"), b)
	require.NoError(t, err)
	digest, bytes, err := left.Commit(t.Context())
	require.NoError(t, err)
	require.EqualValues(t, 2, bytes)
	left.Drop()
	x, err := g.Store.Index(digest)
	require.NoError(t, err)
	require.Equal(t, "etc/one", x[len(x)-1].Path)

	left, err = m.Run(t.Context(), g, stage("echo 2 >/etc/two; exit 5"), b)
	require.ErrorAs(t, err, new(*machine.StepError))
	g.Kept = filepath.Join(t.TempDir(), "kept")
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(g.Kept)) })
	require.NoError(t, left.Keep(g.Kept))
	left.Drop()
	require.Empty(t, unfinished(t, g))
	left, err = m.Run(t.Context(), g, stage("cat /etc/two"), b)
	require.NoError(t, err)
	left.Drop()
	require.Contains(t, b.lines, "0 out 2")
}
