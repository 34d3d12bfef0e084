package build_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/machine/machinetest"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/state"
	"zygos/internal/store"
)

func TestMain(m *testing.M) { machinetest.Main(m) }

// works is a place to build in.
type works struct {
	t      *testing.T
	engine *build.Engine
	hand   *hand
	events []record.Event
}

func newWorks(t *testing.T) *works {
	dir := state.Dir(t.TempDir())
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(dir.In())) })
	ids, _ := machine.Inside()
	w := &works{t: t, hand: &hand{}}
	owners := layer.Owners{First: ids.First, Count: ids.Count}
	s, err := store.Open(dir.Store())
	require.NoError(t, err)
	c, err := catalog.Open(t.Context(), dir.CatalogFile(), "")
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	layers := &layer.Store{Dir: dir.Layers(), Owners: owners, Check: true}
	at := &state.State{Dir: dir, Layers: layers, Store: s, IDs: ids, Catalog: c}
	w.engine = &build.Engine{State: at, Ledger: c, Root: dir.In(), Who: "me", Machines: map[string]machine.Machine{"": w.hand},
		Watch: func(e record.Event) { w.events = append(w.events, e) },
		Base: func(_ context.Context, _ plan.Base, _, temp string, _ func(string, int64, int64)) (*layer.Snapshot, error) {
			dir, err := layers.Begin(temp)
			require.NoError(t, err)
			x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}, {Path: "etc", Kind: layer.Dir, Mode: 0o755},
				{Path: "etc/machine-id", Kind: layer.File, Mode: 0o444, Size: 3}}
			folder := layer.Folder{Dir: filepath.Join(dir, "tree"), Owners: owners}
			for i := range x {
				require.NoError(t, folder.Put(&x[i], bytes.NewReader([]byte("id\n"))))
			}
			digest, err := layers.Commit(dir, x)
			return &layer.Snapshot{Layer: digest, Epoch: 9}, err
		}}
	return w
}

func (w *works) plan(version string, stages ...string) *plan.Plan {
	p := &plan.Plan{Image: "link", Version: version, Build: "b-" + version,
		Base:   plan.Base{Name: "field-os", Version: "1", Digest: "sha256:x"},
		Shapes: []plan.Shape{{Artifacts: []definition.Artifact{{Format: "tar"}, {Format: "raw"}}}}}
	for _, s := range stages {
		p.Shapes[0].Stages = append(p.Shapes[0].Stages,
			plan.Stage{Name: s, Steps: []plan.Step{{Name: "scripts/" + s + ".sh", Source: "scripts/" + s + ".sh", Digest: s}}})
	}
	return p
}

func (w *works) kinds() (list []string) {
	for _, e := range w.events {
		if e.Kind() != "progress" {
			list = append(list, e.Kind())
		}
	}
	return list
}

// unfinished lists what a build left in its folder.
func (w *works) unfinished() []os.DirEntry {
	list, err := os.ReadDir(w.engine.Dir.In("run"))
	require.NoError(w.t, err)
	return list
}

func (w *works) versions() []catalog.Version {
	list, err := w.engine.Catalog.Versions(w.t.Context(), "")
	require.NoError(w.t, err)
	return list
}

func TestBuildRegistersWhatItCaptured(t *testing.T) {
	w := newWorks(t)
	made, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one", "two"))
	require.NoError(t, err)
	require.Equal(t, []string{"started", "base", "stage", "step", "output", "step-done", "stage-done", "stage", "step", "output",
		"step-done", "stage-done",
		"sealed", "captured", "captured", "registered"}, w.kinds())
	v := w.versions()[0]
	require.Equal(t, "link@1.0.0", v.Ref())
	require.Len(t, v.Trees[0].Layers, 4, "base, two stages, seal")
	require.Equal(t, int64(9), v.Epoch)
	for _, a := range v.Artifacts {
		require.NoError(t, w.engine.Store.Verify(t.Context(), store.Blob{Digest: a.Digest, Bytes: a.Bytes}))
	}
	tree, err := w.engine.Layers.Stack(v.Trees[0].Layers)
	require.NoError(t, err)
	require.NotNil(t, tree.Lookup("made-by-two"))
	require.Zero(t, tree.Lookup("etc/machine-id").Size, "sealed")
	require.Empty(t, w.unfinished())

	text, err := os.ReadFile(w.engine.Dir.In("builds/b-1.0.0/record.json"))
	require.NoError(t, err)
	var kept record.Record
	require.NoError(t, json.Unmarshal(text, &kept))
	require.Equal(t, record.Schema, kept.Schema)
	require.Equal(t, made.Shapes[0].Stages[0].Layer, kept.Shapes[0].Stages[0].Layer)
	require.Equal(t, []string{"etc/machine-id"}, kept.Shapes[0].Seal[0].Paths)
	var logged []string
	require.NoError(t, record.ReadJournal(t.Context(), w.engine.Dir, "b-1.0.0",
		func(e record.Event) error { logged = append(logged, e.Kind()); return nil }))
	require.Equal(t, w.kinds(), logged)
}

