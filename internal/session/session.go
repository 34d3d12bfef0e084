// Package session is one caller at work: who that is, the definitions as they were when the caller began, and the state that all callers
// share. It answers what plans ask.
package session

import (
	"context"
	"strings"
	"sync"

	"zygos/internal/definition"
	"zygos/internal/plan"
	"zygos/internal/state"
	"zygos/internal/workspace"
)

// Session is a caller with definitions and a state.
type Session struct {
	*state.State
	*workspace.Workspace // as it was when the session began; nobody writes into it
	Who                  string
	Epoch                string // SOURCE_DATE_EPOCH, see plan.Options; "" for none

	leave  func()
	mu     sync.Mutex
	traces map[string]map[string]*plan.Trace // as they were when they were first asked for
}

// New begins a session of who with definitions that were loaded, in a state that stays open. It waits while another caller is alone in the
// state. Close ends it.
func New(ctx context.Context, at *state.State, w *workspace.Workspace, who, epoch string) (*Session, error) {
	leave, err := at.Enter(ctx)
	if err != nil {
		return nil, err
	}
	s := &Session{State: at, Workspace: w, Who: who, Epoch: epoch, leave: leave, traces: map[string]map[string]*plan.Trace{}}
	s.chooseAll()
	return s, nil
}

// Close ends the session.
func (s *Session) Close() { s.leave() }

// Region finds a region of zygos.toml; the error is a *state.RequestError.
func (s *Session) Region(name string) (*definition.Region, error) {
	if r := s.Org.Region(name); r != nil {
		return r, nil
	}
	return nil, state.Ask("region %q is not in zygos.toml; regions are %s", name, strings.Join(s.Org.RegionNames(), ", "))
}

// Trace is how a stage last came to its end, nil if it never did.
func (s *Session) Trace(image, variant, stage string) *plan.Trace {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := image + "@" + variant
	if s.traces[at] == nil {
		s.traces[at] = s.Dir.ReadTraces(image, variant)
	}
	return s.traces[at][stage]
}
