package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/store"
	"zygos/internal/vm"
)

// What a machine has that is started to see whether it comes up.
const (
	TryCPUs   = 2
	TryMemory = 1 << 30
)

// bootStage stands for the start of a disk in a failure.
const bootStage = "boot"

// boots starts an artifact once, if its definition says in what time it must be up.
func (b *branch) boots(ctx context.Context, a definition.Artifact, blob store.Blob) error {
	limit := a.Says.Span("boots")
	up := b.memory(a) + ".up" // says of which bytes it is known
	if known, err := os.ReadFile(up); limit == 0 || (err == nil && string(known) == blob.Digest.String() && !b.plan.Force) {
		return nil
	}
	host, err := vm.Find(ctx, b.Dir.Machines())
	if err != nil {
		return fmt.Errorf("%s says boots = %q, and no machine can be started here: %w", a.Called(), plan.Age(limit), err)
	}
	at, began := record.At{Stage: bootStage, Step: a.Called()}, time.Now()
	b.emit(record.StepBegan{At: at})
	m := vm.Machine{Disk: b.Store.Path(blob.Digest), Format: artifact.Find(a.Format).QEMU, CPUs: TryCPUs, Memory: TryMemory, Temp: b.dir,
		BIOS: BIOS(b.Layers, b.layers, a), Alone: Alone(a)}
	b.noteTrial()
	took, err := host.Comes(ctx, m, limit, func(line string) { b.emit(record.Output{At: at, Stream: "out", Text: line}) })
	var down *vm.NotUpError
	if errors.As(err, &down) {
		f := &record.Failure{Build: b.plan.Build, Image: b.plan.Image, Variant: b.shape.Variant, Stage: bootStage, Step: a.Called(),
			Reason: down.Error(), Tail: down.Console}
		if len(f.Tail) == 0 && !strings.Contains(a.Says["cmdline"], "console=") {
			f.Reason += `; its console said nothing: with cmdline = "console=ttyS0" it speaks`
		}
		b.emit(record.StepDone{At: at, Failed: f.Reason, Took: time.Since(began)})
		f.Kept = b.keepDisk(a, blob, f) == nil
		return f
	}
	if err == nil {
		b.emit(record.Booted{Name: a.Called(), Took: took})
		_ = store.WriteFile(up, []byte(blob.Digest.String())) // without it, the next build starts it again
	}
	return err
}

// Alone reports whether a machine that is started from a disk is cut off from this host and what lies behind.
func Alone(a definition.Artifact) bool { return a.Says["network"] != "host" }

// noteTrial says which scripts of first boot do not run in a machine that is started for a trial.
func (b *branch) noteTrial() {
	var names []string
	for _, f := range b.shape.FirstBoot {
		if !f.Trial {
			names = append(names, f.Name)
		}
	}
	if len(names) > 0 {
		b.emit(record.Note{Text: "scripts of first boot that do not run in this trial: " + strings.Join(names, ", ") +
			"; trial = true lets them"})
	}
}

// keepDisk keeps a disk that did not come up or was found wrong, for a look at it.
func (b *branch) keepDisk(a definition.Artifact, blob store.Blob, f *record.Failure) error {
	f.Disk = true
	kept := record.FailedState{Failure: f, Layers: b.layers, Stage: plan.Stage{Name: bootStage}, Disk: "disk" +
		artifact.Find(a.Format).Extension,
		Artifact: &a}
	return b.keepState(kept, func(dir string) error { return os.Link(b.Store.Path(blob.Digest), filepath.Join(dir, kept.Disk)) })
}
