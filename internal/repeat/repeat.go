// Package repeat builds a version again from its own record, in a state of its own and without reusing anything, and says whether the
// same bits come out; and if not, which stage first differs, in which files, and how.
package repeat

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/state"
)

// Repeat is how a version is built again.
type Repeat struct {
	Engine *build.Engine // of the state that has the version
	Dir    state.Dir     // a state of its own, empty
	Root   string        // the workspace as it is now: files that are still what they were
	// Secret is today's value of a secret, with its mark.
	Secret func(ctx context.Context, name string) (plan.Mark, error)
}

// Outcome is what came of it.
type Outcome struct {
	Identical bool          `json:"identical"` // the artifacts are
	Artifacts []Artifact    `json:"artifacts"`
	Variant   string        `json:"variant,omitempty"` // in which a stage differs
	Stage     string        `json:"stage,omitempty"`   // the first that differs, maybe in what sealing removes; "capture" if only artifacts do
	Network   bool          `json:"network,omitempty"` // that stage reaches one
	Files     []Difference  `json:"files,omitempty"`
	More      int           `json:"more,omitempty"` // files that differ beside these
	Times     bool          `json:"times,omitempty"`
	Took      time.Duration `json:"took_ns"`
}

// Artifact is one that was captured twice.
type Artifact struct {
	Artifact string `json:"artifact"`
	Was      string `json:"was"`
	Now      string `json:"now"`
}

// Difference is a file that came out different.
type Difference struct {
	Path  string   `json:"path"`
	State string   `json:"state"` // added, removed or changed
	What  []string `json:"what,omitempty"`
	How   string   `json:"how,omitempty"` // in which way its content differs, and what to do
}

// LacksError says what the record of a version lacks to build it again.
type LacksError struct {
	Ref  string
	What []string
}

func (e *LacksError) Error() string {
	return fmt.Sprintf("%s cannot be repeated: its record lacks %s", e.Ref, strings.Join(e.What, "; "))
}

// Run builds a version again and compares.
func (r *Repeat) Run(ctx context.Context, v *catalog.Version) (*Outcome, error) {
	began := time.Now()
	was, err := record.Read(r.Engine.Dir, v.Build)
	if err != nil {
		return nil, fmt.Errorf("the record of %s is not kept in this state: %w", v.Ref(), err)
	}
	if was.Plan.Adopted != "" {
		return nil, fmt.Errorf("%s was adopted, and not built: there is nothing to repeat", v.Ref())
	}
	p, err := r.plan(ctx, v, was)
	if err != nil {
		return nil, err
	}
	engine, err := r.engine()
	if err != nil {
		return nil, err
	}
	now, err := engine.Run(ctx, p)
	if err != nil {
		return nil, err
	}
	o := &Outcome{Identical: true, Artifacts: []Artifact{}}
	for _, a := range was.Version.Artifacts {
		i := slices.IndexFunc(now.Version.Artifacts, func(b catalog.Artifact) bool { return a.Key().Same(b.Key()) })
		one := Artifact{Artifact: a.Key().String(), Was: a.Digest.String()}
		if i >= 0 {
			one.Now = now.Version.Artifacts[i].Digest.String()
		}
		o.Artifacts = append(o.Artifacts, one)
		o.Identical = o.Identical && one.Was == one.Now
	}
	if err := r.compare(o, was, now, engine); err != nil {
		return nil, err
	}
	o.Took = time.Since(began)
	return o, nil
}

// plan is that of the version, with all that it takes at hand below Dir.
func (r *Repeat) plan(ctx context.Context, v *catalog.Version, was *record.Record) (*plan.Plan, error) {
	var lacks []string
	for _, shape := range was.Plan.Shapes {
		for _, digest := range shape.Layers {
			if !r.Engine.Layers.Has(digest) {
				lacks = append(lacks, fmt.Sprintf("a layer of its base %s@%s, which is not kept any more", was.Plan.Base.Name, was.Plan.Base.Version))
				break
			}
		}
	}
	c := plan.Carrier{Dir: r.Dir.In("workspace"), Secret: r.Secret,
		Content: func(digest, source string) []byte { return text(r.Engine.Dir, r.Root, source, digest) }}
	p, err := c.Ready(ctx, plan.NewOrder(was.Plan))
	var missing *plan.LacksError
	if errors.As(err, &missing) {
		lacks = append(lacks, missing.What...)
	} else if err != nil {
		return nil, err
	}
	if len(lacks) > 0 {
		slices.Sort(lacks)
		return nil, &LacksError{v.Ref(), slices.Compact(lacks)}
	}
	p.Build, p.Force, p.Why, p.Unchanged, p.From = plan.NewBuildID(), true, "repeated from the record of "+v.Build, "", ""
	for i := range p.Shapes {
		p.Shapes[i].Checks = nil
		for j := range p.Shapes[i].Stages {
			s := &p.Shapes[i].Stages[j]
			s.Reuse, s.Forced, s.Key, s.Reason = nil, true, "", "it is repeated"
		}
	}
	return p, nil
}

