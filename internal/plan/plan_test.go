package plan_test

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/secret"
)

// world is what plans depend on, as far as a test wants it.
type world struct {
	t         *testing.T
	root      string
	org       *definition.Organisation
	img       *definition.Image
	newest    *plan.Newest
	traces    map[string]*plan.Trace
	texts     map[string][]byte
	base      *layer.Snapshot
	parent    *plan.Parent
	snapshots map[string]*layer.Snapshot
	epoch     string
}

func (w *world) NextVersion(_ context.Context, _, series, version string) (string, error) {
	if version != "" {
		return version, nil
	}
	return series + ".7", nil
}

func (w *world) Parent(_ context.Context, ref definition.Ref) (*plan.Parent, error) {
	if w.parent == nil {
		return nil, errors.New(ref.String() + " has no version yet")
	}
	return w.parent, nil
}

func (w *world) Newest(context.Context, string, string) (*plan.Newest, error) { return w.newest, nil }
func (w *world) Trace(_, variant, stage string) *plan.Trace                   { return w.traces[variant+" "+stage] }
func (w *world) Text(digest string) []byte                                    { return w.texts[digest] }
func (w *world) SecretKey(context.Context) ([]byte, error)                    { return []byte("key"), nil }
func (w *world) Base(context.Context, *definition.Base) *layer.Snapshot       { return w.base }
func (w *world) Snapshot(_ context.Context, key string) *layer.Snapshot       { return w.snapshots[key] }
func (w *world) file(name, text string)                                       { w.fileMode(name, text, 0o644) }
func (w *world) fileMode(name, text string, m os.FileMode) {
	full := filepath.Join(w.root, name)
	require.NoError(w.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(w.t, os.WriteFile(full, []byte(text), m))
}

func newWorld(t *testing.T) *world {
	w := &world{t: t, root: t.TempDir(), snapshots: map[string]*layer.Snapshot{}, traces: map[string]*plan.Trace{}, texts: map[string][]byte{},
		org:  &definition.Organisation{Bases: []definition.Base{{Name: "field-os", Release: "1.2.0", SHA256: digest.Of([]byte("a"))}}},
		base: &layer.Snapshot{Layer: "base-layer", Epoch: 1000}}
	w.file("scripts/a.sh", "echo a\n")
	w.file("scripts/b.sh", "echo b\n")
	w.file("files/f", "content")
	w.file("images/link.toml", "")
	w.img = &definition.Image{Name: "link", File: "images/link.toml", Series: "2.3", Base: "field-os",
		Labels: map[string]string{"owner": "me"}, Inputs: []definition.Input{{Name: "site", Default: "north"}},
		Artifacts: []definition.Artifact{{Format: "tar"}},
		Stages: []definition.Stage{
			{Name: "one", Network: true, Scripts: []definition.Script{{Path: "scripts/a.sh"}, {Path: "scripts/b.sh"}},
				Files: []definition.File{{From: "files/f", To: "/f", Mode: 0o644, Owner: "root:root"}}},
			{Name: "two", Network: true, Scripts: []definition.Script{{Inline: "date"}},
				Env: []definition.EnvVar{{Name: "SITE", Value: "${input.site}"}}},
		}}
	return w
}

func (w *world) make(force bool) *plan.Plan {
	p, err := plan.Make(secret.With(w.t.Context(), os.LookupEnv), w.root, w.org, w.img, w, plan.Options{Force: force, Epoch: w.epoch})
	require.NoError(w.t, err)
	return p
}

// keys are the keys of both stages, the second on a fixed tree.
func (w *world) keys() [2]string {
	p := w.make(true)
	return [2]string{p.Shapes[0].Key(0, []string{"x"}), p.Shapes[0].Key(1, []string{"x"})}
}

func TestWhatChangesAKey(t *testing.T) {
	one := func(w *world) *definition.Stage { return &w.img.Stages[0] }
	for name, c := range map[string]struct {
		change  func(*world)
		changes bool
	}{
		"nothing":                     {func(*world) {}, false},
		"a script":                    {func(w *world) { w.file("scripts/a.sh", "echo A\n") }, true},
		"the order of scripts":        {func(w *world) { s := one(w).Scripts; s[0], s[1] = s[1], s[0] }, true},
		"a file's content":            {func(w *world) { w.file("files/f", "other") }, true},
		"a file's place":              {func(w *world) { one(w).Files[0].To = "/g" }, true},
		"a file's mode":               {func(w *world) { one(w).Files[0].Mode = 0o600 }, true},
		"a file's owner":              {func(w *world) { one(w).Files[0].Owner = "root:link" }, true},
		"the user":                    {func(w *world) { one(w).User = "nobody" }, true},
		"the folder":                  {func(w *world) { one(w).Dir = "/srv" }, true},
		"the network":                 {func(w *world) { one(w).Network = false }, true},
		"a variable":                  {func(w *world) { one(w).Env = []definition.EnvVar{{Name: "A", Value: "b"}} }, true},
		"the stage's name":            {func(w *world) { one(w).Name = "uno" }, true}, // scripts see it
		"the base's newest time":      {func(w *world) { w.base.Epoch++ }, true},
		"the timeout":                 {func(w *world) { one(w).Timeout = 5 }, false},
		"a script's path":             {func(w *world) { w.file("scripts/c.sh", "echo a\n"); one(w).Scripts[0].Path = "scripts/c.sh" }, false},
		"a file's path":               {func(w *world) { w.file("files/g", "content"); one(w).Files[0].From = "files/g" }, false},
		"the image's name":            {func(w *world) { w.img.Name = "other" }, false}, // unless a script names it
		"labels":                      {func(w *world) { w.img.Labels["x"] = "y" }, false},
		"an input it does not use":    {func(w *world) { w.img.Inputs[0].Default = "south" }, false},
		"whether the stage is shared": {func(w *world) { w.file("stages/x.toml", ""); one(w).Shared = "stages/x.toml" }, false},
		"the next stage":              {func(w *world) { w.img.Stages[1].Name = "zwei" }, false},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			before := w.keys()[0]
			c.change(w)
			if c.changes {
				require.NotEqual(t, before, w.keys()[0])
			} else {
				require.Equal(t, before, w.keys()[0])
			}
		})
	}
}

