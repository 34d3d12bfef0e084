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

// Claim opens the file of a name, which it makes if need be, for this process alone: whoever had it may have put it in its place
// or removed it meanwhile.
func Claim(ctx context.Context, name string) (*os.File, error) {
	for {
		f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o644)
		if err != nil {
			return nil, err
		}
		err = Take(ctx, f)
		same := false
		if err == nil {
			same, err = Names(f, name)
		}
		if same {
			return f, nil
		}
		f.Close()
		if err != nil && !errors.Is(err, unix.ENOENT) {
			return nil, err
		}
	}
}

// Names says whether a name still is that of an open file.
func Names(f *os.File, name string) (bool, error) {
	var held, named unix.Stat_t
	err := unix.Fstat(int(f.Fd()), &held)
	if err == nil {
		err = unix.Stat(name, &named)
	}
	return err == nil && held.Ino == named.Ino && held.Dev == named.Dev, err
}
