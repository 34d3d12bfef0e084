package hunt_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/hunt"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
)

// past is made-up versions of an image, each with the layers of its base and stages.
type past struct {
	t        *testing.T
	layers   *layer.Store
	records  map[string]*record.Record
	versions []catalog.Version
	told     []string
	judged   int
}

func newPast(t *testing.T) *past {
	return &past{t: t, layers: &layer.Store{Dir: t.TempDir()}, records: map[string]*record.Record{}}
}

// keep makes a layer with a file.
func (p *past) keep(name string) string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	require.NoError(p.t, w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(name))}))
	_, err := w.Write([]byte(name))
	require.NoError(p.t, err)
	require.NoError(p.t, w.Close())
	dir, err := p.layers.Begin(p.layers.Dir)
	require.NoError(p.t, err)
	x, err := layer.Unpack(p.t.Context(), &b, layer.Folder{Dir: dir + "/tree"}, layer.DefaultLimits)
	require.NoError(p.t, err)
	digest, err := p.layers.Commit(dir, x)
	require.NoError(p.t, err)
	return digest
}

// add adds a version whose base and stages leave files of these names.
func (p *past) add(ref string, base plan.Base, below []string, stages ...string) {
	image, version, _ := strings.Cut(ref, "@")
	shape, made := plan.Shape{Layers: below}, record.Shape{}
	all := slices.Clone(below)
	for _, name := range stages {
		stage, _, _ := strings.Cut(name, "-")
		digest := p.keep(name)
		all = append(all, digest)
		made.Stages = append(made.Stages, record.Stage{Name: stage, Layer: digest})
		shape.Stages = append(shape.Stages, plan.Stage{Name: stage, Steps: []plan.Step{{Name: name, Digest: name}}})
	}
	p.versions = append(p.versions, catalog.Version{Image: image, Version: version, Build: ref, Trees: []catalog.Tree{{Layers: all}}})
	v := &p.versions[len(p.versions)-1]
	p.records[ref] = &record.Record{Build: ref, Version: v, Shapes: []record.Shape{made}, Plan: &plan.Plan{Image: image, Version: version,
		Base:   base,
		Shapes: []plan.Shape{shape}}}
}

type known struct{ plan.Known }

func (known) Text(string) []byte { return nil }

// hunt fails on trees that have the file bad.
func (p *past) hunt(bad string) *hunt.Hunt {
	return &hunt.Hunt{Layers: p.layers, Tell: func(text string) { p.told = append(p.told, text) }, Known: known{},
		Record: func(v *catalog.Version) (*record.Record, error) {
			if r := p.records[v.Build]; r != nil {
				return r, nil
			}
			return nil, errors.New("its record is gone")
		},
		Find: func(_ context.Context, image, version string) (*catalog.Version, error) {
			if r := p.records[image+"@"+version]; r != nil {
				return r.Version, nil
			}
			return nil, errors.New("there is none")
		},
		Judge: func(_ context.Context, layers []string) (record.CheckResult, error) {
			p.judged++
			tree, err := p.layers.Stack(layers)
			if err == nil && tree.Lookup(bad) != nil {
				return record.CheckResult{Check: "rules", State: record.Failed, Why: bad + " is there"}, nil
			}
			return record.CheckResult{State: record.Passed}, err
		}}
}

var outside = plan.Base{Name: "field-os", Version: "1"}

func TestHuntHalvesOverVersionsAndStages(t *testing.T) {
	p := newPast(t)
	base := []string{p.keep("base")}
	for i := range 16 {
		stages := []string{"first", "second", "third"}
		if i >= 11 {
			stages[1] = "second-broken"
		}
		stages = append(stages, fmt.Sprintf("last-%d", i))
		p.add(fmt.Sprintf("link@1.0.%d", i), outside, base, stages...)
	}
	found, err := p.hunt("second-broken").Run(t.Context(), p.versions)
	require.NoError(t, err)
	require.Equal(t, "link@1.0.10", found.Passes.Ref())
	require.Equal(t, "link@1.0.11", found.Fails.Ref())
	require.Equal(t, []string{"link", "1.0.10", "1.0.11", "second"}, []string{found.Image, found.Was, found.Now, found.Stage})
	require.Equal(t, "second-broken is there", found.Result.Why)
	require.LessOrEqual(t, found.Tries, 14, "it halves")
	require.Equal(t, p.judged, found.Tries)
	var files []string
	for _, c := range found.Files {
		files = append(files, c.State+" "+c.Path)
	}
	require.ElementsMatch(t, []string{"added second-broken", "removed second"}, files)
}

// What a parent's stage broke is hunted down in the parent.
func TestHuntGoesToTheParent(t *testing.T) {
	p := newPast(t)
	field := []string{p.keep("base")}
	p.add("base@1.0.0", outside, field, "os")
	p.add("base@1.0.1", outside, field, "os-bad")
	parents := p.versions
	p.versions = nil
	for i, parent := range parents {
		p.add(fmt.Sprintf("link@1.0.%d", i), plan.Base{Name: "base", Version: parent.Version, Image: true}, parent.Trees[0].Layers, "app")
	}
	found, err := p.hunt("os-bad").Run(t.Context(), p.versions)
	require.NoError(t, err)
	require.Equal(t, []string{"base", "1.0.0", "1.0.1", "os"}, []string{found.Image, found.Was, found.Now, found.Stage})
}

func TestHuntSaysWhyItCannotBegin(t *testing.T) {
	p := newPast(t)
	base := []string{p.keep("base")}
	p.add("link@1.0.0", outside, base, "one")
	_, err := p.hunt("x").Run(t.Context(), p.versions)
	require.ErrorContains(t, err, "there are not two versions whose trees are kept here")
	p.add("link@1.0.1", outside, base, "one-bad")
	_, err = p.hunt("nothing").Run(t.Context(), p.versions)
	require.ErrorContains(t, err, "it passes on link@1.0.1: there is nothing to hunt")
	_, err = p.hunt("base").Run(t.Context(), p.versions)
	require.ErrorContains(t, err, "it fails on link@1.0.0 already, the oldest that is kept")
	p.versions = append(p.versions, catalog.Version{Image: "link", Version: "1.0.2", Trees: []catalog.Tree{{Layers: []string{"gone"}}}})
	found, err := p.hunt("one-bad").Run(t.Context(), p.versions)
	require.NoError(t, err)
	require.Equal(t, "one", found.Stage)
	require.Contains(t, p.told, "1 versions are passed over: their trees are not kept here")
	delete(p.records, "link@1.0.0")
	_, err = p.hunt("one-bad").Run(t.Context(), p.versions)
	require.ErrorContains(t, err, "since a record is not kept")
}
