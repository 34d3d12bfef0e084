package build_test

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
)

// hand is a made-up machine that does what a test says. What a stage left it has in memory, and in no folder.
type hand struct {
	stages []string
	limits machine.Limits // of the last stage
	do     func(ctx context.Context, stage machine.Stage, watch machine.Watcher, left *left) error
	always bool // do is all it does
}

func (h *hand) Run(ctx context.Context, on machine.Ground, stage machine.Stage, watch machine.Watcher) (machine.Result, error) {
	l := &left{on, map[string]string{}}
	if h.always {
		return l, h.do(ctx, stage, watch, l)
	}
	h.stages, h.limits = append(h.stages, stage.Name), stage.Limits
	watch.StepStarted(0)
	watch.Line(0, "out", "hello from "+stage.Name)
	if h.do != nil {
		if err := h.do(ctx, stage, watch, l); err != nil {
			return l, err
		}
	}
	watch.StepEnded(0, time.Millisecond, nil)
	l.files["made-by-"+stage.Name] = "text"
	return l, nil
}

func (h *hand) Start(context.Context, machine.Ground, bool) (machine.Instance, error) {
	return nil, errors.New("a hand starts nothing")
}

// left is what a stage left: the contents of files by path.
type left struct {
	on    machine.Ground
	files map[string]string
}

func (l *left) Commit(context.Context) (digest string, bytes int64, err error) {
	dir, err := l.on.Store.Begin(l.on.Temp)
	if err != nil {
		return "", 0, err
	}
	folder := layer.Folder{Dir: filepath.Join(dir, "tree"), Owners: l.on.Store.Owners}
	x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}}
	for _, name := range slices.Sorted(maps.Keys(l.files)) {
		x = append(x, layer.Entry{Path: name, Kind: layer.File, Mode: 0o644, MTime: 5, Size: int64(len(l.files[name]))})
	}
	for i := range x {
		if err := folder.Put(&x[i], strings.NewReader(l.files[x[i].Path])); err != nil {
			return "", 0, err
		}
	}
	if err := folder.Finish(x); err != nil {
		return "", 0, err
	}
	digest, err = l.on.Store.Commit(dir, x)
	return digest, x.Bytes(), err
}

func (l *left) Keep(dir string) error {
	err := os.Mkdir(dir, 0o755)
	for name, text := range l.files {
		err = errors.Join(err, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return err
}

func (l *left) Drop() { l.files = nil }

// A machine is named by a stage and is one entry of the table; it and what it is given are part of the stage's key.
func TestNewMachineIsOneEntryOfTheTable(t *testing.T) {
	w := newWorks(t)
	kiln := &hand{}
	w.engine.Machines["kiln"] = kiln
	p := w.plan("1.0.0", "one", "two")
	p.Shapes[0].Stages[1].Machine = "kiln"
	p.Shapes[0].Stages[1].Bounds = &definition.Limits{Memory: 1 << 20}
	_, err := w.engine.Run(t.Context(), p)
	require.NoError(t, err)
	require.Equal(t, []string{"one"}, w.hand.stages)
	require.Equal(t, []string{"two"}, kiln.stages)
	require.EqualValues(t, 1<<20, kiln.limits.Memory)

	keys := map[string]bool{}
	for _, change := range []func(*plan.Stage){func(*plan.Stage) {}, func(s *plan.Stage) { s.Machine = "kiln" }, func(s *plan.Stage) {
		s.Machine, s.Bounds = "kiln", &definition.Limits{Memory: 1}
	}} {
		shape := plan.Shape{Stages: []plan.Stage{{Name: "one"}}}
		change(&shape.Stages[0])
		keys[shape.Key(0, nil)] = true
	}
	require.Len(t, keys, 3)

	p = w.plan("1.0.1", "three")
	p.Shapes[0].Stages[0].Machine = "forge"
	_, err = w.engine.Run(t.Context(), p)
	require.EqualError(t, err, `stage three runs on a machine named "forge", and this program has none of that name`)
}
