package machine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"runtime"
	"strconv"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// Shell is what to run by hand in a sandbox.
type Shell struct {
	User, Dir string
	Env       []string
	Command   []string // run instead of a shell
	Scripts   []Script // put where scripts of a stage lie, to be run by hand
	Term      string   // kind of terminal, "" for none: then streams are pipes
	In        io.Reader
	Out, Err  io.Writer
	Sizes     <-chan Size // of the terminal, whenever it changes
}

const hostname = "zygos" // of instances

// Size is that of a terminal, in characters.
type Size struct{ Rows, Cols uint16 }

// shellOrder is what process 1 is told of a shell.
type shellOrder struct {
	User, Dir    string
	Env          []string
	Command      []string
	Scripts      [][]byte
	Term         string
	In, Out, Err int // descriptors
}

// shell runs a shell in folders and returns its exit code.
func (s Sandbox) shell(ctx context.Context, at Folders, network bool, shell Shell) (code int, err error) {
	// The parent-death signal of process 1 follows the thread that starts it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	root, tmp, err := s.mounts(at)
	if err != nil {
		return 0, err
	}
	defer root.Close()
	defer tmp.Close()
	orders, giveOrders, err1 := os.Pipe()
	takeAnswers, answers, err2 := os.Pipe()
	theirIn, in, err3 := os.Pipe()
	out, theirOut, err4 := os.Pipe()
	errs, theirErr, err5 := os.Pipe()
	if err := errors.Join(err1, err2, err3, err4, err5); err != nil {
		return 0, err
	}
	o := order{Hostname: hostname, Network: network, Limited: s.IDs.Limited(), Shell: &shellOrder{User: shell.User, Dir: shell.Dir,
		Env: shell.Env, Command: shell.Command, Term: shell.Term, In: fdSteps, Out: fdSteps + 1, Err: fdSteps + 2}}
	for _, script := range shell.Scripts {
		o.Shell.Scripts = append(o.Shell.Scripts, script.Content)
	}
	r := running{extra: []*os.File{orders, answers, root, tmp, theirIn, theirOut, theirErr}}
	defer r.close()
	var complaint complaints
	cmd, err := r.command(ctx, s.IDs, network, &complaint)
	if err != nil {
		return 0, err
	}
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("start the sandbox: %w; run 'zygos doctor' to see what this host lacks", err)
	}
	r.close()
	var shown sync.WaitGroup
	shown.Go(func() { _, _ = io.Copy(shell.Out, out) }) // it ends with the shell
	shown.Go(func() { _, _ = io.Copy(shell.Err, errs) })
	go func() {
		_, _ = io.Copy(in, shell.In) // an end of input ends the shell
		in.Close()
	}()
	ended := make(chan struct{})
	defer func() {
		close(ended)
		for _, f := range []*os.File{takeAnswers, out, errs} {
			f.Close()
		}
	}()
	go func() {
		enc := json.NewEncoder(giveOrders)
		_ = enc.Encode(o) // if it does not arrive, there is no answer
		for {
			select {
			case size, ok := <-shell.Sizes:
				if !ok {
					return
				}
				_ = enc.Encode(size) // as above
			case <-ended:
				return
			}
		}
	}()
	var a answer
	err = json.NewDecoder(takeAnswers).Decode(&a)
	waited := cmd.Wait()
	shown.Wait()
	giveOrders.Close()
	switch {
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case a.Broken != "":
		return 0, errors.New(a.Broken)
	case err != nil:
		return 0, fmt.Errorf("the sandbox ended: %w %s", errors.Join(err, waited), complaint.String())
	}
	return a.Code, nil
}

// complaints takes what process 1 complains of, as far as anybody reads: a script may speak in its name.
type complaints struct {
	mu   sync.Mutex
	text []byte
}

func (b *complaints) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.text = append(b.text, p[:min(len(p), max(0, 4096-len(b.text)))]...)
	return len(p), nil
}

func (b *complaints) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return string(b.text)
}

// run is the part of process 1: it starts the shell and waits for it.
func (s *shellOrder) run(orders *json.Decoder) (code int, err error) {
	account, err := lookUp(s.User)
	if err != nil {
		return 0, err
	}
	for i, content := range s.Scripts {
		if err := os.WriteFile(ScriptName(i), content, 0o755); err != nil {
			return 0, err
		}
	}
	program := "/bin/bash"
	if _, err := os.Stat(program); err != nil {
		program = "/bin/sh"
	}
	dir := path.Clean("/" + s.Dir)
	if _, err := os.Stat(dir); err != nil {
		dir = "/"
	}
	attr := &syscall.ProcAttr{Dir: dir, Env: environment(account, "dumb", s.Env), Sys: &syscall.SysProcAttr{Setsid: true}}
	if account.uid != 0 {
		attr.Sys.Credential = &syscall.Credential{Uid: account.uid, Gid: account.gid, Groups: account.groups}
	}
	in, out, errs := os.NewFile(uintptr(s.In), "in"), os.NewFile(uintptr(s.Out), "out"), os.NewFile(uintptr(s.Err), "err")
	argv := []string{program}
	if len(s.Command) > 0 { // found as a shell finds it
		argv = append([]string{program, "-c", `exec "$@"`, "sh"}, s.Command...)
	}
	done := func() {}
	if s.Term == "" {
		attr.Files = []uintptr{in.Fd(), out.Fd(), errs.Fd()}
	} else {
		if len(s.Command) == 0 {
			argv = append(argv, "-i")
		}
		attr.Env = environment(account, s.Term, s.Env, []string{`PS1=\w # `})
		master, slave, err := terminal(int(account.uid))
		if err != nil {
			return 0, err
		}
		attr.Files = []uintptr{slave.Fd(), slave.Fd(), slave.Fd()}
		attr.Sys.Setctty, attr.Sys.Ctty = true, 0
		go func() { _, _ = io.Copy(master, in) }() // ends with this process
		go resize(orders, master)
		copied := make(chan struct{})
		go func() {
			defer close(copied)
			_, _ = io.Copy(out, master) // ends when nobody has the terminal open
		}()
		done = func() { slave.Close(); <-copied }
	}
	pid, err := syscall.ForkExec(program, argv, attr)
	if err != nil {
		return 0, fmt.Errorf("start %s of the image: %w", program, err)
	}
	failed := reap(pid)
	_ = unix.Kill(-1, unix.SIGKILL) // what the shell left running holds the terminal
	done()
	if failed == nil {
		return 0, nil
	}
	if failed.Signal != "" {
		return 128 + int(unix.SignalNum(failed.Signal)), nil
	}
	if failed.Reason != "" {
		return 0, errors.New(failed.Reason)
	}
	return failed.Code, nil
}

func resize(orders *json.Decoder, master *os.File) {
	for {
		var size Size
		if orders.Decode(&size) != nil {
			return
		}
		_ = unix.IoctlSetWinsize(int(master.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: size.Rows, Col: size.Cols}) // the next change comes anyway
	}
}

// terminal opens a pair of the sandbox's own terminals (pts(4)).
func terminal(uid int) (master, slave *os.File, err error) {
	if master, err = os.OpenFile("/dev/pts/ptmx", os.O_RDWR, 0); err != nil {
		return nil, nil, err
	}
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("open a terminal: %w", err)
	}
	name := "/dev/pts/" + strconv.Itoa(n)
	if slave, err = os.OpenFile(name, os.O_RDWR|unix.O_NOCTTY, 0); err != nil {
		return nil, nil, err
	}
	return master, slave, os.Chown(name, uid, -1)
}