func TestTarHoldsTheSealedTree(t *testing.T) {
	w := newWorks(t)
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one"))
	require.NoError(t, err)
	file, err := os.Open(w.engine.Store.Path(w.versions()[0].Artifacts[1].Digest))
	require.NoError(t, err)
	defer file.Close()
	plain, err := zstd.NewReader(file)
	require.NoError(t, err)
	defer plain.Close()
	dir := t.TempDir()
	x, err := layer.Unpack(t.Context(), plain, layer.Folder{Dir: dir, Owners: w.engine.Layers.Owners}, layer.DefaultLimits)
	require.NoError(t, err)
	require.Equal(t, "made-by-one", x[len(x)-1].Path)
	require.NoError(t, layer.RemoveAll(dir))
}

func TestSecondBuildReusesStages(t *testing.T) {
	w := newWorks(t)
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one", "two"))
	require.NoError(t, err)
	w.hand.stages, w.events = nil, nil
	made, err := w.engine.Run(t.Context(), w.plan("1.0.1", "one", "three"))
	require.NoError(t, err)
	require.Equal(t, []string{"three"}, w.hand.stages)
	require.Equal(t, "b-1.0.0", made.Shapes[0].Stages[0].Reused)
	require.Len(t, w.versions(), 2)
}

func TestFailedStepRegistersNothingAndKeepsFinishedStages(t *testing.T) {
	w := newWorks(t)
	w.hand.do = func(_ context.Context, stage machine.Stage, watch machine.Watcher, left *left) error {
		if stage.Name != "two" {
			return nil
		}
		for i := range 30 {
			watch.Line(0, "err", fmt.Sprint(machine.ScriptName(0), ": line ", i))
		}
		return &machine.StepError{Name: "x", Code: 3, Line: 29}
	}
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one", "two", "three"))
	var failure *record.Failure
	require.ErrorAs(t, err, &failure)
	require.Equal(t, "stage two: scripts/two.sh:29: exit code 3", failure.Error())
	require.Len(t, failure.Tail, 12)
	require.Equal(t, "scripts/two.sh: line 29", failure.Tail[11])
	require.Equal(t, []string{"one", "two"}, w.hand.stages)
	require.Empty(t, w.versions())
	require.Empty(t, w.unfinished())
	builds, _, err := w.engine.Catalog.Builds(t.Context(), "link", 0)
	require.NoError(t, err)
	require.Equal(t, catalog.Failed, builds[0].State)

	w.hand.do, w.hand.stages = nil, nil
	_, err = w.engine.Run(t.Context(), w.plan("1.0.1", "one", "two", "three"))
	require.NoError(t, err)
	require.Equal(t, []string{"two", "three"}, w.hand.stages)
}

func TestCancelIsRecorded(t *testing.T) {
	w := newWorks(t)
	ctx, cancel := context.WithCancel(t.Context())
	w.hand.do = func(ctx context.Context, _ machine.Stage, _ machine.Watcher, left *left) error {
		cancel()
		return ctx.Err()
	}
	_, err := w.engine.Run(ctx, w.plan("1.0.0", "one"))
	require.ErrorIs(t, err, context.Canceled)
	builds, _, err := w.engine.Catalog.Builds(t.Context(), "link", 0)
	require.NoError(t, err)
	require.Equal(t, catalog.Cancelled, builds[0].State)
	require.Empty(t, w.unfinished())
}

func TestVersionTakenMeanwhileIsNotOverwritten(t *testing.T) {
	w := newWorks(t)
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one"))
	require.NoError(t, err)
	p := w.plan("1.0.0", "two")
	p.Build = "b-other"
	_, err = w.engine.Run(t.Context(), p)
	require.ErrorAs(t, err, new(*catalog.TakenError))
	require.Equal(t, "b-1.0.0", w.versions()[0].Build)
}

func TestBuildsOfAnImageAtOnceHoldTheirNumbers(t *testing.T) {
	w := newWorks(t)
	var same, other error
	w.hand.do = func(ctx context.Context, stage machine.Stage, _ machine.Watcher, left *left) error {
		if stage.Name != "one" {
			return nil
		}
		p := w.plan("1.0.0", "x")
		p.Build = "b-same"
		_, same = w.engine.Run(ctx, p)
		_, other = w.engine.Run(ctx, w.plan("1.0.1", "x"))
		require.True(t, w.engine.Dir.Alive("b-1.0.0"))
		return nil
	}
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one"))
	require.NoError(t, err)
	require.ErrorAs(t, same, new(*catalog.TakenError))
	require.NoError(t, other)
	require.Len(t, w.versions(), 2)
	require.False(t, w.engine.Dir.Alive("b-1.0.0"))
}

