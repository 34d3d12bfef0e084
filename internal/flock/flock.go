// Package flock takes locks of files, and waits for them no longer than somebody wants to.
package flock

import (
	"context"
	"errors"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Take takes the lock of an open file (flock(2)) for this process alone, and waits for it until ctx
// ends. It goes with the file.
func Take(ctx context.Context, f *os.File) error { return lock(ctx, f, unix.LOCK_EX) }

// Share takes the lock together with others that share it.
func Share(ctx context.Context, f *os.File) error { return lock(ctx, f, unix.LOCK_SH) }

func lock(ctx context.Context, f *os.File, how int) error {
	for pause := time.Millisecond; ; pause = min(2*pause, 50*time.Millisecond) {
		err := unix.Flock(int(f.Fd()), how|unix.LOCK_NB)
		if !errors.Is(err, unix.EWOULDBLOCK) && !errors.Is(err, unix.EINTR) {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(pause):
		}
	}
}
