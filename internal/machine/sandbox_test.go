package machine_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"zygos/internal/layer"
	"zygos/internal/machine"
)

func TestMain(m *testing.M) {
	machine.Early()
	if _, ok := machine.Inside(); !ok {
		code, err := machine.Enter(os.Args[1:])
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
		os.Exit(code)
	}
	os.Exit(m.Run())
}

// bench is a place to run stages: the demo's base, unpacked, and one layer on top.
type bench struct {
	t      *testing.T
	ids    machine.IDs
	base   string
	lower  *layer.Tree
	upper  string
	lines  []string
	failed *machine.StepError
	took   time.Duration
}

func (b *bench) StepStarted(int) {}
func (b *bench) Line(step int, stream, text string) {
	b.lines = append(b.lines, fmt.Sprintf("%d %s %s", step, stream, text))
}
func (b *bench) StepEnded(step int, took time.Duration, failed *machine.StepError) { b.failed = failed }

func newBench(t *testing.T) *bench {
	ids, ok := machine.Inside()
	require.True(t, ok)
	b := &bench{t: t, ids: ids}
	file, err := os.Open("../../demo/workspace/bases/field-os-1.2.0.tar.zst")
	require.NoError(t, err)
	defer file.Close()
	plain, err := zstd.NewReader(file)
	require.NoError(t, err)
	defer plain.Close()
	b.base = t.TempDir()
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(b.base)) })
	x, err := layer.Unpack(t.Context(), plain, layer.Folder{Dir: b.base, Owners: b.owners()}, layer.DefaultLimits)
	require.NoError(t, err)
	b.lower = layer.Merge(x)
	return b
}

func (b *bench) owners() layer.Owners { return layer.Owners{First: b.ids.First, Count: b.ids.Count} }

func (b *bench) run(ctx context.Context, stage machine.Stage) error {
	dir := b.t.TempDir()
	b.upper = filepath.Join(dir, "upper")
	stage.Upper, stage.Scratch = b.upper, filepath.Join(dir, "scratch")
	require.NoError(b.t, os.Mkdir(stage.Upper, 0o755))
	require.NoError(b.t, os.Mkdir(stage.Scratch, 0o755))
	b.t.Cleanup(func() { require.NoError(b.t, layer.RemoveAll(dir)) })
	require.NoError(b.t, layer.Folder{Dir: stage.Upper, Owners: b.owners()}.Root(b.lower))
	stage.Layers = []string{b.base}
	if stage.Name == "" {
		stage.Name = "stage"
	}
	b.lines = nil
	began := time.Now()
	defer func() { b.took = time.Since(began) }()
	return machine.Sandbox{IDs: b.ids}.Run(ctx, stage, b)
}

func scripts(texts ...string) machine.Stage {
	var s machine.Stage
	for i, text := range texts {
		s.Steps = append(s.Steps, machine.Step{Name: fmt.Sprint("script", i), Script: &machine.Script{Content: []byte(text)}})
	}
	return s
}

func (b *bench) scan() layer.Index {
	x, err := layer.Scan(b.t.Context(), b.upper, b.lower, b.owners(), 1767225600)
	require.NoError(b.t, err)
	return x
}

func paths(x layer.Index) string {
	var list []string
	for i := range x {
		list = append(list, string(x[i].Kind)+" "+x[i].Path)
	}
	return strings.Join(list, "\n")
}

func TestStageRunsInOrderAndItsChangesBecomeALayer(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts("echo one; echo two >&2; mkdir /srv; echo x > /srv/f; rm /etc/hostname", "cat /srv/f; id -u; hostname")))
	require.Contains(t, b.lines, "0 out one")
	require.Contains(t, b.lines, "0 err two")
	require.Contains(t, b.lines, "1 out x")
	require.Contains(t, b.lines, "1 out 0")
	require.Equal(t, "dir etc\nwhiteout etc/hostname\ndir srv\nfile srv/f", strings.TrimPrefix(paths(b.scan()), "dir .\n"))
}

func TestFailingScriptNamesItsCodeAndLine(t *testing.T) {
	b := newBench(t)
	err := b.run(t.Context(), scripts("true", "echo a\n\nno-such-command\necho b"))
	var failed *machine.StepError
	require.ErrorAs(t, err, &failed)
	require.Equal(t, 127, failed.Code)
	require.Equal(t, 3, failed.Line)
	require.Equal(t, 1, failed.Step)
	fmt.Println(b.lines)
}

func TestNothingOutlivesAStage(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts("sleep 1000 & (setsid sleep 1000 &) ; echo started")))
	require.Less(t, b.took, 5*time.Second)
	fmt.Println(b.took)
}
