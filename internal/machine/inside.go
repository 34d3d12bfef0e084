package machine

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/layer"
)

// What follows runs as process 1 of a sandbox.

const (
	zygosDir  = "/run/zygos"
	scriptDir = zygosDir + "/steps"
	secretDir = zygosDir + "/secrets"
	toolPath  = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	inMemory  = "size=256m,nr_inodes=65536" // what a file system in memory may take; /tmp is on disk
)

// sandboxInit makes the sandbox from inside, carries out the steps and exits; with it every
// process of the stage ends.
func sandboxInit() {
	runtime.LockOSThread() // what this thread may not, those that it starts may not either
	// Who wants us gone kills us. Caught and not ignored: what is ignored stays so in the scripts.
	signal.Notify(make(chan os.Signal, 1), unix.SIGINT, unix.SIGTERM, unix.SIGHUP)
	var o order
	orders := json.NewDecoder(os.NewFile(fdOrders, "orders"))
	if err := orders.Decode(&o); err != nil {
		os.Exit(1) // whoever started us is gone
	}
	answers := json.NewEncoder(os.NewFile(fdAnswers, "answers"))
	last := fdSteps
	for _, s := range o.Steps {
		last = max(last, s.Source, s.Out, s.Err)
	}
	if o.Shell != nil {
		last = o.Shell.Err
	}
	for fd := fdOrders; fd <= last+1; fd++ { // one more may hold this program
		unix.CloseOnExec(fd)
	}
	takeBack, err := furnish(o)
	if err == nil {
		err = errors.Join(weaken(), confine())
	}
	if err != nil {
		var tree treeError
		_ = answers.Encode(answer{Broken: err.Error(), Tree: errors.As(err, &tree)}) // nobody else to tell
		os.Exit(1)
	}
	if o.Shell != nil {
		code, err := o.Shell.run(orders)
		a := answer{Code: code}
		if err != nil {
			a.Broken = err.Error()
		}
		_ = answers.Encode(a) // nobody else to tell
		os.Exit(0)
	}
	for i, step := range o.Steps {
		if answers.Encode(answer{Step: i, Began: true}) != nil {
			os.Exit(1)
		}
		began := time.Now()
		var failed *StepError
		if step.Script == nil {
			failed = copyIn(step)
		} else {
			failed = runScript(i, step, o)
		}
		if failed != nil || i == len(o.Steps)-1 {
			if err := takeBack(); err != nil && failed == nil {
				failed = &StepError{Reason: fmt.Sprintf("%s, which was the host's for the time of the stage, cannot be taken back: %v", resolverFile,
					err)}
			}
		}
		if answers.Encode(answer{Step: i, Took: time.Since(began), Failed: failed}) != nil || failed != nil {
			os.Exit(1)
		}
	}
	os.Exit(0)
}