func TestKeyFollowsTheTreeAndInputs(t *testing.T) {
	w := newWorld(t)
	p := w.make(true)
	require.NotEqual(t, p.Shapes[0].Key(0, []string{"x"}), p.Shapes[0].Key(0, []string{"y"}))
	require.NotEqual(t, p.Shapes[0].Key(0, []string{"x", "y"}), p.Shapes[0].Key(0, []string{"y", "x"}))
	require.Equal(t, p.Shapes[0].Key(0, []string{"x"}), p.Shapes[0].Key(0, []string{"x", layer.EmptyDigest}),
		"a layer without changes changes no tree")
	before := w.keys()[1]
	w.img.Inputs[0].Default = "south"
	require.NotEqual(t, before, w.keys()[1])
}

func TestVolatileVariablesReachOnlyStagesThatNameThem(t *testing.T) {
	w := newWorld(t)
	w.file("scripts/b.sh", "echo $ZYGOS_VERSION\n")
	p := w.make(true)
	require.Contains(t, p.Shapes[0].Stages[0].Env, "ZYGOS_VERSION=2.3.7")
	require.NotContains(t, strings.Join(p.Shapes[0].Stages[1].Env, " "), "ZYGOS_VERSION")
	require.NotContains(t, strings.Join(p.Shapes[0].Stages[0].Env, " "), "ZYGOS_BUILD=")
	require.Contains(t, p.Shapes[0].Stages[1].Env, "ZYGOS_BUILDING=1")
	require.Contains(t, p.Shapes[0].Stages[1].Env, "SITE=north")

	w.file("files/f", "#!/bin/sh\necho $ZYGOS_IMAGE")
	require.Contains(t, w.make(true).Shapes[0].Stages[0].Env, "ZYGOS_IMAGE=link", "a file may be a script that is run later")
}

