package plan_test

import (
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

func (w *world) with(o plan.Options) (*plan.Plan, error) {
	return plan.Make(secret.With(w.t.Context(), os.LookupEnv), w.root, w.org, w.img, w, o)
}

func TestValueOfAnInputIsTheFirstThatIsGiven(t *testing.T) {
	w := newWorld(t)
	w.img.Inputs = []definition.Input{{Name: "site", Default: "default", From: "env:ZYGOS_TEST_SITE"}}
	w.img.Variants = []definition.Variant{{Name: "edge"}, {Name: "bench", Inputs: map[string]string{"site": "variant"}}}
	site := func(o plan.Options) string {
		p, err := w.with(o)
		require.NoError(t, err)
		return p.Shapes[0].Inputs["site"] + " " + p.Shapes[1].Inputs["site"]
	}
	require.Equal(t, "default variant", site(plan.Options{}))
	t.Setenv("ZYGOS_TEST_SITE", "env")
	require.Equal(t, "env env", site(plan.Options{}))
	require.Equal(t, "set set", site(plan.Options{Set: map[string]string{"site": "set"}}))

	w.img.Inputs = []definition.Input{{Name: "site", Required: true, From: "command:exit 3",
		Pos: definition.Pos{File: "images/link.toml", Line: 4, Column: 2}}}
	_, err := w.with(plan.Options{})
	require.ErrorContains(t, err, `images/link.toml:4:2: input "site": command "exit 3": exit status 3`)
	w.img.Inputs[0].From, w.img.Variants = "", nil
	_, err = w.with(plan.Options{})
	require.ErrorAs(t, err, new(*plan.InputError))
	require.ErrorContains(t, err, "give one with --set site=VALUE or --inputs FILE")
}

func TestVariantsArePlannedSideBySide(t *testing.T) {
	w := newWorld(t)
	w.img.Variants = []definition.Variant{{Name: "edge", Labels: map[string]string{"place": "${variant}"}}, {Name: "bench"}}
	w.img.Stages[1].Only = []string{"edge"}
	w.img.Artifacts = []definition.Artifact{{Format: "tar"}, {Format: "raw", Only: []string{"edge"}}}
	p := w.make(true)
	require.Equal(t, []string{"edge", "bench"}, []string{p.Shapes[0].Variant, p.Shapes[1].Variant})
	require.Len(t, p.Shapes[0].Stages, 2)
	require.Len(t, p.Shapes[1].Stages, 1)
	require.Len(t, p.Shapes[0].Artifacts, 2)
	require.Len(t, p.Shapes[1].Artifacts, 1)
	require.Equal(t, "edge", p.Shapes[0].Labels["place"])
	require.Equal(t, p.Shapes[0].Stages[0].Key, p.Shapes[1].Stages[0].Key, "what they have in common has one key")
	w.file("scripts/a.sh", "echo $ZYGOS_VARIANT\n")
	p = w.make(true)
	require.NotEqual(t, p.Shapes[0].Stages[0].Key, p.Shapes[1].Stages[0].Key, "unless a script names the variant")

	w.img.Base = "ebb-base"
	w.parent = &plan.Parent{Version: "1.4.0", Trees: map[string][]string{"edge": {"e"}, "bench": {"b"}}}
	p = w.make(true)
	require.Equal(t, []string{"e"}, p.Shapes[0].Layers)
	require.Equal(t, []string{"b"}, p.Shapes[1].Layers)
	before := p.Base.Digest
	w.parent.Trees["bench"] = []string{"c"}
	require.NotEqual(t, before, w.make(true).Base.Digest)
	w.img.Variants[1].Name = "desk"
	_, err := w.with(plan.Options{})
	require.ErrorContains(t, err, "ebb-base@1.4.0 has the variants bench, edge, and link says of none of them that it starts from it")
}

func TestSecretsAreMarkedAndNeverWritten(t *testing.T) {
	w := newWorld(t)
	w.img.Inputs = append(w.img.Inputs, definition.Input{Name: "enrol_key", Secret: true, Required: true, From: "env:ZYGOS_TEST_KEY"})
	w.img.Stages[0].Secrets = []definition.Input{w.img.Inputs[1]}
	_, err := w.with(plan.Options{})
	require.ErrorContains(t, err, `the secret "enrol_key" has no value: ZYGOS_TEST_KEY is not set`)
	t.Setenv("ZYGOS_TEST_KEY", "a value of some length")
	p := w.make(true)
	mark := p.Shapes[0].Stages[0].Secrets[0]
	require.Equal(t, "ENROL_KEY", mark.Variable)
	require.Equal(t, "a value of some length", mark.Value.Value)
	require.NotContains(t, jsonOf(t, p), "some length")
	require.Empty(t, p.Shapes[0].Stages[1].Secrets)
	before := w.keys()
	t.Setenv("ZYGOS_TEST_KEY", "another value of it")
	require.NotEqual(t, before[0], w.keys()[0])
	require.Equal(t, before[1], w.keys()[1])
	_, err = w.with(plan.Options{Set: map[string]string{"enrol_key": "x"}})
	require.ErrorContains(t, err, "shows in the list of processes")
	t.Setenv("ZYGOS_TEST_KEY", "short")
	_, err = w.with(plan.Options{})
	require.ErrorContains(t, err, "it has 5 bytes")
}

func TestGroupsOfFilesAreListed(t *testing.T) {
	w := newWorld(t)
	w.file("files/d/one.conf", "1")
	w.fileMode("files/d/sub/run", "#!/bin/sh\n", 0o755)
	require.NoError(t, os.Symlink("one.conf", filepath.Join(w.root, "files/d/link")))
	list := func(from, to string, mode int) string {
		w.img.Stages[0].Files = []definition.File{{From: from, To: to, Mode: mode, Owner: "root:root"}}
		var lines []string
		for _, f := range w.make(true).Shapes[0].Stages[0].Steps[0].Files {
			lines = append(lines, strings.TrimSpace(f.To+" "+f.Mode+" "+f.Link))
		}
		return strings.Join(lines, "\n")
	}
	require.Equal(t, "/etc/d 0755\n/etc/d/link 0777 one.conf\n/etc/d/one.conf 0644\n/etc/d/sub 0755\n/etc/d/sub/run 0755",
		list("files/d", "/etc/d", -1))
	require.Equal(t, "/etc/one.conf 0600", list("files/d/*.conf", "/etc/", 0o600))
	require.Equal(t, "/etc/one.conf 0644", list("files/d/one.conf", "/etc/", -1))
	require.Equal(t, "/etc/other 0640", list("files/d/one.conf", "/etc/other", 0o640))
}

func TestAgeAndForceMakeStagesRun(t *testing.T) {
	w := newWorld(t)
	p := w.make(true)
	w.snapshots[p.Shapes[0].Stages[0].Key] = &layer.Snapshot{Layer: "made", Created: time.Now().Add(-48 * time.Hour)}
	w.newest = &plan.Newest{Version: "2.3.6", Fingerprint: p.Fingerprint, Created: time.Now().Add(-48 * time.Hour)}
	require.Equal(t, "2.3.6", w.make(false).Unchanged)
	w.img.Stages[0].Refresh = 24 * time.Hour
	p = w.make(false)
	require.Empty(t, p.Unchanged, "the same definition runs anew when a stage is too old")
	require.Equal(t, "2.3.7", p.Version)
	require.Equal(t, "its snapshot is older than its refresh age of 1d", p.Shapes[0].Stages[0].Reason)
	w.img.Stages[0].Refresh = 72 * time.Hour
	require.Equal(t, "2.3.6", w.make(false).Unchanged)
	w.snapshots[p.Shapes[0].Stages[0].Key].Created = time.Now().Add(48 * time.Hour)
	p = w.make(false)
	require.Empty(t, p.Unchanged)
	require.Contains(t, p.Shapes[0].Stages[0].Reason, "its snapshot was made in the future")

	p, err := w.with(plan.Options{From: "one"})
	require.NoError(t, err)
	require.Equal(t, "asked for by --from one", p.Shapes[0].Stages[0].Reason)
	require.True(t, p.Shapes[0].Stages[1].Forced)
	_, err = w.with(plan.Options{From: "three"})
	require.ErrorContains(t, err, `link has no stage "three"; stages are one, two`)
}

func TestReasonsNameWhatChanged(t *testing.T) {
	w := newWorld(t)
	p := w.make(true)
	remember := func() {
		p = w.make(true)
		for i, s := range p.Shapes[0].Stages {
			w.traces[" "+s.Name] = p.TraceOf(0, i, []string{"base-layer"})
		}
	}
	remember()
	require.Equal(t, "its snapshot is no longer kept", w.make(true).Shapes[0].Stages[0].Reason)
	for want, change := range map[string]func(){
		"scripts/a.sh changed": func() { w.file("scripts/a.sh", "echo other\n") },
		"base field-os moved from 1.2.0 to 1.3.0": func() {
			w.org.Bases[0].Release, w.org.Bases[0].SHA256 = "1.3.0",
				digest.Of([]byte("b"))
		},
		"owner of /f changed from root:root to link":                 func() { w.img.Stages[0].Files[0].Owner = "link" },
		"the steps have another order":                               func() { s := w.img.Stages[0].Scripts; s[0], s[1] = s[1], s[0] },
		"scripts/b.sh removed":                                       func() { w.img.Stages[0].Scripts = w.img.Stages[0].Scripts[:1] },
		"what the stages before it made is different":                func() { w.base.Layer = "other" },
		`restart changed from "false" to "true"`:                     func() { w.img.Stages[0].Restart = true },
		"copy files/f added":                                         func() {},
		"this Zygos makes layers in another way than the one before": func() { w.traces[" one"].Engine = 0 },
	} {
		w = newWorld(t)
		remember()
		if want == "copy files/f added" {
			w.traces[" one"].Stage.Steps = w.traces[" one"].Stage.Steps[1:]
		}
		change()
		require.Equal(t, want, w.make(true).Shapes[0].Stages[0].Reason)
	}
	require.Equal(t, []string{"base: field-os has"}, func() []string {
		other := *p
		other.Base.Digest = "sha256:other"
		list := plan.Changed(p, &other)
		return []string{strings.Replace(list[0], "base: field-os@1.2.0 has another checksum than before", "base: field-os has", 1)}
	}())
}

func TestAgesAsDefinitionsWriteThem(t *testing.T) {
	for want, d := range map[string]time.Duration{
		"7d": 7 * 24 * time.Hour, "1d": 24 * time.Hour, "36h": 36 * time.Hour, "1h30m": 90 * time.Minute, "10m": 10 * time.Minute,
		"90ms": 90 * time.Millisecond, "1m30s": 90 * time.Second,
	} {
		require.Equal(t, want, plan.Age(d))
		if d >= time.Second {
			back, err := definition.ParseAge(want)
			require.NoError(t, err)
			require.Equal(t, d, back)
		}
	}
	for _, text := range []string{"", "d", "xd", "7 days", "-1d", "1d-5h"} {
		d, err := definition.ParseAge(text)
		require.True(t, err != nil || d < 24*time.Hour, text)
	}
}
