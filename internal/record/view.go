package record

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/state"
)

// FailedState is what is kept of a stage that failed, for a look at it.
type FailedState struct {
	Failure  *Failure             `json:"failure"`
	Layers   []string             `json:"layers"`
	Stage    plan.Stage           `json:"stage"`
	Scripts  [][]byte             `json:"scripts"`
	Disk     string               `json:"disk,omitempty"`     // its file beside this; then there is no tree
	Artifact *definition.Artifact `json:"artifact,omitempty"` // of which it is
}

// FailedStates reads what is kept of a failed build in its folder, a state for each variant that failed.
func FailedStates(dir string) (list []FailedState) {
	for _, name := range state.Dir(dir).Find("*/state.json") {
		var s FailedState
		if text, err := os.ReadFile(name); err == nil && json.Unmarshal(text, &s) == nil {
			list = append(list, s)
		}
	}
	return list
}

// View is a tree to look at, and how a stage saw it.
type View struct {
	About    string   // in words
	Image    string   // of a disk that failed
	Layers   []string // digests, lowest first
	Kept     string   // what a stage that failed left on them: see machine.Ground
	User     string
	Dir      string
	Env      []string
	Network  bool
	Scripts  []string             // names of the scripts of a stage that failed
	Disk     string               // file of a disk that failed, "" for none
	Artifact *definition.Artifact // which that is
	Contents [][]byte
}

func (v *View) as(s *plan.Stage) {
	v.User, v.Dir, v.Env, v.Network = s.User, s.Dir, s.Env, s.Network
}

// ViewBuild is what a build that made a version left after a stage, or what it captured if stage is "".
func ViewBuild(at state.Dir, id, variant, stage string) (*View, error) {
	r, err := Read(at, id)
	if err != nil {
		return nil, err
	}
	var variants []string
	for _, s := range r.Shapes {
		variants = append(variants, s.Variant)
	}
	if len(variants) == 1 && variants[0] == "" {
		variant = "" // it has but one shape
	}
	i := slices.Index(variants, variant)
	switch {
	case i >= 0:
	case variant == "" && len(variants) > 0:
		return nil, fmt.Errorf("%s has the variants %s; choose one with --variant", r.Version.Ref(), strings.Join(variants, ", "))
	default:
		return nil, fmt.Errorf("%s has no variant %q", r.Version.Ref(), variant)
	}
	if stage == "" {
		return &View{About: "In " + r.Version.Ref() + ", as it was captured.", Layers: r.Version.Tree(variant).Layers, Network: true}, nil
	}
	v := &View{About: fmt.Sprintf("In %s, after its stage %s.", r.Version.Ref(), stage), Layers: slices.Clone(r.Plan.Shapes[i].Layers)}
	var names []string
	for j, s := range r.Shapes[i].Stages {
		if s.Layer != layer.EmptyDigest {
			v.Layers = append(v.Layers, s.Layer)
		}
		if s.Name == stage {
			v.as(&r.Plan.Shapes[i].Stages[j])
			return v, nil
		}
		names = append(names, s.Name)
	}
	return nil, fmt.Errorf("%s has no stage %q; its stages are %s", r.Version.Ref(), stage, strings.Join(names, ", "))
}

// ViewFailed is the state in which a build failed; with a stage, what that one left.
func ViewFailed(ctx context.Context, at state.Dir, b *catalog.Build, variant, stage string) (*View, error) {
	states := FailedStates(at.In("failed", b.ID))
	if len(states) == 0 {
		return nil, fmt.Errorf("of build %s (%s) no state is kept: only of an image's last build, if a script failed. 'zygos log %s' shows "+
			"what it did", b.ID, b.State, b.ID)
	}
	var variants []string
	for _, s := range states {
		variants = append(variants, s.Failure.Variant)
	}
	if variant == "" {
		variant = variants[0]
	}
	i := slices.Index(variants, variant)
	if i < 0 {
		return nil, fmt.Errorf("variant %q did not fail in %s; %s did", variant, b.ID, strings.Join(variants, ", "))
	}
	s, dir := states[i], at.Failed(b.ID, variant)
	if stage == "" || stage == s.Stage.Name {
		v := &View{About: fmt.Sprintf("In the state in which %s failed: %sstage %s, step %s, %s.", b.ID, variantWord(variant), s.Failure.Stage,
			s.Failure.Step, s.Failure.How()),
			Layers: s.Layers, Kept: filepath.Join(dir, "tree"), Contents: s.Scripts}
		if s.Disk != "" {
			v.Kept, v.Disk, v.Image, v.Artifact = "", filepath.Join(dir, s.Disk), s.Failure.Image, s.Artifact
			v.Network = true
			return v, nil
		}
		v.as(&s.Stage)
		for _, step := range s.Stage.Steps {
			if step.Copy == nil {
				v.Scripts = append(v.Scripts, step.Name)
			}
		}
		return v, nil
	}
	found, names := "", []string{}
	err := ReadJournal(ctx, at, b.ID, func(e Event) error {
		made := ""
		switch w := e.What.(type) {
		case StageDone:
			made = w.Layer
		case Reused:
			made = w.Layer
		}
		if made != "" && e.Variant == s.Failure.Variant {
			name, _ := e.Place()
			names = append(names, name)
			if name == stage {
				found = made
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if i := slices.Index(s.Layers, found); i >= 0 {
		return &View{About: fmt.Sprintf("In build %s, after its stage %s.", b.ID, stage), Layers: s.Layers[:i+1], Network: true}, nil
	}
	return nil, fmt.Errorf("build %s finished no stage %q; it finished %s", b.ID, stage, strings.Join(names, ", "))
}

func variantWord(variant string) string {
	if variant == "" {
		return ""
	}
	return "variant " + variant + ", "
}
