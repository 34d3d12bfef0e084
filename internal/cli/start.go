package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/demo"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/workspace"
)

// lay writes an embedded folder into a new one, all or nothing.
func lay(files fs.FS, from, to string) error {
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty; name a folder that is new", to)
	}
	_, before := os.Stat(to)
	err := fs.WalkDir(files, from, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		if d.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		text, err := fs.ReadFile(files, p)
		if err != nil {
			return err
		}
		mode := os.FileMode(0o644)
		if strings.HasSuffix(p, ".sh") {
			mode = 0o755
		}
		return os.WriteFile(target, text, mode)
	})
	if err != nil && errors.Is(before, fs.ErrNotExist) {
		err = errors.Join(err, os.RemoveAll(to))
	}
	return err
}

func (in *invocation) newWorkspace(dir string) error {
	if err := lay(demo.Files, "starter", dir); err != nil {
		return err
	}
	bases := filepath.Join(dir, "bases")
	if err := lay(demo.Files, "workspace/bases", bases); err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]string{"workspace": dir, "image": "first"})
	}
	fmt.Fprintf(in.out, `Wrote a workspace to %s
  zygos.toml          the organisation: its bases and regions
  images/first.toml   one image, which builds at once
  scripts/first.sh    what its stage runs
  bases/              a small base; put your own root archive here
`, dir)
	in.next(fmt.Sprintf("cd %s && zygos build first", dir))
	return nil
}

var cmdDemo = &command{
	name: "demo", group: "start", args: "[DIR]", most: 1,
	summary: "the whole worked example, in a new folder",
	text: `Lays out the workspace of Ebbline, an invented tidal-power operator, and runs on it: lint,
build of a base image and its three children, tags, publication to three regions, the
manifest, and the id a deploy job needs. Each command is shown as you would type it. DIR
defaults to a new folder ./ebbline. Needs no network and no root.`,
	example: "zygos demo\nzygos demo /tmp/ebbline",
	run:     runDemo,
}

func runDemo(ctx context.Context, in *invocation) error {
	dir := "ebbline"
	if len(in.args) > 0 {
		dir = in.args[0]
	}
	began := time.Now()
	if err := lay(demo.Files, "workspace", dir); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	in.note("%s", in.paint(bold, "The Ebbline workspace is in "+dir+". Every command below is one you can type there."))
	for _, step := range demoSteps {
		if step.why != "" {
			in.note("\n%s", in.paint(faint, "# "+step.why))
		}
		in.note("%s %s", in.paint(green, "$"), in.paint(bold, "zygos "+step.command))
		cmd := exec.CommandContext(ctx, self, strings.Fields(step.command)...)
		cmd.Args[0] = "zygos"
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "ZYGOS_STATE=")
		if in.quiet {
			cmd.Args = append(cmd.Args, "--quiet")
		}
		if in.json {
			cmd.Args = append(cmd.Args, "--json")
		}
		cmd.Args = append(cmd.Args, "--color", in.color)
		cmd.Stdout, cmd.Stderr = raw(in.out), raw(in.err)
		cmd.Cancel = func() error { return cmd.Process.Signal(unix.SIGTERM) }
		if err := cmd.Run(); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			var exit *exec.ExitError
			if errors.As(err, &exit) && exit.ExitCode() > 0 {
				in.note("the demo stops here; what is done so far stays in %s", dir)
				return &exitError{exit.ExitCode()}
			}
			return fmt.Errorf("zygos %s: %w", step.command, err)
		}
	}
	in.note("\n%s", in.paint(bold, fmt.Sprintf("Done in %s.", human(time.Since(began)))))
	in.next(fmt.Sprintf("cd %s, change a line in scripts/link-install.sh, then zygos preview turbine-link", dir))
	return nil
}

var demoSteps = []struct{ command, why string }{
	{"lint", "Are the definitions sound?"},
	{"scripts", "What does the script library hold, and who uses it?"},
	{"preview ebb-base", "What would a build do?"},
	{"build ebb-base", "Build the hardened base from field-os"},
	{"tag ebb-base stable", "Children start from ebb-base@stable"},
	{"build turbine-link tide-desk buoy-logger", "Build its three children"},
	{"build turbine-link", "Once more: nothing changed, nothing is built"},
	{"tag turbine-link stable", "Move tags over versions"},
	{"tag tide-desk stable", ""},
	{"tag buoy-logger candidate", ""},
	{"publish turbine-link@stable", "Place the artifacts in the regions"},
	{"publish tide-desk@stable", ""},
	{"publish buoy-logger@candidate", ""},
	{"list", "What exists now, and where?"},
	{"manifest turbine-link@stable", "What belongs to each region?"},
	{"locate turbine-link@stable --region north-sound", "The one id that a deploy job needs"},
}

var cmdDoctor = &command{
	name: "doctor", group: "start",
	summary: "say what this host can do, and what to change where it cannot",
	text: `Tries what builds need: a user namespace, a range of subordinate ids, an overlay, a whole
sandbox. Ends with 1 if builds cannot run here.`,
	example: "zygos doctor",
	run:     runDoctor,
}

