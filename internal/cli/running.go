package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/build"
	"zygos/internal/machine"
	"zygos/internal/region"
)

// sweep removes what dead runs left; all of it if no other process uses the state.
func (p *place) sweep(ctx context.Context, e *build.Engine, thorough bool) (list []build.Leftover, alone bool, err error) {
	alone, err = p.ifAlone(ctx, func() (err error) {
		list, err = e.Sweep(ctx, true, thorough, func() (func(string) bool, error) { return p.needed(ctx) })
		for i := range p.Org.Regions {
			for _, name := range region.Sweep(&p.Org.Regions[i], p.Path) {
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
func (p *place) needed(ctx context.Context) (func(digest string) bool, error) {
	refs, err := p.catalog.Refs(ctx)
	if err != nil {
		return nil, err
	}
	if err := p.store.Unlist(ctx, func(reference string) bool { return !refs[strings.Replace(reference, ":", "@", 1)] }); err != nil {
		return nil, err
	}
	known, err := p.store.Named()
	if err != nil {
		return nil, err
	}
	if err := p.catalog.Digests(ctx, func(_, digest string) { known[digest] = true }); err != nil {
		return nil, err
	}
	for _, b := range p.Org.Bases {
		known["sha256:"+b.SHA256] = true
	}
	return func(digest string) bool { return known[digest] }, nil
}

var cmdSweep = &command{
	name: "sweep", group: "build",
	summary: "remove what dead runs left: unfinished folders, half-written files, stale locks",
	text: `Removes what runs left that were killed or lost power: their folders, control groups, files
under temporary names, locks, artifacts that never became a version. What belongs to a
process that is alive stays. A build that finds a dead run does the same before it starts.`,
	example: "zygos sweep",
	run: opened(strict, func(ctx context.Context, in *invocation, p *place) error {
		if err := p.writable(); err != nil {
			return err
		}
		if _, ok := machine.Inside(); !ok {
			return p.inside(in)
		}
		list, alone, err := p.sweep(ctx, p.engine(in, in.live()), true)
		if !alone {
			in.note("another command uses this state, so half-written files that may be its own stay; run sweep again when it is done")
		}
		if in.json {
			return errors.Join(in.writeJSON(append([]build.Leftover{}, list...)), err)
		}
		if len(list) == 0 && err == nil {
			_, err = fmt.Fprintln(in.out, "Nothing to remove")
			return err
		}
		var rows [][]string
		for _, l := range list {
			rows = append(rows, []string{l.What, mib(l.Bytes), strings.TrimPrefix(l.Name, p.State+string(filepath.Separator))})
		}
		return errors.Join(in.columns([]string{"REMOVED", "SIZE", "NAME"}, rows), err)
	}),
}

var cmdCancel = &command{
	name: "cancel", group: "build", args: "BUILD", least: 1, most: 1,
	summary: "stop a running build",
	text: `BUILD is a build's id, or an image for its running build. Waits until the build has stopped:
its processes are gone, nothing was registered, finished stages are kept.`,
	example: "zygos cancel turbine-link",
	run: opened(lenient, func(ctx context.Context, in *invocation, p *place) error {
		b, err := p.findBuild(ctx, in.args[0])
		if err != nil {
			return err
		}
		if err := p.elsewhere(b); err != nil {
			return err
		}
		if !build.Alive(p.State, b.ID) {
			return fmt.Errorf("build %s does not run: it is %s; 'zygos builds' lists those that do", b.ID, b.State)
		}
		began := time.Now()
		if err := build.Cancel(p.State, b.ID, who()); err != nil {
			return err
		}
		for build.Alive(p.State, b.ID) {
			if time.Since(began) > 30*time.Second {
				return fmt.Errorf("build %s was asked to stop and still runs after 30 s; 'zygos log %s' shows what it does", b.ID, b.ID)
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(20 * time.Millisecond):
			}
		}
		if b, err = p.findBuild(ctx, b.ID); err != nil {
			return err
		}
		if in.json {
			return in.writeJSON(b)
		}
		if b.State == "registered" {
			return fmt.Errorf("build %s was done before it could stop: it registered %s@%s", b.ID, b.Image, b.Version)
		}
		fmt.Fprintf(in.out, "Stopped %s of %s in %s; nothing was registered, finished stages are kept\n", b.ID, b.Image, human(time.Since(began)))
		in.next(fmt.Sprintf("zygos build %s   goes on from the last finished stage", b.Image))
		return nil
	}),
}
