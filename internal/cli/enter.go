package cli

import (
	"context"
	"flag"
	"os"
	"os/signal"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"zygos/internal/app"
	"zygos/internal/machine"
	"zygos/internal/record"
	"zygos/internal/words"
)

var cmdEnter = &command{
	name: "enter", group: "build", args: "BUILD or REF", least: 1, most: 1,
	inside:  true,
	summary: "a shell where a build failed, or in any kept stage of a version",
	text: `Of a build that failed: the tree as the failed step left it, with the stage's user, folder
and variables, and its scripts in /run/zygos/steps to try again. Of a version, or with
--stage: the tree after that stage. Without --stage, the tree that was captured. What you
change is thrown away. Secrets are not given. Commands may also come from a pipe; the exit
code is that of the shell.`,
	example: "zygos enter turbine-link@2.3.0\nzygos enter turbine-link --stage link\necho 'cat /etc/issue' | zygos enter ebb-base@stable",
	flags:   func() flags { return &enterFlags{} },
	run:     opened(app.Lenient, runEnter),
}

// enterFlags are those of enter.
type enterFlags struct {
	stage   string
	variant string
}

func (f *enterFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.stage, "stage", "", "the tree after the stage `NAME`")
	fs.StringVar(&f.variant, "variant", "", "of the variant `NAME`")
}

func runEnter(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*enterFlags)
	view, err := a.View(ctx, in.args[0], f.variant, f.stage)
	if err == nil {
		err = a.Writable()
	}
	if err != nil {
		return err
	}
	in.note("%s", in.paint(words.Bold, view.About))
	in.note("What you change is thrown away when you leave.")
	for i, name := range view.Scripts {
		in.note("  %s   %s", machine.ScriptName(i), name)
	}
	code, err := in.shell(ctx, a, view, nil, "")
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}

// shell runs a shell or a command on this terminal, or on pipes.
func (in *invocation) shell(ctx context.Context, a *app.Session, view *record.View, command []string, keep string) (int, error) {
	shell := machine.Shell{Command: command, In: os.Stdin, Out: raw(in.out), Err: raw(in.err)}
	if !term.IsTerminal(int(os.Stdin.Fd())) || !isTerminal(in.out) {
		return a.Enter(ctx, view, shell, keep)
	}
	shell.Term = os.Getenv("TERM")
	if shell.Term == "" {
		shell.Term = "dumb"
	}
	sizes := make(chan machine.Size, 1)
	changes := make(chan os.Signal, 1)
	signal.Notify(changes, unix.SIGWINCH)
	defer signal.Stop(changes)
	go func() {
		for {
			if cols, rows, err := term.GetSize(int(os.Stdin.Fd())); err == nil {
				sizes <- machine.Size{Rows: uint16(rows), Cols: uint16(cols)}
			}
			<-changes
		}
	}()
	shell.Sizes = sizes
	before, err := term.MakeRaw(int(os.Stdin.Fd()))
	if err != nil {
		return 0, err
	}
	defer func() { _ = term.Restore(int(os.Stdin.Fd()), before) }() // the terminal is gone if it fails
	return a.Enter(ctx, view, shell, keep)
}