// finding is one line of doctor.
type finding struct {
	What  string `json:"what"`
	State string `json:"state"` // ok, limited, missing
	Text  string `json:"text"`
	Do    string `json:"do,omitempty"`
}

func runDoctor(ctx context.Context, in *invocation) error {
	if _, ok := machine.Inside(); !ok {
		err := in.again()
		if err != nil {
			return fmt.Errorf("%w\nThe host does not let ordinary users make user namespaces. Where the file exists, an administrator may set\n"+
				"/proc/sys/kernel/unprivileged_userns_clone to 1, /proc/sys/kernel/apparmor_restrict_unprivileged_userns to 0, or\n"+
				"raise /proc/sys/user/max_user_namespaces; or run Zygos as root", err)
		}
		return nil
	}
	list := in.examine(ctx)
	if in.json {
		if err := in.writeJSON(list); err != nil {
			return err
		}
	} else {
		var rows [][]string
		for _, f := range list {
			rows = append(rows, []string{f.What, f.State, f.Text})
		}
		if err := in.columns([]string{"WHAT", "STATE", "FOUND"}, rows); err != nil {
			return err
		}
		for _, f := range list {
			if f.Do != "" {
				fmt.Fprintf(in.out, "to do: %s\n", f.Do)
			}
		}
	}
	for _, f := range list {
		if f.State == "missing" {
			return &exitError{exitFailed}
		}
	}
	in.next("zygos demo")
	return nil
}

func (in *invocation) examine(ctx context.Context) []finding {
	var uts unix.Utsname
	_ = unix.Uname(&uts) // it cannot fail with a valid buffer
	ids, _ := machine.Inside()
	list := []finding{{What: "kernel", State: "ok", Text: unix.ByteSliceToString(uts.Release[:])}}
	f := finding{What: "ids", State: "ok", Text: fmt.Sprintf("sandboxes use the %d ids from %d on this host", ids.Count, ids.Host)}
	if ids.Limited() {
		f.State, f.Text = "limited", "only root exists in sandboxes: steps for other users fail, and so do packages that set other owners"
		f.Do = "install the package uidmap, and give your user a line NAME:100000:65536 in /etc/subuid and in /etc/subgid"
	}
	list = append(list, f)
	limits := finding{What: "limits", State: "ok", Text: "builds may be limited in memory, processes and processors"}
	if err := machine.LimitsWork(); err != nil {
		limits.State, limits.Text = "limited", fmt.Sprintf("[limits] would not be in force: %v", err)
		limits.Do = "for [limits], use a host with cgroup v2 that lets you make control groups, for instance under 'systemd-run --user --scope -p Delegate=yes'"
	}
	list = append(list, limits)
	state := os.TempDir()
	if w, err := in.load(); w != nil {
		state = w.State
		e := &build.Engine{State: state, Layers: &layer.Store{Dir: filepath.Join(state, "layers")}}
		s := e.Measure()
		text := fmt.Sprintf("%s: layers %s, artifacts %s, logs %s, failed builds %s, other %s", mib(s.Total()), mib(s.Layers), mib(s.Store), mib(s.Builds), mib(s.Failed), mib(s.Other))
		f := finding{What: "state", State: "ok", Text: text}
		if budget := w.Org.Budget; budget > 0 {
			f.Text += "; budget " + mib(budget)
			if s.Total() > budget {
				f.State, f.Do = "over", "the budget in zygos.toml is passed, since versions need what is kept: raise it, or remove old versions"
			}
		}
		list = append(list, f)
		_ = err // wrong definitions are lint's matter
		if err := w.MakeState(); err != nil {
			return append(list, finding{What: "state", State: "missing", Text: err.Error(), Do: "make the folder writable, or move it with --state DIR"})
		}
		list = append(list, in.examineCatalog(ctx, w))
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(state, &fs); err == nil {
		list = append(list, finding{What: "disk", State: "ok", Text: fmt.Sprintf("%s free at %s", mib(int64(fs.Bavail)*fs.Bsize), state)})
	}
	f = finding{What: "sandbox", State: "ok"}
	took, err := machine.Probe(ctx, ids, state)
	f.Text = "made and left in " + human(took)
	if err != nil {
		f.State, f.Text = "missing", err.Error()
		f.Do = "use a kernel of 5.11 or later with overlay and user namespaces, and a state folder on a local file system (ext4, xfs, btrfs)"
	}
	return append(list, f)
}

// examineCatalog opens the catalog and asks it something.
func (in *invocation) examineCatalog(ctx context.Context, w *workspace.Workspace) finding {
	f := finding{What: "catalog", State: "ok", Text: "in the state"}
	if w.Org.Catalog.URL != "" {
		f.Text = catalog.Plain(w.Org.Catalog.URL)
	}
	began := time.Now()
	p, err := in.open(ctx, lenient)
	if err == nil {
		defer p.close()
		_, err = p.catalog.Running(ctx)
	}
	f.Text += ", answered in " + human(time.Since(began))
	if err != nil {
		f.State, f.Text, f.Do = "missing", err.Error(), "look at [catalog] in zygos.toml"
	}
	return f
}
