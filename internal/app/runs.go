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
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/region/kinds"
)

// Sweep removes what dead runs left; all of it if no other process uses the state, which it says.
func (a *App) Sweep(ctx context.Context, thorough bool) (list []build.Leftover, alone bool, err error) {
	e := a.Engine()
	alone, err = a.IfAlone(ctx, func() (err error) {
		list, err = e.Sweep(ctx, true, thorough, func() (func(digest.Digest) bool, error) { return a.needed(ctx) })
		for i := range a.Org.Regions {
			r, unknown := kinds.Open(&a.Org.Regions[i], a.Path)
			if unknown != nil {
				continue // it is lint's matter
			}
			removed, e := r.Sweep(ctx)
			err = errors.Join(err, e)
			for _, name := range removed {
				list = append(list, build.Leftover{What: "half-written file in a region", Name: name})
			}
		}
		return err
	})
	if !alone && err == nil {
		list, err = e.Sweep(ctx, false, false, nil)
	}
	return list, alone, err
}

// needed says which blobs of the store something speaks of, and unlists versions that are gone, for
// instance since another machine pruned them.
func (a *App) needed(ctx context.Context) (func(digest.Digest) bool, error) {
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
func (a *App) Cancel(ctx context.Context, word string) (*catalog.Build, error) {
	b, err := a.FindBuild(ctx, word)
	if err == nil {
		err = compare.Elsewhere(a.State, b)
	}
	if err != nil {
		return nil, err
	}
	if !a.Dir.Alive(b.ID) {
		return nil, fmt.Errorf("build %s does not run: it is %s; 'zygos builds' lists those that do", b.ID, b.State)
	}
	if err := build.Cancel(a.Dir, b.ID, a.Who); err != nil {
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
func (a *App) Builds(ctx context.Context, image string, most int) (list []catalog.Build, total int, err error) {
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
func (a *App) Log(ctx context.Context, b *catalog.Build, follow bool, take func(record.Event) error) error {
	if err := compare.Elsewhere(a.State, b); err != nil {
		return err
	}
	return record.ReadJournal(ctx, a.Dir, b.ID, follow, take)
}

// View finds the tree that a build's id or a reference means, after a stage or as it was captured.
func (a *App) View(ctx context.Context, word, variant, stage string) (*record.View, error) {
	id := word
	if !plan.IsBuildID(word) {
		v, err := a.Look(ctx, word)
		if err != nil {
			return nil, err
		}
		id = v.Build
	}
	view, err := compare.View(ctx, a.State, id, variant, stage)
	if err != nil {
		return nil, err
	}
	for _, digest := range view.Layers {
		if !a.Layers.Has(digest) {
			return nil, fmt.Errorf("what %s stands on is no longer kept; build it again to enter it", word)
		}
	}
	return view, nil
}

// Enter runs a shell on a view, and returns its exit code. What it changes is thrown away, or kept in a folder if one is named.
func (a *App) Enter(ctx context.Context, view *record.View, shell machine.Shell, keep string) (code int, err error) {
	engine := a.Engine()
	dir, hold, err := engine.Hold(ctx, "enter-"+rand.Text(), view.Layers)
	if err != nil {
		return 0, err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
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
	instance, err := engine.Machine.Start(ctx, machine.Ground{Store: a.Layers, Layers: view.Layers, Tree: tree, Kept: view.Kept, Temp: dir},
		view.Network)
	if err != nil {
		return 0, err
	}
	defer instance.Stop()
	for _, content := range view.Contents {
		shell.Scripts = append(shell.Scripts, machine.Script{Content: content})
	}
	shell.User, shell.Dir, shell.Env = view.User, view.Dir, view.Env
	code, err = instance.Run(ctx, shell)
	if err == nil && keep != "" {
		if err = os.MkdirAll(filepath.Dir(keep), 0o755); err == nil {
			err = instance.Keep(keep)
		}
	}
	return code, err
}
