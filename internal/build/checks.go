package build

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/record"
	"zygos/internal/store"
	"zygos/internal/vm"
)

// JudgeOn is where the tree of a version is judged; dir is on the store's disk, for what is unfinished.
func (e *Engine) JudgeOn(variant, dir string, layers []string, tree *layer.Tree, limits machine.Limits, text func(string) string,
	mask func(io.Reader) io.Reader) *judge.Bench {
	return &judge.Bench{Variant: variant, Machine: e.Machines[""], Limits: limits, Text: text, Mask: mask,
		Ground: machine.Ground{Store: e.Layers, Layers: layers, Tree: tree, Temp: dir}}
}

// judge has checks judge the sealed tree, each in a fresh instance; one that must pass and does not is a *Failure, with the state kept.
func (b *branch) judge(ctx context.Context) error {
	checks := ChecksIn(b.shape.Checks, false)
	if len(checks) == 0 {
		return nil
	}
	bench, err := b.bench()
	if err != nil {
		return err
	}
	b.judged, err = bench.Judge(ctx, checks, func(r record.CheckResult) { b.emit(record.Judged{Result: r}) })
	if err != nil {
		return b.Full(err, 0)
	}
	return b.verdict(func(f *record.Failure) error { return b.keepJudged(f) })
}

// judgeBooted has checks judge a machine that is started from what was captured.
func (b *branch) judgeBooted(ctx context.Context) error {
	if len(ChecksIn(b.shape.Checks, true)) == 0 {
		return nil
	}
	bench, err := b.bench()
	if err != nil {
		return err
	}
	a := Bootable(b.shape.Artifacts)[0] // definitions are read with one
	file := b.artifacts[slices.IndexFunc(b.artifacts, func(f catalog.Artifact) bool { return f.Name == a.Called() })]
	at, began := record.At{Stage: bootStage, Step: "checks in " + a.Called()}, time.Now()
	b.emit(record.StepBegan{At: at})
	b.noteTrial()
	results, err := b.JudgeBooted(ctx, bench, b.shape.Checks, func() (Booting, error) {
		return Booting{Machine: vm.Machine{Disk: b.Store.Path(file.Digest), Temp: bench.Ground.Temp}, Image: b.plan.Image, Artifact: a,
			Store: b.Layers, Layers: b.layers, Tree: bench.Ground.Tree}, nil
	}, func(line string) { b.emit(record.Output{At: at, Stream: "out", Text: line}) }, func(up *vm.Running) {
		b.emit(record.Booted{Name: a.Called(), Took: up.Took})
		if len(up.Failed) > 0 {
			b.emit(record.Note{Text: "units that failed in the machine: " + strings.Join(b.maskAll(up.Failed), ", ")})
		}
	}, func(r record.CheckResult) { b.emit(record.Judged{Result: r}) })
	if err != nil {
		b.emit(record.StepDone{At: at, Failed: err.Error(), Took: time.Since(began)})
		return b.Full(err, 0)
	}
	b.emit(record.StepDone{At: at, Took: time.Since(began)})
	b.judged = append(b.judged, results...)
	return b.verdict(func(f *record.Failure) error {
		return b.keepDisk(a, store.Blob{Digest: file.Digest, Bytes: file.Bytes}, f)
	})
}

// bench is where the branch's tree is judged.
func (b *branch) bench() (*judge.Bench, error) {
	tree, err := b.merged()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(b.dir, "checks-")
	if err != nil {
		return nil, b.Full(err, 0)
	}
	return b.JudgeOn(b.shape.Variant, dir, b.layers, tree, machine.Limits(b.plan.Limits), func(text string) string {
		return b.maskAll([]string{text})[0]
	}, b.masks()), nil
}

// verdict is a *Failure if a check failed that must pass; keep keeps the state in which it did.
func (b *branch) verdict(keep func(*record.Failure) error) error {
	var wrong, lines []string
	var first *record.CheckResult
	for i := range b.judged {
		if r := &b.judged[i]; r.State == record.Failed {
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
	f := &record.Failure{Build: b.plan.Build, Image: b.plan.Image, Variant: b.shape.Variant, Stage: record.Checks, Step: first.Check,
		Source: first.Source,
		Reason: fmt.Sprintf("%d of %d checks failed: %s", len(wrong), len(b.judged), strings.Join(wrong, ", ")), Tail: lines}
	if err := keep(f); err == nil {
		f.Kept = true
	} else {
		b.emit(record.Note{Text: "the state in which it failed could not be kept: " + err.Error()})
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
func (b *branch) keepJudged(f *record.Failure) error {
	if err := b.Layers.Sync(); err != nil {
		return err
	}
	return b.keepState(record.FailedState{Failure: f, Layers: b.layers}, func(dir string) error {
		return os.Mkdir(filepath.Join(dir, "tree"), 0o755) // nothing changed in it
	})
}
