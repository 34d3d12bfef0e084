package build

import (
	"context"
	"os"
	"time"

	"zygos/internal/record"
)

// once makes sure that nobody else runs the stage with this key, and waits for whoever does.
func (r *run) once(ctx context.Context, stage, variant, key string) (release func(), err error) {
	return r.Once(ctx, key, r.plan.Build, func(other string) {
		r.tell(variant, record.Waiting{At: record.At{Stage: stage}, From: other})
	})
}

// slot waits until one more stage or capture may run.
func (r *run) slot(ctx context.Context) (release func(), err error) {
	if r.Jobs == 0 {
		return func() {}, nil
	}
	return r.Slot(ctx, r.Jobs)
}

const beat = 20 * time.Second // between two words of a running build to the catalog

// stayAlive lets other states know that the build runs.
func (r *run) stayAlive(ctx context.Context) {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := r.Ledger.Beat(ctx, r.plan.Build); err != nil && ctx.Err() == nil {
				r.emit(record.Note{Text: "the catalog could not be told that the build runs: " + err.Error()})
			}
		}
	}
}

// heedCancel stops the build when somebody asks for it.
func (r *run) heedCancel(ctx context.Context, cancel context.CancelCauseFunc) {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if who, err := os.ReadFile(r.Dir.Cancellation(r.plan.Build)); err == nil {
				cancel(&record.CancelledError{Image: r.plan.Image, Who: string(who)})
				return
			}
		}
	}
}
