package build

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
)

// Checks stands where a failure names its stage, if checks failed.
const Checks = "checks"

// Repeated is how a version was judged by building it again.
const Repeated = "repeat"

// JudgementSchema names the document of what checks said.
const JudgementSchema = "zygos.judgement/1"

// JudgementDocument is what checks said of a version.
type JudgementDocument struct {
	Schema  string         `json:"schema"`
	Image   string         `json:"image"`
	Version string         `json:"version"`
	Build   string         `json:"build"`
	At      string         `json:"at"`
	Who     string         `json:"who"`
	Host    string         `json:"host"`
	How     string         `json:"how"`
	Results []judge.Result `json:"results"`
}

// NewJudgement is what results come to, as the catalog keeps it.
func NewJudgement(v *catalog.Version, who, how string, results []judge.Result) (*catalog.Judgement, error) {
	host, _ := os.Hostname() // a host without a name has none to record
	now, counts := time.Now().UTC(), judge.Count(results)
	text, err := json.Marshal(JudgementDocument{Schema: JudgementSchema, Image: v.Image, Version: v.Version, Build: v.Build,
		At: now.Format(time.RFC3339), Who: who, Host: host, How: how, Results: results})
	return &catalog.Judgement{Image: v.Image, Version: v.Version, At: now, Who: who, Host: host, How: how, Passed: counts.Passed,
		Failed: counts.Failed, Warned: counts.Warned, Skipped: counts.Skipped, Digest: "sha256:" + plan.Digest(text), Document: string(text)}, err
}

// Bench is where the tree of a version is judged; dir is on the store's disk, for what is unfinished.
func (e *Engine) Bench(variant, dir string, layers []string, tree *layer.Tree, limits machine.Limits, text func(string) string,
	mask func(io.Reader) io.Reader) *judge.Bench {
	return &judge.Bench{Variant: variant, Machine: e.Machine, Limits: limits, Text: text, Mask: mask,
		Ground: machine.Ground{Store: e.Layers, Layers: layers, Tree: tree, Temp: dir}}
}

// judge has checks judge the sealed tree; one that must pass and does not is a *Failure, with the state kept.
func (b *branch) judge(ctx context.Context) error {
	if len(b.shape.Checks) == 0 {
		return nil
	}
	tree, err := b.merged()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp(b.dir, "checks-")
	if err != nil {
		return b.full(err, 0)
	}
	bench := b.Bench(b.shape.Variant, dir, b.layers, tree, machine.Limits(b.plan.Limits), func(text string) string {
		return b.maskAll([]string{text})[0]
	}, b.masks())
	b.judged, err = bench.Judge(ctx, b.shape.Checks, func(r judge.Result) { b.emit(Judged{Result: r}) })
	if err != nil {
		return b.full(err, 0)
	}
	var wrong, lines []string
	var first *judge.Result
	for i := range b.judged {
		if r := &b.judged[i]; r.State == judge.Failed {
			wrong = append(wrong, r.Check)
			lines = append(append(lines, fmt.Sprintf("%s: %s", r.Check, r.Why)), r.Wrong()...)
			if first == nil {
				first = r
			}
		}
	}
	if first == nil {
		return nil
	}
	f := &Failure{Build: b.plan.Build, Image: b.plan.Image, Variant: b.shape.Variant, Stage: Checks, Step: first.Check, Source: first.Source,
		Reason: fmt.Sprintf("%d of %d checks failed: %s", len(wrong), len(b.judged), strings.Join(wrong, ", ")), Tail: lines}
	if err := b.keepJudged(f); err == nil {
		f.Kept = true
	} else {
		b.emit(Note{Text: "the state in which it failed could not be kept: " + err.Error()})
	}
	return f
}

// masks hides secrets in what scripts print.
func (r *run) masks() func(io.Reader) io.Reader {
	if r.secrets == nil {
		return nil
	}
	return r.secrets.Mask
}

// keepJudged keeps the sealed tree for a look at it.
func (b *branch) keepJudged(f *Failure) error {
	if err := b.Layers.Sync(); err != nil {
		return err
	}
	return b.keepState(failedState{Failure: f, Layers: b.layers}, func(dir string) error {
		return os.Mkdir(filepath.Join(dir, "tree"), 0o755) // nothing changed in it
	})
}
