package cli

import (
	"context"
	"os"
	"os/user"
	"strconv"

	"zygos/internal/app"
	"zygos/internal/machine"
	"zygos/internal/workspace"
)

// where is what the flags say of workspace and state.
func (in *invocation) where() app.Where {
	return app.Where{Workspace: in.workspace, State: in.state}
}

// load finds the workspace and reads its definitions.
func (in *invocation) load() (*workspace.Workspace, error) {
	w, err := app.Find(in.where())
	if err != nil {
		return nil, err
	}
	return w, w.Load()
}

// opened is a command's run that starts with an opened state.
func opened(how app.Care, run func(context.Context, *invocation, *app.Session) error) func(context.Context, *invocation) error {
	return func(ctx context.Context, in *invocation) error {
		a, err := app.Begin(ctx, in.where(), how, caller())
		if a != nil {
			defer a.Close()
		}
		if err != nil {
			return err
		}
		a.Note = func(text string) { in.note("note: %s", text) }
		return run(ctx, in, a)
	}
}

// follow shows what goes on, until the one who called ends it.
func (in *invocation) follow(a *app.Session) *live {
	l := in.live()
	a.Progress = func(doing string, done, total int64) { l.show("", doing, done, total) }
	a.RegionProgress = func(region, doing string, done, total int64) {
		if doing == "" {
			l.idle(region)
		} else {
			l.show(region, doing, done, total)
		}
	}
	a.Note = func(text string) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.line("note: " + text)
	}
	a.Watch = in.watchBuild(l)
	return l
}

// goInside runs the same command line in a user namespace, where an ordinary user may make sandboxes.
func (in *invocation) goInside() error {
	if ids, missing := machine.Planned(); ids.Limited() {
		in.note("note: %s, so only the user root exists while stages run: steps for other users, and packages\n"+
			"that set other owners, will fail. Owners of the base are kept. 'zygos doctor' says how to change it.", missing)
	}
	code, err := machine.Enter(in.line)
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}

// caller is the person at the keyboard.
func caller() app.Caller { return app.Caller{Who: who(), Epoch: os.Getenv("SOURCE_DATE_EPOCH")} }

func who() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	uid := os.Getuid()
	if ids, ok := machine.Inside(); ok && ids.User != 0 {
		uid = int(ids.User)
	}
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return strconv.Itoa(uid)
}
