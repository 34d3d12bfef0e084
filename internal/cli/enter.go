package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/flock"
	"zygos/internal/layer"
	"zygos/internal/machine"
)

var cmdEnter = &command{
	name: "enter", group: "build", args: "BUILD or REF", least: 1, most: 1,
	summary: "a shell where a build failed, or in any kept stage of a version",
	text: `Of a build that failed: the tree as the failed step left it, with the stage's user, folder
and variables, and its scripts in /run/zygos/steps to try again. Of a version, or with
--stage: the tree after that stage. Without --stage, the tree that was captured. What you
change is thrown away. Secrets are not given. Commands may also come from a pipe; the exit
code is that of the shell.`,
	example: "zygos enter turbine-link@2.3.0\nzygos enter turbine-link --stage link\necho 'cat /etc/issue' | zygos enter ebb-base@stable",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.StringVar(&in.set.stage, "stage", "", "the tree after the stage `NAME`")
		fs.StringVar(&in.set.variant, "variant", "", "of the variant `NAME`")
	},
	run: opened(lenient, runEnter),
}

func runEnter(ctx context.Context, in *invocation, p *place) error {
	view, err := p.view(ctx, in)
	if err == nil {
		err = p.writable()
	}
	if err != nil {
		return err
	}
	for _, digest := range view.Layers {
		if !p.layers.Has(digest) {
			return fmt.Errorf("what %s stands on is no longer kept; build it again to enter it", in.args[0])
		}
	}
	if _, ok := machine.Inside(); !ok {
		return p.inside(in)
	}
	ids, _ := machine.Inside()
	e := p.engine(in, in.live())
	dir, hold, err := e.Hold(ctx, fmt.Sprintf("enter-%d", os.Getpid()), view.Layers)
	if err != nil {
		return err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	m := machine.Stage{Name: "enter", Hostname: "zygos", Upper: filepath.Join(dir, "upper"), Scratch: filepath.Join(dir, "scratch"), Network: view.Network}
	for _, digest := range view.Layers {
		m.Layers = append(m.Layers, p.layers.TreeDir(digest))
	}
	if view.Tree != "" {
		lock, err := os.Open(filepath.Dir(filepath.Dir(view.Tree)))
		if err != nil {
			return err
		}
		defer lock.Close() // and with it the lock
		if err := flock.Share(ctx, lock); err != nil {
			return err
		}
		m.Layers = append(m.Layers, view.Tree)
	}
	tree, err := p.layers.Stack(view.Layers)
	if err == nil {
		err = errors.Join(os.Mkdir(m.Upper, 0o755), os.Mkdir(m.Scratch, 0o755))
	}
	if err == nil {
		files := layer.Files{Store: p.layers, Layers: view.Layers}
		err = (&layer.Upper{Folder: layer.Folder{Dir: m.Upper, Owners: p.layers.Owners}, Lower: tree, Below: files.Path}).Prepare(ctx)
	}
	if err != nil {
		return err
	}
	in.note("%s", in.paint(bold, view.About))
	in.note("What you change is thrown away when you leave.")
	for i, name := range view.Scripts {
		in.note("  %s   %s", machine.ScriptName(i), name)
	}
	code, err := in.shell(ctx, machine.Sandbox{IDs: ids}, m, view)
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}

// shell runs the shell on this terminal, or on pipes.
func (in *invocation) shell(ctx context.Context, s machine.Sandbox, m machine.Stage, view *build.View) (int, error) {
	shell := machine.Shell{User: view.User, Dir: view.Dir, Env: view.Env, In: os.Stdin, Out: raw(in.out), Err: raw(in.err)}
	for _, content := range view.Contents {
		shell.Scripts = append(shell.Scripts, machine.Script{Content: content})
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) || !isTerminal(in.out) {
		return s.Enter(ctx, m, shell)
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
	return s.Enter(ctx, m, shell)
}

// view finds the tree that the command line means.
func (p *place) view(ctx context.Context, in *invocation) (*build.View, error) {
	word := in.args[0]
	if strings.HasPrefix(word, "b-") {
		b, err := p.findBuild(ctx, word)
		if err != nil {
			return nil, err
		}
		if b.State != catalog.Registered {
			return build.ViewFailed(ctx, p.State, b, in.set.variant, in.set.stage)
		}
		return p.viewBuild(ctx, in, b.ID)
	}
	v, err := p.look(ctx, word)
	if err != nil {
		return nil, err
	}
	return p.viewBuild(ctx, in, v.Build)
}

// viewBuild is the tree of a build that made a version, if this state made it.
func (p *place) viewBuild(ctx context.Context, in *invocation, id string) (*build.View, error) {
	view, err := build.ViewBuild(p.State, id, in.set.variant, in.set.stage)
	if !errors.Is(err, os.ErrNotExist) {
		return view, err
	}
	b, err := p.catalog.Build(ctx, id)
	if err != nil {
		return nil, err
	}
	where := "in another state"
	if b.Host != "" {
		where += ", on " + b.Host
	}
	return nil, fmt.Errorf("%s@%s was built %s, and its record and layers are only there. Enter it there, or build %s here: zygos build %s --force", b.Image, b.Version, where, b.Image, b.Image)
}
