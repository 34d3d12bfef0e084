package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/demo"
	"zygos/internal/app"
	"zygos/internal/machine"
	"zygos/internal/words"
)

func (in *invocation) newWorkspace(dir string) error {
	if err := app.NewWorkspace(dir); err != nil {
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
build of a base image and its three children, tags, publication to three regions, one of them
in the simulated cloud, the manifest, and the id a deploy job needs. Each command is shown as
you would type it. DIR defaults to a new folder ./ebbline. Needs no network and no root.`,
	example: "zygos demo\nzygos demo /tmp/ebbline",
	run:     runDemo,
}

func runDemo(ctx context.Context, in *invocation) error {
	dir := "ebbline"
	if len(in.args) > 0 {
		dir = in.args[0]
	}
	began := time.Now()
	if err := app.NewDemo(dir); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	in.note("%s", in.paint(words.Bold, "The Ebbline workspace is in "+dir+". Every command below is one you can type there."))
	command := func(words string) *exec.Cmd {
		cmd := exec.CommandContext(ctx, self, strings.Fields(words)...)
		cmd.Args[0] = "zygos"
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "ZYGOS_STATE=")
		cmd.Cancel = func() error { return cmd.Process.Signal(unix.SIGTERM) }
		return cmd
	}
	for _, step := range demo.Steps {
		if step.Why != "" {
			in.note("\n%s", in.paint(words.Faint, "# "+step.Why))
		}
		in.note("%s %s", in.paint(words.Green, "$"), in.paint(words.Bold, "zygos "+step.Command))
		if words, beside := strings.CutSuffix(step.Command, " &"); beside {
			end, err := in.beside(command(words))
			if err != nil {
				return fmt.Errorf("zygos %s: %w", words, err)
			}
			defer end()
			continue
		}
		cmd := command(step.Command)
		if in.quiet {
			cmd.Args = append(cmd.Args, "--quiet")
		}
		if in.json {
			cmd.Args = append(cmd.Args, "--json")
		}
		cmd.Args = append(cmd.Args, "--color", in.color)
		cmd.Stdout, cmd.Stderr = raw(in.out), raw(in.err)
		if err := cmd.Run(); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			var exit *exec.ExitError
			if errors.As(err, &exit) && exit.ExitCode() > 0 {
				in.note("the demo stops here; what is done so far stays in %s", dir)
				return &exitError{exit.ExitCode()}
			}
			return fmt.Errorf("zygos %s: %w", step.Command, err)
		}
	}
	in.note("\n%s", in.paint(words.Bold, fmt.Sprintf("Done in %s.", human(time.Since(began)))))
	in.note("kelp-bay is simulated, and answers only while 'zygos standin' runs in that folder.")
	in.next(fmt.Sprintf("cd %s, change a line in scripts/link-install.sh, then zygos preview turbine-link", dir))
	return nil
}

// beside starts a command that says in a line when it is ready, and goes on until it is ended.
func (in *invocation) beside(cmd *exec.Cmd) (end func(), err error) {
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	end = func() {
		_ = cmd.Process.Signal(unix.SIGTERM) // else it has ended
		_ = cmd.Wait()                       // it was told to end
	}
	ready, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		end()
		return nil, fmt.Errorf("it does not start: %w", err)
	}
	in.note("%s", strings.TrimSpace(ready))
	return end, nil
}

var cmdDoctor = &command{
	name: "doctor", group: "start",
	summary: "say what this host can do, and what to change where it cannot",
	text: `Tries what builds need: a user namespace, a range of subordinate ids, an overlay, a whole
sandbox. Ends with 1 if builds cannot run here.`,
	example: "zygos doctor",
	run:     runDoctor,
}

func runDoctor(ctx context.Context, in *invocation) error {
	if machine.Ready() != nil {
		err := in.goInside()
		if err != nil {
			return fmt.Errorf("%w\nThe host does not let ordinary users make user namespaces. Where the file exists, an administrator may set\n"+
				"/proc/sys/kernel/unprivileged_userns_clone to 1, /proc/sys/kernel/apparmor_restrict_unprivileged_userns to 0, or\n"+
				"raise /proc/sys/user/max_user_namespaces; or run Zygos as root", err)
		}
		return nil
	}
	list := app.Examine(ctx, in.where(), os.TempDir())
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
