// Package judge judges a tree: each check that is a script runs in a fresh instance of it, which is thrown away; expectations are
// judged by what lies in it. It knows no versions and registers nothing.
package judge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
)

// skips is the exit code with which a check says that it has nothing to judge here.
const skips = 77

// Bench is a tree to judge.
type Bench struct {
	Variant string
	Machine machine.Machine
	Ground  machine.Ground // its Tree is merged already
	Limits  machine.Limits
	Mask    func(io.Reader) io.Reader // put before what scripts print; nil for nothing
	Text    func(string) string       // masks secrets in a text
}

// Judge judges by checks, several at once, and tells each result as it comes; the list is in the order of the checks. An error is one
// of this side.
func (b *Bench) Judge(ctx context.Context, checks []plan.Check, each func(record.CheckResult)) ([]record.CheckResult, error) {
	list := make([]record.CheckResult, len(checks))
	tree := &Tree{Files: layer.Files{Store: b.Ground.Store, Layers: b.Ground.Layers, Tree: b.Ground.Tree}}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	var mu sync.Mutex
	for i := range checks {
		group.Go(func() error {
			began := time.Now()
			r, err := b.one(within, place{tree: tree, run: b.fresh}, &checks[i])
			if err != nil {
				return fmt.Errorf("check %s: %w", checks[i].Name, err)
			}
			r.Took = time.Since(began)
			list[i] = r
			mu.Lock()
			defer mu.Unlock()
			each(r)
			return nil
		})
	}
	err := group.Wait()
	return list, err
}

// place is where a check judges.
type place struct {
	tree  *Tree
	run   func(context.Context, machine.Stage, machine.Watcher) error
	guest *machine.Guest // nil in a fresh instance
}

// one judges by one check.
func (b *Bench) one(ctx context.Context, at place, c *plan.Check) (r record.CheckResult, err error) {
	r = record.CheckResult{Check: c.Name, Variant: b.Variant, Shared: c.Shared, Booted: c.Booted, State: record.Passed}
	if len(c.Steps) > 0 {
		r.Source = c.Steps[0].Source
		err = b.script(ctx, at, c, c.Steps[0].Script, &r)
	} else {
		err = b.expectations(ctx, at, c, &r)
	}
	if r.State == record.Failed && c.Warn {
		r.State = record.Warned
	}
	return r, err
}

// script runs a check's script.
func (b *Bench) script(ctx context.Context, at place, c *plan.Check, content []byte, r *record.CheckResult) error {
	said := &listener{}
	failed, err := b.run(ctx, at, c, content, said)
	r.Output, r.Cut = said.lines, said.cut
	switch {
	case err != nil:
		return err
	case failed == nil:
	case failed.Code == skips && failed.Signal == "" && failed.Reason == "":
		r.State = record.Skipped
	default:
		r.State, r.Why = record.Failed, b.Text(strings.Replace(failed.How(), "the stage did", "it did", 1))
		if failed.Line > 0 {
			r.Why += fmt.Sprintf(", in line %d", failed.Line)
		}
	}
	return nil
}

// run carries a script out.
func (b *Bench) run(ctx context.Context, at place, c *plan.Check, content []byte, watch machine.Watcher) (*machine.StepError, error) {
	stage := machine.Stage{Name: c.Name, Hostname: "zygos", Network: c.Network, Timeout: c.Timeout, Limits: b.Limits, Mask: b.Mask}
	for _, m := range c.Secrets {
		stage.Secrets = append(stage.Secrets, machine.Secret{Name: m.Name, Variable: m.Variable, Value: m.Value.Value})
	}
	stage.Steps = []machine.Step{{Name: c.Name, Script: &machine.Script{Content: content, User: c.User, Dir: c.Dir, Env: c.Env}}}
	err := at.run(ctx, stage, watch)
	var failed *machine.StepError
	if errors.As(err, &failed) && ctx.Err() == nil {
		return failed, nil
	}
	return nil, err
}

// fresh runs a stage in a fresh instance and throws away what it changed.
func (b *Bench) fresh(ctx context.Context, stage machine.Stage, watch machine.Watcher) error {
	left, err := b.Machine.Run(ctx, b.Ground, stage, watch)
	if left != nil {
		left.Drop()
	}
	return err
}

// expectations judges each of a check.
func (b *Bench) expectations(ctx context.Context, at place, c *plan.Check, r *record.CheckResult) error {
	wrong, began, left := 0, time.Now(), *c // the timeout is that of the check, and not of each
	for _, e := range c.Expect {
		if left.Timeout = c.Timeout - time.Since(began); c.Timeout == 0 {
			left.Timeout = 0
		}
		found := fmt.Sprintf("the check's timeout of %s had passed before it was judged", c.Timeout)
		if c.Timeout == 0 || left.Timeout > 0 {
			var err error
			if found, err = b.expectation(ctx, at, &left, e); err != nil {
				return err
			}
		}
		r.Expects = append(r.Expects, record.Expected{What: e.Text, Holds: found == "", Found: b.Text(found)})
		if found != "" {
			wrong++
		}
	}
	if wrong > 0 {
		r.State, r.Why = record.Failed, fmt.Sprintf("%d of %d expectations do not hold", wrong, len(c.Expect))
	}
	return ctx.Err()
}

// expectation says what was found instead of what is expected, "" if it holds.
func (b *Bench) expectation(ctx context.Context, at place, c *plan.Check, e definition.Expectation) (found string, err error) {
	kind := find(e.Kind)
	run := func(command string) (*machine.StepError, []string, error) {
		said := &listener{}
		failed, err := b.run(ctx, at, c, []byte("#!/bin/sh\n"+command+"\n"), said)
		return failed, said.lines, err
	}
	switch {
	case kind.Runs != nil:
		return kind.Runs(run, e.Settings)
	case kind.Booted != nil && at.guest != nil:
		limit := cmp.Or(c.Timeout, lookLimit)
		within, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		found, err := kind.Booted(&Guest{at.guest, within, run}, e.Settings)
		if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
			return fmt.Sprintf("the machine did not say within %s", limit), nil
		}
		return found, err
	}
	return kind.Holds(at.tree, e.Settings), nil
}

// lookLimit is in what time a machine says what lies at a path, if the check has no timeout.
const lookLimit = time.Minute

// quote is what was printed, in one short line.
func quote(lines []string) string {
	if len(lines) == 0 {
		return "nothing"
	}
	text := strings.Join(lines, " ")
	if len(text) > 120 {
		text = text[:120] + "…"
	}
	return fmt.Sprintf("%q", text)
}

// listener keeps the last lines that a check printed.
type listener struct {
	mu    sync.Mutex
	lines []string
	bytes int
	cut   int64
}

const mostLines, mostBytes = 100, 32 << 10 // that are kept of what a check prints

func (l *listener) Line(_ int, _, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lines = append(l.lines, text)
	l.bytes += len(text)
	for len(l.lines) > 1 && (len(l.lines) > mostLines || l.bytes > mostBytes) {
		l.bytes -= len(l.lines[0])
		l.lines = slices.Delete(l.lines, 0, 1)
		l.cut++
	}
}

func (l *listener) Cut(_ int, _ string, lines, _ int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cut += lines
}

func (l *listener) StepStarted(int)                                  {}
func (l *listener) StepEnded(int, time.Duration, *machine.StepError) {}
func (l *listener) Note(string)                                      {}
