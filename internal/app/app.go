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
	"zygos/internal/state"
	"zygos/internal/supply"
	"zygos/internal/workspace"
)

// Caller is the one for whom something is done.
type Caller struct {
	Who   string // a name
	Epoch string // SOURCE_DATE_EPOCH, see plan.Options; "" for none
}

// App acts in one opened state for a caller, one thing at a time; who serves several callers opens one for each.
type App struct {
	*state.State
	Who string
	// Progress is told what goes on: bytes done of total; total is 0 where only time tells, -1 where it is
	// not known.
	Progress func(doing string, done, total int64)
	// There is told the same of what goes on in a region, beside others; "" for nothing any more.
	There func(region, doing string, done, total int64)
	// Note hears in words what the user should know beside the result.
	Note func(text string)
	// Watch is told of the events of builds, from several goroutines.
	Watch func(record.Event)

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

// Open opens a state for a caller. If only the catalog cannot be opened, the error comes with the rest,
// to be closed all the same.
func Open(ctx context.Context, at Where, how Care, by Caller) (*App, error) {
	w, err := Find(at)
	if err != nil {
		return nil, err
	}
	load := map[Care]func() error{Lenient: w.LoadOrganisation, Each: w.LoadEach, Strict: w.Load}[how]
	err = load()
	var doubts definition.Problems
	if err != nil && (how != Lenient || !errors.As(err, &doubts)) {
		return nil, err
	}
	s, err := state.Open(ctx, w, doubts)
	if s == nil {
		return nil, err
	}
	s.Epoch = by.Epoch
	a := &App{State: s, Who: by.Who, unheard: map[string]error{}, Progress: func(string, int64, int64) {},
		There: func(string, string, int64, int64) {}, Note: func(string) {}, Watch: func(record.Event) {}}
	a.hearCatalog()
	return a, err
}

// Resolve finds the version that a reference means.
func (a *App) Resolve(ctx context.Context, text string) (*catalog.Version, error) {
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

// Look is Resolve for whoever only looks: a version that is recalled can be looked at.
func (a *App) Look(ctx context.Context, text string) (*catalog.Version, error) {
	v, err := a.Resolve(ctx, text)
	var recalled *catalog.RecalledError
	if errors.As(err, &recalled) {
		return a.Catalog.Resolve(ctx, definition.Ref{Image: recalled.Image, Selector: recalled.Version})
	}
	return v, err
}

// Publishes says whether an image's definition names regions.
func (a *App) Publishes(image string) bool {
	img, err := a.Image(image)
	return err == nil && len(img.Regions) > 0
}

// Engine carries out plans in this state.
func (a *App) Engine() *build.Engine {
	ids, _ := machine.Inside()
	return &build.Engine{State: a.Dir, Place: a.ID, Root: a.Root, Who: a.Who, Layers: a.Layers, Store: a.Store, IDs: ids,
		Budget: a.Org.Budget, Commit: a.Commit(),
		Machine: machine.Sandbox{IDs: ids}, Catalog: a.Catalog, Known: state.Known{State: a.State}, Watch: a.Watch,
		Base: func(ctx context.Context, b plan.Base, variant, temp string, tell func(string, int64, int64)) (*layer.Snapshot, error) {
			return supply.Bring(ctx, a.State, b, variant, temp, tell)
		}}
}

// FindBuild finds a build by its id, or the newest of an image, as it is: one whose process is gone
// does not run.
func (a *App) FindBuild(ctx context.Context, word string) (*catalog.Build, error) {
	b, err := a.Catalog.Build(ctx, word)
	if err == nil {
		a.Settle(b)
	}
	return b, err
}