// furnish makes the stage's tree the root, with a /dev, /proc, /run and /tmp of its own. takeBack ends what is
// given to it for the time of the stage.
func furnish(o order) (takeBack func() error, err error) {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return nil, fmt.Errorf("part from the host's mounts: %w", err)
	}
	const stand = "/tmp" // any folder that every host has; only this process sees it covered
	if err := unix.MoveMount(fdRoot, "", unix.AT_FDCWD, stand, unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return nil, fmt.Errorf("attach the tree: %w", err)
	}
	if err := os.Chdir(stand); err != nil {
		return nil, err
	}
	for _, dir := range []string{"dev", "proc", "run", "tmp", "etc"} {
		if err := mountPoint(dir); err != nil {
			return nil, err
		}
	}
	if err := unix.MoveMount(fdTmp, "", unix.AT_FDCWD, "tmp", unix.MOVE_MOUNT_F_EMPTY_PATH); err != nil {
		return nil, fmt.Errorf("attach /tmp: %w", err)
	}
	if err := devices(o.Limited); err != nil {
		return nil, err
	}
	for _, m := range []struct {
		fs, at, options string
		flags           uintptr
	}{
		{"proc", "proc", "", unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC},
		{"tmpfs", "run", "mode=755," + inMemory, unix.MS_NOSUID | unix.MS_NODEV},
	} {
		if err := unix.Mount(m.fs, m.at, m.fs, m.flags, m.options); err != nil {
			return nil, fmt.Errorf("mount /%s: %w", m.at, err)
		}
	}
	if err := readOnly("proc/sys"); err != nil {
		return nil, err
	}
	// Keys of the kernel belong to users, not to namespaces.
	if err := unix.Mount("/dev/null", "proc/keys", "", unix.MS_BIND, ""); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("hide /proc/keys: %w", err)
	}
	var names []byte
	if o.Network {
		names, _ = os.ReadFile(resolverFile) // a host without one resolves no names
	} else if err := loopbackUp(); err != nil {
		return nil, fmt.Errorf("bring up the loopback device: %w", err)
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return nil, fmt.Errorf("change the root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return nil, fmt.Errorf("leave the host's root: %w", err)
	}
	if err := os.Chdir("/"); err != nil {
		return nil, err
	}
	takeBack = func() error { return nil }
	if names != nil {
		if takeBack, err = giveNames(names); err != nil {
			return nil, fmt.Errorf("give %s: %w", resolverFile, err)
		}
	}
	unix.Umask(0o022)
	if err := os.MkdirAll(scriptDir, 0o755); err != nil {
		return nil, err
	}
	return takeBack, unix.Sethostname([]byte(o.Hostname))
}

// mountPoint makes sure that a name is a folder of its own, not a link to somewhere else.
func mountPoint(dir string) error {
	info, err := os.Lstat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return os.Mkdir(dir, 0o755)
	}
	if err == nil && !info.IsDir() {
		what := "no folder"
		if info.Mode().Type() == fs.ModeSymlink {
			what = "a symbolic link"
		}
		err = treeError{fmt.Sprintf("/%s of the tree is %s, and stages need a folder of its own there; make it one in the base", dir, what)}
	}
	return err
}

// treeError says that a tree cannot be a root.
type treeError struct{ text string }

func (e treeError) Error() string { return e.text }

// devices makes a small /dev: the host's harmless devices, terminals and shared memory of its own.
func devices(limited bool) error {
	if err := unix.Mount("tmpfs", "dev", "tmpfs", unix.MS_NOSUID, "mode=755,size=64k"); err != nil {
		return fmt.Errorf("mount /dev: %w", err)
	}
	for _, name := range []string{"null", "zero", "full", "random", "urandom", "tty"} {
		at := "dev/" + name
		if err := os.WriteFile(at, nil, 0o666); err != nil {
			return err
		}
		if err := unix.Mount("/dev/"+name, at, "", unix.MS_BIND, ""); err != nil {
			return fmt.Errorf("give /dev/%s: %w", name, err)
		}
	}
	for name, to := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1",
		"stderr": "/proc/self/fd/2", "ptmx": "pts/ptmx"} {
		if err := os.Symlink(to, "dev/"+name); err != nil {
			return err
		}
	}
	options := "newinstance,ptmxmode=0666,mode=0620"
	if !limited {
		options += ",gid=5" // the group tty
	}
	for _, m := range []struct{ fs, at, options string }{{"devpts", "dev/pts", options}, {"tmpfs", "dev/shm", "mode=1777," + inMemory}} {
		if err := os.Mkdir(m.at, 0o755); err != nil {
			return err
		}
		if err := unix.Mount(m.fs, m.at, m.fs, unix.MS_NOSUID|unix.MS_NOEXEC, m.options); err != nil {
			return fmt.Errorf("mount /%s: %w", m.at, err)
		}
	}
	return nil
}