func TestUnchangedDefinitionIsFoundUnchanged(t *testing.T) {
	w := newWorld(t)
	w.file("scripts/b.sh", "echo $ZYGOS_VERSION $ZYGOS_BUILD\n")
	w.newest = &plan.Newest{Version: "2.3.6", Fingerprint: w.make(true).Fingerprint, Created: time.Now()}
	require.Equal(t, "2.3.6", w.make(false).Unchanged, "a number that differs with every build is no change")
	forced := w.make(true)
	require.Empty(t, forced.Unchanged)
	require.Equal(t, "2.3.7", forced.Version)
	for name, change := range map[string]func(*world){
		"script":   func(w *world) { w.file("scripts/a.sh", "echo A\n") },
		"label":    func(w *world) { w.img.Labels["owner"] = "you" },
		"input":    func(w *world) { w.img.Inputs[0].Default = "south" },
		"artifact": func(w *world) { w.img.Artifacts = append(w.img.Artifacts, definition.Artifact{Format: "raw"}) },
		"size":     func(w *world) { w.img.Artifacts[0].Size = 5 },
		"seal":     func(w *world) { w.img.Keep = []string{"logs"} },
		"series":   func(w *world) { w.img.Series = "2.4" },
		"base":     func(w *world) { w.org.Bases[0].SHA256 = digest.Of([]byte("b")) },
		"epoch":    func(w *world) { w.epoch = "5" },
	} {
		t.Run(name, func(t *testing.T) {
			other := newWorld(t)
			other.file("scripts/b.sh", "echo $ZYGOS_VERSION $ZYGOS_BUILD\n")
			other.newest = w.newest
			change(other)
			require.Empty(t, other.make(false).Unchanged)
		})
	}
}

func TestReuseIsFoundAsFarAsItIsCertain(t *testing.T) {
	w := newWorld(t)
	p := w.make(true)
	require.Equal(t, "it has not run before", p.Shapes[0].Stages[0].Reason)
	require.Empty(t, p.Shapes[0].Stages[1].Key)
	require.Contains(t, p.Shapes[0].Stages[1].Reason, "the stage before it runs")

	w.snapshots[p.Shapes[0].Stages[0].Key] = &layer.Snapshot{Layer: "made"}
	p = w.make(true)
	require.NotNil(t, p.Shapes[0].Stages[0].Reuse)
	require.Equal(t, p.Shapes[0].Key(1, []string{"base-layer", "made"}), p.Shapes[0].Stages[1].Key)

	w.base = nil
	p = w.make(true)
	require.Equal(t, "the base is not unpacked yet", p.Shapes[0].Stages[0].Reason)
	require.Nil(t, p.Shapes[0].Stages[0].Reuse)
}

func TestImagesAsBaseArePinned(t *testing.T) {
	w := newWorld(t)
	w.img.Base = "ebb-base@stable"
	_, err := plan.Make(t.Context(), w.root, w.org, w.img, w, plan.Options{})
	require.ErrorContains(t, err, "ebb-base@stable has no version yet")
	w.parent = &plan.Parent{Version: "1.4.0", Trees: map[string][]string{"": {"a", "b"}}, Epoch: 77}
	p := w.make(false)
	require.Equal(t, plan.Base{Name: "ebb-base", Version: "1.4.0", Image: true, Digest: "sha256:" + layer.TreeDigest([]string{"a", "b"})},
		p.Base)
	before := p.Fingerprint
	require.Equal(t, int64(77), p.Shapes[0].Epoch)
	require.Equal(t, []string{"a", "b"}, p.Shapes[0].Layers)
	w.parent.Trees[""] = []string{"a", "c"}
	require.NotEqual(t, before, w.make(false).Fingerprint, "a parent that came out different is a change")
}

func TestSourceDateEpoch(t *testing.T) {
	w := newWorld(t)
	w.epoch = "12345"
	require.Equal(t, int64(12345), w.make(false).Shapes[0].Epoch)
	_, err := plan.Make(t.Context(), w.root, w.org, w.img, w, plan.Options{Epoch: "yesterday"})
	require.ErrorContains(t, err, `SOURCE_DATE_EPOCH is "yesterday"`)
}

func TestBuildIDsSortByTime(t *testing.T) {
	w := newWorld(t)
	require.Regexp(t, `^b-\d{8}-\d{6}-[a-z2-7]{8}$`, w.make(false).Build)
}

func TestLargeFilesCountWhole(t *testing.T) {
	w := newWorld(t)
	w.file("files/f", strings.Repeat("x", 3<<20)+"a")
	before := w.keys()[0]
	w.file("files/f", strings.Repeat("x", 3<<20)+"b")
	require.NotEqual(t, before, w.keys()[0])
}

func jsonOf(t *testing.T, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

func TestBuildIDs(t *testing.T) {
	require.True(t, plan.IsBuildID(plan.NewBuildID()))
	for _, word := range []string{"b-2026", "b-", "b-os", "b-20260101-000000", "turbine-link", "b-20260101-000000-a/b"} {
		require.False(t, plan.IsBuildID(word), word)
	}
}
