package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/app"
	"zygos/internal/state"
)

var cmdSweep = &command{
	name: "sweep", group: "build",
	inside:  true,
	summary: "remove what dead runs left: unfinished folders, half-written files, stale locks",
	text: `Removes what runs left that were killed or lost power: their folders, control groups, files
under temporary names, locks, artifacts that never became a version. What belongs to a
process that is alive stays. A build that finds a dead run does the same before it starts. On a full
disk it first gives up the reserve that the state holds back for it, and unfinished downloads.`,
	example: "zygos sweep",
	run: func(ctx context.Context, in *invocation) error {
		for _, l := range app.MakeRoom(in.where()) {
			in.note("removed %s, %s: %s", l.What, mib(l.Bytes), l.Name)
		}
		return opened(app.Each, runSweep)(ctx, in)
	},
}

func runSweep(ctx context.Context, in *invocation, a *app.Session) error {
	if err := a.Writable(); err != nil {
		return err
	}
	list, alone, err := a.Sweep(ctx, true)
	if !alone {
		in.note("another command uses this state, so half-written files that may be its own stay; run sweep again when it is done")
	}
	if in.json {
		return errors.Join(in.writeJSON(append([]state.Leftover{}, list...)), err)
	}
	if text := a.StillFull(); text != "" {
		in.note("%s", text)
	}
	if len(list) == 0 && err == nil {
		_, err = fmt.Fprintln(in.out, "Nothing to remove")
		return err
	}
	var rows [][]string
	for _, l := range list {
		rows = append(rows, []string{l.What, mib(l.Bytes), strings.TrimPrefix(l.Name, a.Dir.In()+string(filepath.Separator))})
	}
	return errors.Join(in.columns([]string{"REMOVED", "SIZE", "NAME"}, rows), err)
}

var cmdCancel = &command{
	name: "cancel", group: "build", args: "BUILD", least: 1, most: 1,
	summary: "stop a running build",
	text: `BUILD is a build's id, or an image for its running build. Waits until the build has stopped:
its processes are gone, nothing was registered, finished stages are kept.`,
	example: "zygos cancel turbine-link",
	run: opened(app.Lenient, func(ctx context.Context, in *invocation, a *app.Session) error {
		began := time.Now()
		b, err := a.Cancel(ctx, in.args[0])
		if err != nil {
			return err
		}
		if in.json {
			return in.writeJSON(b)
		}
		fmt.Fprintf(in.out, "Stopped %s of %s in %s; nothing was registered, finished stages are kept\n", b.ID, b.Image, human(time.Since(began)))
		in.next(fmt.Sprintf("zygos build %s   goes on from the last finished stage", b.Image))
		return nil
	}),
}