func readOnly(at string) error {
	err := unix.Mount(at, at, "", unix.MS_BIND|unix.MS_REC, "")
	if err == nil {
		err = unix.Mount("", at, "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	}
	if err != nil {
		return fmt.Errorf("make /%s read-only: %w", at, err)
	}
	return nil
}

func loopbackUp() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	ifr, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	ifr.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, ifr)
}

// copyIn puts a step's files into the tree: each written beside its place, then renamed.
func copyIn(step orderStep) *StepError {
	if err := copyAll(step); err != nil {
		return &StepError{Reason: err.Error()}
	}
	return nil
}

func copyAll(step orderStep) error {
	source := os.NewFile(uintptr(step.Source), "files")
	defer source.Close()
	uid, gid, err := owner(step.Owner)
	if err != nil {
		return err
	}
	in := tar.NewReader(source)
	for {
		h, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if err := os.MkdirAll(path.Dir(h.Name), 0o755); err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = copyDir(h, uid, gid)
		case tar.TypeSymlink:
			if err = os.Remove(h.Name); err == nil || errors.Is(err, fs.ErrNotExist) {
				err = errors.Join(os.Symlink(h.Linkname, h.Name), os.Lchown(h.Name, uid, gid))
			}
		default:
			err = copyFile(in, h, uid, gid)
		}
		if err != nil {
			return err
		}
	}
}

// copyDir makes a folder; one that is there keeps its mode and owner.
func copyDir(h *tar.Header, uid, gid int) error {
	err := os.Mkdir(h.Name, 0o755)
	if errors.Is(err, fs.ErrExist) {
		if info, e := os.Stat(h.Name); e == nil && info.IsDir() {
			return nil
		}
		return fmt.Errorf("%s is there already and is no folder", h.Name)
	}
	if err != nil {
		return err
	}
	return errors.Join(os.Chown(h.Name, uid, gid), unix.Chmod(h.Name, uint32(h.Mode)))
}

func copyFile(in io.Reader, h *tar.Header, uid, gid int) error {
	to := h.Name
	if info, err := os.Stat(to); err == nil && info.IsDir() {
		return fmt.Errorf("%s is a folder; name the file in it, or end it with '/'", to)
	}
	if real, err := filepath.EvalSymlinks(to); err == nil {
		to = real
	}
	part, err := os.CreateTemp(path.Dir(to), ".zygos-")
	if err != nil {
		return err
	}
	_, err = io.Copy(part, in)
	err = errors.Join(err, part.Close())
	if err == nil {
		err = os.Chown(part.Name(), uid, gid)
	}
	if err == nil {
		err = unix.Chmod(part.Name(), uint32(h.Mode))
	}
	if err == nil {
		err = os.Rename(part.Name(), to)
	}
	if err != nil {
		_ = os.Remove(part.Name()) // the first error counts
	}
	return err
}

// giveSecrets puts the stage's secrets into files in memory, for one user only, and returns the
// variables that hold them.
func giveSecrets(list []Secret, account account) (env []string, err error) {
	if len(list) == 0 {
		return nil, nil
	}
	if err := os.MkdirAll(secretDir, 0o755); err != nil {
		return nil, err
	}
	for _, s := range list {
		name := path.Join(secretDir, s.Name)
		_ = os.Remove(name) // of the script before
		if err := os.WriteFile(name, []byte(s.Value), 0o400); err != nil {
			return nil, err
		}
		if err := os.Chown(name, int(account.uid), int(account.gid)); err != nil {
			return nil, err
		}
		env = append(env, s.Variable+"="+s.Value)
	}
	return env, nil
}