func TestSweepTakesTheDeadAndSparesTheLiving(t *testing.T) {
	w := newWorks(t)
	dead, living := w.engine.Dir.In("run/b-dead"), w.engine.Dir.In("run/b-living")
	require.NoError(t, os.MkdirAll(filepath.Join(dead, "scratch-0"), 0o755))
	require.NoError(t, os.MkdirAll(living, 0o755))
	lock, err := os.Create(filepath.Join(living, "lock"))
	require.NoError(t, err)
	defer lock.Close()
	require.NoError(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
	require.NoError(t, w.engine.Catalog.StartBuild(t.Context(), catalog.Build{ID: "b-dead", Image: "link", Started: time.Now()}))
	_, err = w.engine.Run(t.Context(), w.plan("1.0.0", "one"))
	require.NoError(t, err)
	require.Equal(t, "b-living", w.unfinished()[0].Name())
	builds, _, err := w.engine.Catalog.Builds(t.Context(), "link", 0)
	require.NoError(t, err)
	for _, b := range builds {
		if b.ID == "b-dead" {
			require.Equal(t, catalog.Interrupted, b.State)
		}
	}
}

func TestMissingParentLayerIsSaid(t *testing.T) {
	w := newWorks(t)
	p := w.plan("1.0.0", "one")
	p.Shapes[0].Layers = []string{"0123456789abcdef"}
	_, err := w.engine.Run(t.Context(), p)
	require.ErrorContains(t, err, "the layers of field-os@1 are not kept in this state; build field-os again")
}

func TestStateWithOtherIDsIsRefused(t *testing.T) {
	w := newWorks(t)
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one"))
	require.NoError(t, err)
	w.engine.IDs.Host++
	_, err = w.engine.Run(t.Context(), w.plan("1.0.1", "one"))
	require.ErrorContains(t, err, "belongs to another user")
}

func TestLogOfADeadBuildIsReadAsFarAsItGoes(t *testing.T) {
	w := newWorks(t)
	dir := w.engine.Dir.In("builds/b-dead")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log.jsonl"), []byte(`{"kind":"started"}`+"\n"+`{"kind":"sta`), 0o644))
	count := 0
	require.NoError(t, record.ReadJournal(t.Context(), w.engine.Dir, "b-dead", func(record.Event) error { count++; return nil }))
	require.Equal(t, 1, count)
	stop := errors.New("enough")
	require.ErrorIs(t, record.ReadJournal(t.Context(), w.engine.Dir, "b-dead", func(record.Event) error { return stop }), stop)
}

func TestFailedStageRunsAgainFromTheTreeBeforeIt(t *testing.T) {
	w := newWorks(t)
	tries := 0
	w.hand.do = func(_ context.Context, stage machine.Stage, _ machine.Watcher, left *left) error {
		if tries++; tries == 1 {
			left.files["half"] = ""
			return &machine.StepError{Name: "x", Code: 1}
		}
		require.Empty(t, left.files, "nothing of the failed try is there")
		return nil
	}
	p := w.plan("1.0.0", "one")
	p.Shapes[0].Stages[0].Retries = 2
	made, err := w.engine.Run(t.Context(), p)
	require.NoError(t, err)
	require.Equal(t, 1, made.Shapes[0].Stages[0].Retries)
	require.Contains(t, w.kinds(), "retry")
	_, err = os.Stat(w.engine.Dir.In("failed", "b-1.0.0"))
	require.ErrorIs(t, err, os.ErrNotExist, "only the last failure is kept")
}

func TestStateOfAFailedStageIsKeptForALook(t *testing.T) {
	w := newWorks(t)
	w.hand.do = func(_ context.Context, stage machine.Stage, _ machine.Watcher, left *left) error {
		if stage.Name == "one" {
			return nil
		}
		left.files["half"] = "done"
		return &machine.StepError{Name: "x", Code: 1}
	}
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one", "two"))
	var failure *record.Failure
	require.ErrorAs(t, err, &failure)
	require.True(t, failure.Kept)
	view := func(stage string) (*record.View, error) {
		return record.ViewFailed(t.Context(), w.engine.Dir, &catalog.Build{ID: "b-1.0.0", State: catalog.Failed}, "", stage)
	}
	v, err := view("")
	require.NoError(t, err)
	require.Len(t, v.Layers, 2, "the base and the stage before")
	text, err := os.ReadFile(filepath.Join(v.Kept, "half"))
	require.NoError(t, err)
	require.Equal(t, "done", string(text))
	v, err = view("one")
	require.NoError(t, err)
	require.Empty(t, v.Kept)
	_, err = view("three")
	require.ErrorContains(t, err, `finished no stage "three"; it finished one`)
	w.hand.do = nil
	_, err = w.engine.Run(t.Context(), w.plan("1.0.1", "one", "two"))
	require.NoError(t, err)
	_, err = view("")
	require.ErrorContains(t, err, "no state is kept")
	v, err = record.ViewBuild(w.engine.Dir, "b-1.0.1", "", "one")
	require.NoError(t, err)
	require.Len(t, v.Layers, 2)
	_, err = record.ViewBuild(w.engine.Dir, "b-1.0.1", "", "nine")
	require.ErrorContains(t, err, `link@1.0.1 has no stage "nine"; its stages are one, two`)
}

func TestBuildIsCancelledFromElsewhere(t *testing.T) {
	w := newWorks(t)
	w.hand.do = func(ctx context.Context, _ machine.Stage, _ machine.Watcher, left *left) error {
		require.NoError(t, os.WriteFile(w.engine.Dir.Cancellation("b-1.0.0"), []byte("somebody"), 0o644))
		<-ctx.Done()
		return ctx.Err()
	}
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "one"))
	require.EqualError(t, err, "the build of link was cancelled by somebody")
	builds, _, err := w.engine.Catalog.Builds(t.Context(), "link", 0)
	require.NoError(t, err)
	require.Equal(t, catalog.Cancelled, builds[0].State)
}

func TestVariantsAndBuildsShareAStage(t *testing.T) {
	w := newWorks(t)
	var mu sync.Mutex
	ran := map[string]int{}
	w.hand.always = true
	w.hand.do = func(_ context.Context, stage machine.Stage, _ machine.Watcher, left *left) error {
		mu.Lock()
		ran[stage.Name]++
		mu.Unlock()
		time.Sleep(50 * time.Millisecond)
		left.files["made"] = "x"
		return nil
	}
	w.engine.Watch = func(record.Event) {}
	w.engine.Jobs = 2
	base, err := w.engine.Base(t.Context(), plan.Base{}, "", t.TempDir(), nil)
	require.NoError(t, err)
	var group sync.WaitGroup
	for i := range 4 {
		group.Go(func() {
			p := w.plan("1.0.0", "common", "own")
			p.Image, p.Build = fmt.Sprint("link-", i), fmt.Sprint("b-", i)
			p.Shapes = append(p.Shapes, p.Shapes[0])
			p.Shapes[0].Variant, p.Shapes[1].Variant = "edge", "bench"
			for j := range p.Shapes {
				p.Shapes[j].Layers = []string{base.Layer}
				p.Shapes[j].Stages = slices.Clone(p.Shapes[j].Stages)
				p.Shapes[j].Stages[1].Env = []string{fmt.Sprint("OWN=", i, j)}
			}
			_, err := w.engine.Run(t.Context(), p)
			if err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	require.Equal(t, map[string]int{"common": 1, "own": 8}, ran)
	for _, v := range w.versions() {
		require.Len(t, v.Trees, 2)
		require.Len(t, v.Artifacts, 4)
	}
}

// A text that a power cut left empty is no text, and is kept anew.
func TestEmptiedTextsAreKeptAnew(t *testing.T) {
	w := newWorks(t)
	digest := plan.Digest([]byte("a"))
	with := func(version string) *plan.Plan {
		p := w.plan(version, "a")
		p.Shapes[0].Stages[0].Steps[0].Script, p.Shapes[0].Stages[0].Steps[0].Digest = []byte("a"), digest
		return p
	}
	_, err := w.engine.Run(t.Context(), with("1.0.0"))
	require.NoError(t, err)
	require.Equal(t, "a", string(w.engine.Dir.ReadText(digest)))
	name := w.engine.Dir.In("texts", digest)
	require.NoError(t, os.Truncate(name, 0))
	require.Nil(t, w.engine.Dir.ReadText(digest))
	_, err = w.engine.Run(t.Context(), with("1.0.1"))
	require.NoError(t, err)
	require.Equal(t, "a", string(w.engine.Dir.ReadText(digest)))
}

// What a build that still runs is about to keep of its failure is not taken away by another one.
func TestStateOfARunningBuildIsLeftAlone(t *testing.T) {
	w := newWorks(t)
	begun := w.engine.Dir.In("failed", "b-other")
	run := w.engine.Dir.In("run", "b-other")
	require.NoError(t, errors.Join(os.MkdirAll(begun, 0o700), os.MkdirAll(run, 0o700)))
	lock, err := os.Create(filepath.Join(run, "lock"))
	require.NoError(t, err)
	require.NoError(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
	_, err = w.engine.Run(t.Context(), w.plan("1.0.0", "a"))
	require.NoError(t, err)
	require.DirExists(t, begun)
	require.NoError(t, lock.Close())
	_, err = w.engine.Run(t.Context(), w.plan("1.0.1", "a"))
	require.NoError(t, err)
	require.NoDirExists(t, begun)
}
