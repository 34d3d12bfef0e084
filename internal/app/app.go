// Package app is what can be done with Zygos: a function for each thing, with plain values in and out. Who
// acts and where it is told what goes on are given; it prints nothing and reads neither flags nor the
// environment.
package app

import (
	"context"
	"errors"

	"zygos/internal/base"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/region/kinds"
	"zygos/internal/rules"
	"zygos/internal/session"
	"zygos/internal/state"
	"zygos/internal/supply"
	"zygos/internal/workspace"
)

// Caller is the one for whom something is done.
type Caller struct {
	Who   string // a name
	Epoch string // SOURCE_DATE_EPOCH, see plan.Options; "" for none
}

// App serves callers in one state. It lives as long as the process; each caller has a Session.
type App struct {
	*state.State
	at    Where
	tails record.Tails
}

// Session is a caller at work. It does one thing at a time; sessions of one App may work at the same moment.
type Session struct {
	*session.Session
	// Progress is told what goes on: bytes done of total; total is 0 where only time tells, -1 where it is
	// not known.
	Progress func(doing string, done, total int64)
	// RegionProgress is the same of one region, beside others; doing is "" once it is idle.
	RegionProgress func(region, doing string, done, total int64)
	// Note gets in words what the user should know beside the result.
	Note func(text string)
	// Watch gets the events of builds, from several goroutines.
	Watch func(record.Event)

	own     *App             // that is closed with the session, nil for none
	tails   *record.Tails    // of the App
	unheard map[string]error // bases whose feeds were asked in vain, and why
}

// Care is how wrong definitions are taken.
type Care int

const (
	Lenient Care = iota // as they are: what was built stays findable while somebody edits
	Each                // image by image
	Strict              // not at all
)

// Where says which workspace and which state are meant; "" for those around the current folder.
type Where struct{ Workspace, State string }

// Find finds a workspace.
func Find(at Where) (*workspace.Workspace, error) {
	return workspace.Find(at.Workspace, at.State, Kinds())
}

// Kinds are what definitions are read with.
func Kinds() definition.Kinds {
	return definition.Kinds{Regions: kinds.Readers(), Bases: base.Readers(), Needs: rules.Forms(), Expects: judge.Forms()}
}

// Open opens the state of a workspace for callers. If only the catalog cannot be opened, the error comes with the rest, to be closed all
// the same.
func Open(ctx context.Context, at Where) (*App, error) {
	w, doubts, err := load(at, Lenient)
	if err != nil {
		return nil, err
	}
	return open(ctx, at, w, doubts)
}

func open(ctx context.Context, at Where, w *workspace.Workspace, doubts definition.Problems) (*App, error) {
	s, err := state.Open(ctx, w, doubts)
	if s == nil {
		return nil, err
	}
	return &App{State: s, at: at}, err
}

// load reads the definitions of a workspace. doubts are the problems in them that are taken as they are.
func load(at Where, how Care) (w *workspace.Workspace, doubts definition.Problems, err error) {
	if w, err = Find(at); err != nil {
		return nil, nil, err
	}
	err = map[Care]func() error{Lenient: w.LoadOrganisation, Each: w.LoadEach, Strict: w.Load}[how]()
	if how == Lenient && errors.As(err, &doubts) {
		err = nil
	}
	return w, doubts, err
}

// As begins a session for a caller, with the definitions as they are now.
func (a *App) As(ctx context.Context, by Caller, how Care) (*Session, error) {
	w, _, err := load(a.at, how)
	if err == nil {
		err = a.Serves(w.Org.Catalog)
	}
	if err != nil {
		return nil, err
	}
	return a.as(ctx, w, by)
}

func (a *App) as(ctx context.Context, w *workspace.Workspace, by Caller) (*Session, error) {
	s, err := session.New(ctx, a.State, w, by.Who, by.Epoch)
	if err != nil {
		return nil, err
	}
	return &Session{Session: s, tails: &a.tails, unheard: map[string]error{}, Progress: func(string, int64, int64) {},
		RegionProgress: func(string, string, int64, int64) {}, Note: func(string) {}, Watch: func(record.Event) {}}, nil
}

// Begin opens the state of a workspace for a single caller. If only the catalog cannot be opened, the error comes with the rest, to be
// closed all the same.
func Begin(ctx context.Context, at Where, how Care, by Caller) (*Session, error) {
	w, doubts, err := load(at, how)
	if err != nil {
		return nil, err
	}
	a, wrong := open(ctx, at, w, doubts)
	if a == nil {
		return nil, wrong
	}
	s, err := a.as(ctx, w, by)
	if err != nil {
		a.Close()
		return nil, err
	}
	s.own = a
	s.hearCatalog()
	return s, wrong
}

// Close ends the session.
func (a *Session) Close() {
	a.Session.Close()
	if a.own != nil {
		a.own.Close()
	}
}

// Resolve finds the version that a reference means.
func (a *Session) Resolve(ctx context.Context, text string) (*catalog.Version, error) {
	ref, err := definition.ParseRef(text)
	if err != nil {
		return nil, state.Ask("%s", err)
	}
	v, err := a.Catalog.Resolve(ctx, ref)
	var missing *catalog.NotFoundError
	if errors.As(err, &missing) {
		if versions, e := a.Catalog.Versions(ctx, ref.Image); e == nil && len(versions) == 0 {
			if _, e := a.Image(ref.Image); e != nil {
				return nil, e
			}
		}
	}
	return v, err
}

// ResolveAny is Resolve for whoever only looks: a version that is recalled can be looked at.
func (a *Session) ResolveAny(ctx context.Context, text string) (*catalog.Version, error) {
	v, err := a.Resolve(ctx, text)
	var recalled *catalog.RecalledError
	if errors.As(err, &recalled) {
		return a.Catalog.Resolve(ctx, definition.Ref{Image: recalled.Image, Selector: recalled.Version})
	}
	return v, err
}

// Publishes says whether an image's definition names regions.
func (a *Session) Publishes(image string) bool {
	img, err := a.Image(image)
	return err == nil && len(img.Regions) > 0
}

// engine carries out plans for the caller. The error is a *machine.OutsideError if this process cannot make sandboxes.
func (a *Session) engine() (*build.Engine, error) {
	if err := machine.Ready(); err != nil {
		return nil, err
	}
	return &build.Engine{State: a.State, Ledger: a.Catalog, Root: a.Root, Who: a.Who, Budget: a.Org.Budget, Commit: a.Commit(),
		Machines: map[string]machine.Machine{"": machine.Sandbox{IDs: a.IDs}}, Known: session.Known{Session: a.Session}, Watch: a.Watch,
		Base: func(ctx context.Context, b plan.Base, variant, temp string, tell func(string, int64, int64)) (*layer.Snapshot, error) {
			return supply.Bring(ctx, a.Session, b, variant, temp, tell)
		}}, nil
}

// FindBuild finds a build by its id, or the newest of an image, as it is: one whose process is gone
// does not run.
func (a *Session) FindBuild(ctx context.Context, word string) (*catalog.Build, error) {
	b, err := a.Catalog.Build(ctx, word)
	if err == nil {
		a.Settle(b)
	}
	return b, err
}