// runScript runs a step's script as a child and reaps whatever else ends meanwhile.
func runScript(i int, step orderStep, o order) *StepError {
	out, errs := os.NewFile(uintptr(step.Out), "out"), os.NewFile(uintptr(step.Err), "err")
	defer out.Close()
	defer errs.Close()
	defer func() {
		if o.End != "" {
			_, _ = io.WriteString(out, o.End+"\n") // a reader that is gone needs no mark
			_, _ = io.WriteString(errs, o.End+"\n")
		}
	}()
	s := step.Script
	account, err := lookUp(s.User)
	if err != nil {
		return &StepError{Reason: err.Error()}
	}
	name := ScriptName(i)
	if err := os.WriteFile(name, s.Content, 0o755); err != nil {
		return &StepError{Reason: err.Error()}
	}
	argv := []string{name}
	if !bytes.HasPrefix(s.Content, []byte("#!")) {
		argv = []string{"/bin/sh", "-e", name}
	}
	dir := s.Dir
	if dir == "" {
		dir = "/"
	}
	secrets, err := giveSecrets(o.Secrets, account)
	if err != nil {
		return &StepError{Reason: "give the secrets: " + err.Error()}
	}
	env := environment(account, "dumb", s.Env, secrets)
	null, err := os.Open("/dev/null")
	if err != nil {
		return &StepError{Reason: err.Error()}
	}
	defer null.Close()
	attr := &syscall.ProcAttr{Dir: dir, Env: env, Files: []uintptr{null.Fd(), out.Fd(), errs.Fd()}, Sys: &syscall.SysProcAttr{Setsid: true}}
	if account.uid != 0 {
		attr.Sys.Credential = &syscall.Credential{Uid: account.uid, Gid: account.gid, Groups: account.groups}
	}
	pid, err := syscall.ForkExec(argv[0], argv, attr)
	if err != nil {
		return &StepError{Reason: startFailure(err, argv[0], s, dir)}
	}
	return reap(pid)
}

// environment is what a script finds: the usual, what the tree says of that, what else is said. Of a variable the last counts.
func environment(account account, term string, more ...[]string) (list []string) {
	usual := []string{"PATH=" + toolPath, "HOME=" + account.home, "USER=" + account.name, "LOGNAME=" + account.name, "LANG=C.UTF-8",
		"TERM=" + term}
	text, _ := readTree("/"+layer.EnvironmentFile, layer.MostEnvironment) // most trees say nothing
	for _, v := range slices.Concat(usual, layer.Variables(text), slices.Concat(more...)) {
		name, _, _ := strings.Cut(v, "=")
		list = slices.DeleteFunc(list, func(had string) bool { return strings.HasPrefix(had, name+"=") })
		list = append(list, v)
	}
	return list
}

func startFailure(err error, program string, s *Script, dir string) string {
	if _, e := os.Stat(dir); e != nil {
		return fmt.Sprintf("its working directory %s is not in the image", dir)
	}
	if line, _, ok := bytes.Cut(s.Content, []byte("\n")); ok && bytes.HasPrefix(line, []byte("#!")) && errors.Is(err, fs.ErrNotExist) {
		if bytes.HasSuffix(line, []byte("\r")) {
			return "its lines end with CR LF; convert it to plain LF"
		}
		return fmt.Sprintf("its first line asks for %s, which is not in the image", bytes.TrimSpace(line[2:]))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Sprintf("the image has no %s to run it", program)
	}
	return "cannot start: " + err.Error()
}

// reap waits for a child and, as process 1 must, for every orphan that ends before it.
func reap(pid int) *StepError {
	for {
		var status unix.WaitStatus
		got, err := unix.Wait4(-1, &status, 0, nil)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return &StepError{Reason: "lost sight of the script: " + err.Error()}
		}
		switch {
		case got != pid:
		case status.Signaled():
			return &StepError{Signal: unix.SignalName(status.Signal())}
		case status.ExitStatus() != 0:
			return &StepError{Code: status.ExitStatus()}
		default:
			return nil
		}
	}
}

// ScriptName is the path in the sandbox of a step's script, counting from 0.
func ScriptName(step int) string { return fmt.Sprintf("%s/%02d", scriptDir, step+1) }
