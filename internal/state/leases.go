package state

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/catalog"
)

const (
	leaseBeat  = 10 * time.Second
	leaseQuiet = 90 * time.Second // after which a holder of another state counts as dead
)

// Waiter says what somebody does who takes leases, and hears whom it waits for.
type Waiter struct {
	Who   string
	Doing string // such as "publish"
	Wait  func(doing string, done, total int64)
}

// LostLeaseError ends work whose lease another process took, since nothing was heard of this one.
type LostLeaseError struct{}

func (*LostLeaseError) Error() string {
	return "the catalog was out of reach for so long that another process took over; run the command again"
}

// Lease takes the leases of some names, all at once, and waits for whoever holds one. Work under them uses the context that it
// returns, which ends when they are lost; release gives them up.
func (s *State) Lease(ctx context.Context, w Waiter, names ...string) (held context.Context, release func(), err error) {
	if err := s.Writable(); err != nil {
		return nil, nil, err
	}
	holder := rand.Text()
	alive, err := os.OpenFile(s.leaseFile(holder), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, nil, err
	}
	end := func() { alive.Close(); _ = os.Remove(alive.Name()) } // what stays is swept
	if err := unix.Flock(int(alive.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		end()
		return nil, nil, err
	}
	var list []catalog.Lease
	for _, name := range names {
		list = append(list, catalog.Lease{Name: name, Holder: holder, Place: s.ID, Who: w.Who, Host: s.Host, Doing: w.Doing})
	}
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		others, err := s.Catalog.TakeLeases(ctx, list, s.leaseDead)
		if err != nil {
			end()
			return nil, nil, err
		}
		if len(others) == 0 {
			break
		}
		o := others[0]
		w.Wait(fmt.Sprintf("wait for %s on %s, which does %s", o.Who, o.Host, o.Doing), 0, 0)
		select {
		case <-ctx.Done():
			end()
			return nil, nil, context.Cause(ctx)
		case <-time.After(pause):
		}
	}
	held, cancel := context.WithCancelCause(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.beat(held, holder, len(names), cancel)
	}()
	return held, func() {
		cancel(nil)
		<-done
		aside, stop := context.WithTimeout(context.WithoutCancel(ctx), leaseBeat)
		_ = s.Catalog.DropLeases(aside, holder) // else it ends by its silence
		stop()
		end()
	}, nil
}

// beat lets hear of a holder until the context ends, and ends that if its leases are lost.
func (s *State) beat(ctx context.Context, holder string, want int, lost context.CancelCauseFunc) {
	tick := time.NewTicker(leaseBeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if n, err := s.Catalog.BeatLeases(ctx, holder); err == nil && n < int64(want) {
				lost(&LostLeaseError{})
			}
		}
	}
}

func (s *State) leaseFile(holder string) string { return s.Dir.Lock("lease-" + holder) }

// leaseDead says whether the holder of a lease is gone.
func (s *State) leaseDead(l *catalog.Lease) bool {
	if l.Place != s.ID {
		return l.Quiet > leaseQuiet
	}
	f, err := os.Open(s.leaseFile(l.Holder))
	if err != nil {
		return errors.Is(err, os.ErrNotExist)
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) == nil
}
