package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"zygos/internal/app"
	"zygos/internal/plain"
	"zygos/internal/vm"
	"zygos/internal/words"
)

var cmdTry = &command{
	name: "try", group: "judge", args: "REF or BUILD [-- COMMAND…]", least: 1, most: 1000,
	inside:  true,
	summary: "a throwaway instance of a version: a shell, a command, or its disk in a virtual machine",
	text: `Without --boot, a sandbox on the tree as it was captured, with a shell or the command; the exit
code is its own. With --boot, the untouched disk starts under QEMU with UEFI firmware, its
console on this terminal; Ctrl-A X ends it. With --boot and a command, the disk starts with its
tree's own kernel and an agent beside it, which runs the command as root once the machine is up;
exit code and output are the command's. A BUILD is one whose disk did not come up or was found
wrong. What changes is thrown away, or with --keep kept beside it. Machines use the processor's
help where a probe finds that it works, else software.`,
	example: "zygos try turbine-link@2.3.0\nzygos try ebb-base -- cat /etc/issue\nzygos try field-machine --boot --ports 8022:22\n" +
		"zygos try field-machine --boot -- systemctl --failed",
	flags: func() flags { return &tryFlags{} },
	run:   opened(app.Lenient, runTry),
}

// tryFlags are those of try.
type tryFlags struct {
	variant  string
	boot     bool
	artifact string
	ports    string
	keep     bool
}

func (f *tryFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.variant, "variant", "", "of the variant `NAME`")
	fs.BoolVar(&f.boot, "boot", false, "start the disk in a virtual machine")
	fs.StringVar(&f.artifact, "artifact", "", "with --boot, the disk called `NAME`")
	fs.StringVar(&f.ports, "ports", "", "with --boot, lead `HOST:GUEST,…` from this host's loopback to the guest")
	fs.BoolVar(&f.keep, "keep", false, "keep what changes, and say where")
}

func runTry(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*tryFlags)
	ports, err := vm.ParsePorts(f.ports)
	if err != nil {
		return wrongUse("--ports %v", err)
	}
	if err := a.Writable(); err != nil {
		return err
	}
	if f.boot {
		return in.boot(ctx, a, app.BootRequest{Word: in.args[0], Variant: f.variant, Artifact: f.artifact, Ports: ports, Keep: f.keep})
	}
	if f.ports != "" || f.artifact != "" {
		return wrongUse("--ports and --artifact are about a disk that starts; add --boot")
	}
	view, err := a.View(ctx, in.args[0], f.variant, "")
	if err != nil {
		return err
	}
	keep := ""
	if f.keep {
		keep = a.Kept(in.args[0])
	}
	in.note("%s", in.paint(words.Bold, view.About))
	if keep == "" {
		in.note("What changes is thrown away.")
	}
	code, err := in.shell(ctx, a, view, in.args[1:], keep)
	if err == nil && keep != "" {
		in.note("kept  %s", nearby(keep))
	}
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}

// boot starts a disk with its console on this terminal.
func (in *invocation) boot(ctx context.Context, a *app.Session, r app.BootRequest) error {
	if command := in.args[1:]; len(command) > 0 {
		return in.bootAndRun(ctx, a, r, command)
	}
	out, ok := file(in.out)
	errs, ok2 := file(in.err)
	if !ok || !ok2 {
		return fmt.Errorf("a console needs a terminal or a file")
	}
	b, err := a.Bootable(ctx, r)
	if err != nil {
		return err
	}
	in.note("%s", in.paint(words.Bold, b.About))
	in.note("It starts %s. Ctrl-A X ends it.", helped(b))
	for _, p := range r.Ports {
		in.note("  127.0.0.1:%d leads to port %d", p.Host, p.Guest)
	}
	if term.IsTerminal(int(os.Stdin.Fd())) {
		before, err := term.MakeRaw(int(os.Stdin.Fd()))
		if err != nil {
			return err
		}
		defer func() { _ = term.Restore(int(os.Stdin.Fd()), before) }() // the terminal is gone if it fails
	}
	err = a.Start(ctx, b, os.Stdin, out, errs)
	if b.Changes != "" && err == nil {
		in.note("\r\nkept  %s", nearby(b.Changes))
	}
	return err
}

// helped says how a disk starts.
func helped(b *app.Boot) string {
	if b.Fast {
		return "with the processor's help"
	}
	return "in software, since the processor cannot help here: that takes a minute or more"
}

// bootAndRun starts a disk and runs a command in it.
func (in *invocation) bootAndRun(ctx context.Context, a *app.Session, r app.BootRequest, command []string) error {
	b, err := a.Bootable(ctx, r)
	if err != nil {
		return err
	}
	in.note("%s", in.paint(words.Bold, b.About))
	in.note("It starts %s.", helped(b))
	l := in.follow(a)
	code, err := a.Command(ctx, b, command, raw(in.out), raw(in.err), func(line string) {
		l.show("starting", line, 0, 0)
	}, func(up *vm.Running) {
		l.end()
		in.note("It came up in %s.", human(up.Took))
		if len(up.Failed) > 0 {
			in.note("Units that failed: %s", strings.Join(up.Failed, ", "))
		}
	})
	l.end()
	var down *vm.NotUpError
	if errors.As(err, &down) {
		for _, line := range down.Console {
			in.note("  | %s", plain.Lines(line))
		}
	}
	if b.Changes != "" && err == nil {
		in.note("kept  %s", nearby(b.Changes))
	}
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}