// Lay lays out what went into a plan, as far as it is kept or still in the workspace, in a folder, and returns the name of the image's
// definition in it.
func Lay(from state.Dir, root string, p *plan.Plan, to string) (file string, err error) {
	c := plan.Carrier{Dir: to, Content: func(digest, source string) []byte { return text(from, root, source, digest) }}
	for _, s := range p.Sources {
		if path.Dir(s.Path) == "images" {
			file = s.Path
		}
	}
	return file, c.Lay(p)
}

// text is a file that went into a plan: as it is kept, or from the workspace if it is still the same.
func text(from state.Dir, root, name, digest string) []byte {
	if text := from.ReadText(digest); text != nil {
		return text
	}
	if name == "" {
		return nil
	}
	text, err := os.ReadFile(filepath.Join(root, name))
	if err != nil || plan.Digest(text) != digest {
		return nil
	}
	return text
}

// engine carries the plan out in a state of its own, on the layers of the base.
func (r *Repeat) engine() (*build.Engine, error) {
	own := *r.Engine
	own.Root, own.Known, own.Budget, own.Ledger = r.Dir.In("workspace"), nil, 0, noLedger{}
	var err error
	own.State, err = r.Engine.Scratch(r.Dir)
	return &own, err
}

// noLedger forgets what is built: a repetition makes no version.
type noLedger struct{}

func (noLedger) ID(context.Context) (string, error)                                  { return "", nil }
func (noLedger) Now() time.Time                                                      { return time.Now() }
func (noLedger) StartBuild(context.Context, catalog.Build) error                     { return nil }
func (noLedger) Beat(context.Context, string) error                                  { return nil }
func (noLedger) EndBuild(context.Context, string, string, string, time.Time) error   { return nil }
func (noLedger) Register(context.Context, catalog.Version) error                     { return nil }
func (noLedger) AddArtifact(context.Context, string, string, catalog.Artifact) error { return nil }

// compare finds the first stage that came out different, and its files.
func (r *Repeat) compare(o *Outcome, was, now *record.Record, again *build.Engine) error {
	for i := range was.Shapes {
		before, after := slices.Clone(was.Plan.Shapes[i].Layers), slices.Clone(was.Plan.Shapes[i].Layers)
		for j := range was.Shapes[i].Stages {
			a, b := was.Shapes[i].Stages[j].Layer, now.Shapes[i].Stages[j].Layer
			before, after = append(before, a), append(after, b)
			if a == b {
				continue
			}
			o.Variant, o.Stage, o.Network = was.Shapes[i].Variant, was.Shapes[i].Stages[j].Name, was.Plan.Shapes[i].Stages[j].Network
			return r.files(o, slices.DeleteFunc(before, empty), slices.DeleteFunc(after, empty), again)
		}
	}
	if !o.Identical {
		o.Stage = "capture"
	}
	return nil
}

func empty(digest string) bool { return digest == layer.EmptyDigest }

// mostFiles is how many files that differ are told.
const mostFiles = 20

func clock(seconds int64) string { return time.Unix(seconds, 0).UTC().Format(time.RFC3339) }

// files finds the files that differ between two trees.
func (r *Repeat) files(o *Outcome, was, now []string, again *build.Engine) error {
	a := layer.Files{Store: r.Engine.Layers, Layers: was}
	b := layer.Files{Store: again.Layers, Layers: now}
	var err1, err2 error
	a.Tree, err1 = a.Store.Stack(was)
	b.Tree, err2 = b.Store.Stack(now)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	list := layer.Diff(a.Tree, b.Tree)
	if o.Times = len(list) == 0; o.Times { // nothing else is in a layer
		for _, n := range a.Tree.Nodes() {
			m := b.Tree.Lookup(n.Path)
			var what []string
			if m.MTime != n.MTime {
				what = append(what, fmt.Sprintf("time %s, now %s", clock(n.MTime), clock(m.MTime)))
			}
			if !slices.Equal(m.Data, n.Data) {
				what = append(what, "holes")
			}
			if m.Same != n.Same {
				what = append(what, "hard links")
			}
			if what != nil {
				list = append(list, layer.Change{Path: n.Path, State: "changed", What: what})
			}
		}
	}
	o.More = max(len(list)-mostFiles, 0)
	for _, c := range list[:len(list)-o.More] {
		d := Difference{Path: "/" + c.Path, State: c.State, What: c.What}
		if slices.Contains(c.What, "content") {
			d.How = how(c.Path, a.Read(c.Path), b.Read(c.Path), o.Network)
		}
		o.Files = append(o.Files, d)
	}
	return nil
}
