package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/compare"
	"zygos/internal/digest"
	"zygos/internal/flock"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/region/kinds"
	"zygos/internal/state"
	"zygos/internal/store"
	"zygos/internal/sweep"
)

// Sweep removes what dead runs left and, if there were any or thorough asks for it, bytes that nothing speaks of. Half-written files
// outside the folders of runs go only while nobody else uses the state; alone reports whether that was so.
func (a *Session) Sweep(ctx context.Context, thorough bool) (list []state.Leftover, alone bool, err error) {
	if err := machine.Ready(); err != nil {
		return nil, false, err
	}
	if list, err = sweep.Runs(ctx, a.State); err != nil {
		return list, false, err
	}
	thorough = thorough || len(list) > 0
	alone, err = a.IfAlone(ctx, func() (err error) {
		list = append(list, sweep.Unfinished(a.State)...)
		for i := range a.Org.Regions {
			r, unknown := kinds.Open(&a.Org.Regions[i], a.Path)
			if unknown != nil {
				continue // it is lint's matter
			}
			removed, e := r.Sweep(ctx)
			err = errors.Join(err, e)
			for _, name := range removed {
				list = append(list, state.Leftover{What: "half-written file in a region", Name: name})
			}
		}
		return err
	})
	if thorough && err == nil {
		var freed []state.Leftover
		freed, err = sweep.Bytes(ctx, a.State, func() (func(digest.Digest) bool, error) { return a.needed(ctx) })
		list = append(list, freed...)
	}
	return list, alone, err
}

// needed says which blobs of the store something speaks of, and unlists versions that are gone, for
// instance since another machine pruned them.
func (a *Session) needed(ctx context.Context) (func(digest.Digest) bool, error) {
	refs, err := a.Catalog.Refs(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.Store.Unlist(ctx, func(reference string) bool { return !refs[strings.Replace(reference, ":", "@", 1)] }); err != nil {
		return nil, err
	}
	known, err := a.Store.Named()
	if err != nil {
		return nil, err
	}
	if err := a.Catalog.Digests(ctx, func(_ string, d digest.Digest) { known[d] = true }); err != nil {
		return nil, err
	}
	for _, b := range a.Org.Bases {
		known[b.SHA256] = true
	}
	return func(d digest.Digest) bool { return known[d] }, nil
}

const (
	cancelPatience = 30 * time.Second
	glance         = 20 * time.Millisecond // between two looks at what another process does
)

// Cancel stops a running build, and returns it when it has stopped.
func (a *Session) Cancel(ctx context.Context, word string) (*catalog.Build, error) {
	b, err := a.FindBuild(ctx, word)
	if err == nil {
		err = compare.Elsewhere(a.Session, b)
	}
	if err != nil {
		return nil, err
	}
	if !a.Dir.Alive(b.ID) {
		return nil, fmt.Errorf("build %s does not run: it is %s; 'zygos builds' lists those that do", b.ID, b.State)
	}
	if err := store.WriteFile(a.Dir.Cancellation(b.ID), []byte(a.Who)); err != nil {
		return nil, err
	}
	for began := time.Now(); a.Dir.Alive(b.ID); {
		if time.Since(began) > cancelPatience {
			return nil, fmt.Errorf("build %s was asked to stop and still runs after %s; 'zygos log %s' shows what it does", b.ID, cancelPatience,
				b.ID)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(glance):
		}
	}
	if b, err = a.FindBuild(ctx, b.ID); err == nil && b.State == catalog.Registered {
		err = fmt.Errorf("build %s was done before it could stop: it registered %s@%s", b.ID, b.Image, b.Version)
	}
	return b, err
}

// Builds lists builds, newest first, at most so many, 0 for all; of all images if image is "". It says
// how many there are in all.
func (a *Session) Builds(ctx context.Context, image string, most int) (list []catalog.Build, total int, err error) {
	list, total, err = a.Catalog.Builds(ctx, image, most)
	for i := range list {
		a.Settle(&list[i])
	}
	if err == nil && total == 0 && image != "" {
		_, err = a.Image(image)
	}
	return list, total, err
}

// Log calls take with each event of a build's log; with follow, until the build ends.
func (a *Session) Log(ctx context.Context, b *catalog.Build, follow bool, take func(record.Event) error) error {
	if err := compare.Elsewhere(a.Session, b); err != nil {
		return err
	}
	if follow {
		return a.tails.Follow(ctx, a.Dir, b.ID, take)
	}
	return record.ReadJournal(ctx, a.Dir, b.ID, take)
}

// View finds the tree that a build's id or a reference means, after a stage or as it was captured.
func (a *Session) View(ctx context.Context, word, variant, stage string) (*record.View, error) {
	id := word
	if !plan.IsBuildID(word) {
		v, err := a.ResolveAny(ctx, word)
		if err != nil {
			return nil, err
		}
		id = v.Build
	}
	view, err := compare.View(ctx, a.Session, id, variant, stage)
	if err != nil {
		return nil, err
	}
	return view, a.Layers.Ensure(ctx, view.Layers, word, "build it again to enter it")
}

// Enter runs a shell on a view, and returns its exit code. What it changes is thrown away, or kept in a folder if one is named.
func (a *Session) Enter(ctx context.Context, view *record.View, shell machine.Shell, keep string) (code int, err error) {
	engine, err := a.engine()
	if err != nil {
		return 0, err
	}
	err = a.During(ctx, "enter-"+rand.Text(), view.Layers, func(dir string) (err error) {
		code, err = a.enter(ctx, engine, view, shell, dir, keep)
		return err
	})
	return code, err
}

func (a *Session) enter(ctx context.Context, engine *build.Engine, view *record.View, shell machine.Shell, dir, keep string) (int, error) {
	if view.Kept != "" {
		lock, err := os.Open(filepath.Dir(filepath.Dir(view.Kept)))
		if err != nil {
			return 0, err
		}
		defer lock.Close() // and with it the lock
		if err := flock.Share(ctx, lock); err != nil {
			return 0, err
		}
	}
	tree, err := a.Layers.Stack(view.Layers)
	if err != nil {
		return 0, err
	}
	instance, err := engine.Machines[""].Start(ctx, machine.Ground{Store: a.Layers, Layers: view.Layers, Tree: tree, Kept: view.Kept,
		Temp: dir},
		view.Network)
	if err != nil {
		return 0, err
	}
	defer instance.Stop()
	for _, content := range view.Contents {
		shell.Scripts = append(shell.Scripts, machine.Script{Content: content})
	}
	shell.User, shell.Dir, shell.Env = view.User, view.Dir, view.Env
	code, err := instance.Run(ctx, shell)
	if err == nil && keep != "" {
		if err = os.MkdirAll(filepath.Dir(keep), 0o755); err == nil {
			err = instance.Keep(keep)
		}
	}
	return code, err
}
