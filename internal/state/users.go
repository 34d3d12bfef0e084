package state

import (
	"context"
	"errors"
	"sync"

	"golang.org/x/sys/unix"

	"zygos/internal/flock"
)

// users are the callers in this process that use a state.
type users struct {
	mu     sync.Mutex
	count  int
	closed chan struct{} // while one of them is alone; closed afterwards
}

// Enter counts one more caller, who waits while another one is alone. leave ends its use.
func (s *State) Enter(ctx context.Context) (leave func(), err error) {
	for {
		s.users.mu.Lock()
		alone := s.users.closed
		if alone == nil {
			s.users.count++
		}
		s.users.mu.Unlock()
		if alone == nil {
			return sync.OnceFunc(func() {
				s.users.mu.Lock()
				defer s.users.mu.Unlock()
				s.users.count--
			}), nil
		}
		select {
		case <-alone:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// IfAlone does something if nobody but the caller uses the state, in this process or another one, and reports whether that is so. Call it
// before the caller has unfinished files: for a moment this process holds no lock.
func (s *State) IfAlone(ctx context.Context, do func() error) (alone bool, err error) {
	s.users.mu.Lock()
	if s.users.count > 1 || s.users.closed != nil {
		s.users.mu.Unlock()
		return false, nil
	}
	done := make(chan struct{})
	s.users.closed = done
	s.users.mu.Unlock()
	defer func() {
		s.users.mu.Lock()
		defer s.users.mu.Unlock()
		s.users.closed = nil
		close(done)
	}()
	if alone = unix.Flock(int(s.use.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil; alone {
		err = do()
	}
	return alone, errors.Join(err, flock.Share(ctx, s.use))
}
