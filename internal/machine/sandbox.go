package machine

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Sandbox is the machine that runs stages in Linux namespaces on this host.
type Sandbox struct {
	IDs IDs
}

var _ Machine = Sandbox{}

// An overlay takes so many folders (Linux, fs/overlayfs/params.h, OVL_MAX_STACK), and may stand on
// another one: where there are more, the lowest become an overlay of their own. Only the lowest can,
// since it keeps what is missing in it to itself.
const (
	mostFolders = 500
	MostLayers  = 2*mostFolders - 1
)

// order is what process 1 is told on its control socket, one JSON value.
type order struct {
	Hostname string
	Network  bool
	Limited  bool
	Token    string // of a guest: which answer belongs to this order
	End      string // what process 1 writes to a script's streams when the script has ended
	Secrets  []Secret
	Steps    []orderStep
	Shell    *shellOrder // run this instead of steps
}

type orderStep struct {
	Script *Script
	Owner  string // of what is copied
	Source int    // descriptor of the stream of what to copy, a tar archive
	Out    int    // descriptors of the script's output
	Err    int
}

// answer is what process 1 says about a step.
type answer struct {
	Step   int
	Began  bool
	Took   time.Duration
	Failed *StepError
	Broken string // the sandbox itself failed
	Tree   bool   // because of the tree
	Code   int    // of a shell that ended
	Token  string // of the order
	Agent  string // of a guest: who answers, drawn when it started
	Up     string // of a guest: that it has come up
	Units  string // of systemd that failed on the way
}

// Descriptors of process 1; those of the steps follow.
const (
	fdOrders = 3 + iota
	fdAnswers
	fdRoot
	fdTmp
	fdSteps
)

// Folders are where an overlay lies.
type Folders struct {
	Layers  []string // trees, lowest first
	Upper   string   // prepared folder that receives the changes
	Scratch string   // empty folder on the same file system, for the overlay's work and /tmp
}

// RunIn carries out a stage in folders.
func (s Sandbox) RunIn(ctx context.Context, at Folders, stage Stage, watch Watcher) error {
	// The parent-death signal of process 1 follows the thread that starts it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if stage.Timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, stage.Timeout, errTimeout)
		defer cancel()
	}
	root, tmp, err := s.mounts(at)
	if err != nil {
		return err
	}
	defer root.Close()
	defer tmp.Close()
	run := running{stage: stage, watch: watch, extra: []*os.File{nil, nil, root, tmp}, fed: make(chan error, len(stage.Steps))}
	defer run.close()
	if stage.Limits != (Limits{}) {
		if run.group, err = newGroup(stage.Limits); err != nil {
			watch.Note(fmt.Sprintf("the limits on memory, processes and processors are not in force: %v", err))
		}
	}
	defer run.group.remove()
	if err := run.prepare(ctx, s.IDs); err != nil {
		return err
	}
	err = run.start(ctx, s.IDs)
	var failed *StepError
	switch {
	case errors.As(err, &failed):
		run.group.explain(failed)
	case err == nil && run.group.killed(): // a script may not notice that one of its processes was stopped
		failed = &StepError{Step: run.step, Name: stage.Steps[run.step].Name}
		run.group.explain(failed)
		return failed
	}
	return err
}

var errTimeout = errors.New("time is up")

// mounts makes the root and /tmp as mounts that are attached nowhere yet: they vanish with their descriptors.
func (s Sandbox) mounts(at Folders) (root, tmp *os.File, err error) {
	if len(at.Layers) > MostLayers {
		return nil, nil, fmt.Errorf("it stands on %d layers, with those of its parents, and %d is the most; merge stages", len(at.Layers),
			MostLayers)
	}
	scratch, point := filepath.Join(at.Scratch, "tmp"), filepath.Join(at.Scratch, "root")
	work, err := os.MkdirTemp(at.Scratch, "work-") // the next one on the same folders needs another
	if err := errors.Join(err, os.MkdirAll(scratch, 0o700), os.MkdirAll(point, 0o700),
		os.Lchown(scratch, int(s.IDs.First), int(s.IDs.First)), os.Chmod(scratch, 0o777|os.ModeSticky)); err != nil {
		return nil, nil, err
	}
	root, err = Overlay(at.Layers, at.Upper, work, point)
	if err != nil {
		return nil, nil, err
	}
	fd, err := unix.OpenTree(unix.AT_FDCWD, scratch, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
	if err != nil {
		root.Close()
		return nil, nil, fmt.Errorf("prepare /tmp: %w", err)
	}
	return root, os.NewFile(uintptr(fd), "tmp"), nil
}

// Overlay makes a detached overlay mount (Linux, Documentation/filesystems/overlayfs.rst) of
// layer folders, lowest first, that takes changes in upper. point is an empty folder, which is
// covered for a moment, in the eyes of one thread only. The folders are named by descriptor, so
// no character in their paths needs an escape.
func Overlay(layers []string, upper, work, point string) (*os.File, error) {
	type made struct {
		root *os.File
		err  error
	}
	result := make(chan made)
	go func() {
		runtime.LockOSThread() // for good: the thread ends with the goroutine, and with it its mounts
		root, err := mountOverlay(layers, upper, work, point)
		result <- made{root, err}
	}()
	m := <-result
	if m.err != nil {
		return nil, fmt.Errorf("overlay: %w; run 'zygos doctor' to see what this host lacks", m.err)
	}
	return m.root, nil
}

// mountOverlay mounts in a mount namespace of the calling thread and takes the mount out of it.
func mountOverlay(layers []string, upper, work, point string) (*os.File, error) {
	if err := unix.Unshare(unix.CLONE_FS | unix.CLONE_NEWNS); err != nil {
		return nil, fmt.Errorf("part from the host's mounts: %w", err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return nil, fmt.Errorf("part from the host's mounts: %w", err)
	}
	if more := len(layers) - mostFolders; more > 0 {
		below := point + "-below"
		if err := os.Mkdir(below, 0o700); err != nil {
			return nil, err
		}
		if err := mountOn(below, layers[:more+1], "userxattr"); err != nil {
			return nil, err
		}
		layers = append([]string{below}, layers[more+1:]...)
	}
	// volatile: what makes a layer safe is the store, once for a version, not each unmount.
	if err := mountOn(point, layers, "userxattr,volatile", upper, work); err != nil {
		return nil, err
	}
	fd, err := unix.OpenTree(unix.AT_FDCWD, point, unix.OPEN_TREE_CLONE|unix.OPEN_TREE_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("take the mount out: %w", err)
	}
	return os.NewFile(uintptr(fd), "root"), nil
}

// mountOn mounts layers, lowest first, as an overlay on a folder, with the folders that take changes and
// the kernel's notes, if it is to take any.
func mountOn(at string, layers []string, options string, writable ...string) error {
	// The kernel takes only folders that were opened in the namespace in which it mounts. All names
	// together have one page, so they are short: descriptors, from the folder that has these.
	if err := unix.Chdir("/proc/self/fd"); err != nil {
		return fmt.Errorf("go to the open folders: %w", err)
	}
	var names []string
	for _, dir := range append(slices.Clone(writable), layers...) {
		fd, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if err != nil {
			return &os.PathError{Op: "open", Path: dir, Err: err}
		}
		defer unix.Close(fd)
		names = append(names, strconv.Itoa(fd))
	}
	lower := names[len(writable):]
	slices.Reverse(lower)
	options += ",lowerdir=" + strings.Join(lower, ":")
	if len(writable) > 0 {
		options += ",upperdir=" + names[0] + ",workdir=" + names[1]
	}
	if err := unix.Mount("overlay", at, "overlay", unix.MS_NODEV, options); err != nil {
		return fmt.Errorf("mount: %w", err)
	}
	return nil
}

// running is one stage on its way.
type running struct {
	stage Stage
	watch Watcher
	extra []*os.File // given to process 1, from descriptor 3
	ours  []*os.File // our ends of pipes
	outs  [][2]*os.File
	order order
	step  int // the one that began last
	group *group
	fed   chan error // what became of the streams of copied files
	feeds int
}

func (r *running) close() {
	for _, f := range append(r.extra, r.ours...) {
		if f != nil {
			f.Close()
		}
	}
}

// prepare opens everything the steps need, so that a missing file stops the stage before it starts.
func (r *running) prepare(ctx context.Context, ids IDs) error {
	r.order = order{End: rand.Text(), Hostname: r.stage.Hostname, Network: r.stage.Network, Limited: ids.Limited(), Secrets: r.stage.Secrets}
	r.outs = make([][2]*os.File, len(r.stage.Steps))
	give := func(f *os.File) int {
		r.extra = append(r.extra, f)
		return 2 + len(r.extra)
	}
	for i, step := range r.stage.Steps {
		o := orderStep{Script: step.Script}
		if step.Copy != nil {
			for _, item := range step.Copy.Items {
				if _, err := os.Lstat(item.From); err != nil {
					return err
				}
			}
			theirs, ours, err := os.Pipe()
			if err != nil {
				return err
			}
			o.Source, o.Owner = give(theirs), step.Copy.Owner
			r.feeds++
			go func() { r.fed <- feed(ctx, ours, step.Copy.Items) }()
		} else {
			for j := range 2 {
				ours, theirs, err := os.Pipe()
				if err != nil {
					return err
				}
				_, _ = unix.FcntlInt(ours.Fd(), unix.F_SETPIPE_SZ, 1<<20) // only speed
				r.outs[i][j] = ours
				r.ours = append(r.ours, ours)
				if j == 0 {
					o.Out = give(theirs)
				} else {
					o.Err = give(theirs)
				}
			}
		}
		r.order.Steps = append(r.order.Steps, o)
	}
	return nil
}

func (r *running) start(ctx context.Context, ids IDs) error {
	orders, giveOrders, err := os.Pipe()
	if err != nil {
		return err
	}
	takeAnswers, answers, err := os.Pipe()
	if err != nil {
		return errors.Join(err, orders.Close(), giveOrders.Close())
	}
	r.extra[0], r.extra[1] = orders, answers
	r.ours = append(r.ours, giveOrders, takeAnswers)
	var complaint complaints
	cmd, err := r.command(ctx, ids, r.stage.Network, &complaint)
	if err != nil {
		return err
	}
	r.group.put(cmd.SysProcAttr)
	if err := cmd.Start(); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return fmt.Errorf("start the sandbox: %w; run 'zygos doctor' to see what this host lacks", err)
	}
	for i, f := range r.extra {
		f.Close()
		r.extra[i] = nil
	}
	sent := make(chan error, 1)
	go func() { sent <- errors.Join(json.NewEncoder(giveOrders).Encode(r.order), giveOrders.Close()) }()
	result := r.follow(takeAnswers)
	waited := cmd.Wait()
	<-sent // an order that did not arrive shows in result or waited
	var fed error
	for range r.feeds {
		fed = errors.Join(fed, <-r.fed)
	}
	switch {
	case errors.As(fed, new(feedError)):
		return fed
	case errors.Is(context.Cause(ctx), errTimeout):
		return r.timedOut()
	case ctx.Err() != nil:
		return ctx.Err()
	case result != nil:
		return result
	case waited != nil:
		return fmt.Errorf("the sandbox ended: %w %s", waited, strings.TrimSpace(complaint.String()))
	}
	return nil
}

// command is process 1, about to start.
func (r *running) command(ctx context.Context, ids IDs, network bool, complaint io.Writer) (*exec.Cmd, error) {
	self := "/proc/self/exe"
	if program, err := openCopy(); err != nil {
		return nil, err
	} else if program != nil {
		fd, err := unix.FcntlInt(program.Fd(), unix.F_DUPFD_CLOEXEC, 0)
		if err != nil {
			return nil, err
		}
		r.extra = append(r.extra, os.NewFile(uintptr(fd), "zygos"))
		self = fmt.Sprintf("/proc/self/fd/%d", 2+len(r.extra))
	}
	// What whoever called us left open is none of the sandbox's business. What is given to it is
	// opened anew for it.
	if err := unix.CloseRange(3, math.MaxUint32, unix.CLOSE_RANGE_CLOEXEC); err != nil {
		return nil, fmt.Errorf("keep the open files of this process out of the sandbox: %w", err)
	}
	cmd := exec.CommandContext(ctx, self)
	cmd.Args = []string{cmdInit}
	cmd.Env = []string{}
	cmd.ExtraFiles = r.extra
	cmd.Stderr = complaint
	cmd.SysProcAttr = isolation(ids, network)
	return cmd, nil
}

// openCopy is a copy of this program in memory that everybody may run, nil if the program's file
// is one already: root in the sandbox is nobody on the host.
var openCopy = sync.OnceValues(func() (*os.File, error) {
	from, err := os.Open("/proc/self/exe")
	if err != nil {
		return nil, err
	}
	defer from.Close()
	info, err := from.Stat()
	if err != nil || info.Mode()&0o005 == 0o005 {
		return nil, err
	}
	fd, err := unix.MemfdCreate("zygos", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, err
	}
	to := os.NewFile(uintptr(fd), "zygos")
	_, err = io.Copy(to, from)
	return to, errors.Join(err, to.Chmod(0o755))
})

func isolation(ids IDs, network bool) *syscall.SysProcAttr {
	flags := unix.CLONE_NEWUSER | unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP
	if !network {
		flags |= unix.CLONE_NEWNET
	}
	one := []syscall.SysProcIDMap{{ContainerID: 0, HostID: int(ids.First), Size: int(ids.Count)}}
	return &syscall.SysProcAttr{
		Cloneflags: uintptr(flags), UidMappings: one, GidMappings: one,
		GidMappingsEnableSetgroups: !ids.Limited(),
		Credential:                 &syscall.Credential{NoSetGroups: ids.Limited()},
		Setsid:                     true, Pdeathsig: unix.SIGKILL,
	}
}

// mostAnswers is far more than process 1 has to say.
const mostAnswers = 64 << 20

// follow passes on what process 1 says and what the steps print, until there is no more.
func (r *running) follow(answers io.Reader) error {
	in := json.NewDecoder(io.LimitReader(answers, mostAnswers))
	var drains chan int
	for {
		var a answer
		if err := in.Decode(&a); err != nil {
			if drains != nil {
				<-drains // killed inside a step: its output ends with its processes
				<-drains
			}
			return nil
		}
		if a.Tree {
			return errors.New(a.Broken)
		}
		if a.Broken != "" {
			return fmt.Errorf("the sandbox could not be made: %s; run 'zygos doctor' to see what this host lacks", a.Broken)
		}
		if a.Step < 0 || a.Step >= len(r.stage.Steps) || (a.Began && drains != nil) { // a script got hold of process 1
			return errors.New("the sandbox sent an answer that makes no sense; a script interfered with process 1")
		}
		step := r.stage.Steps[a.Step]
		if a.Began {
			r.step = a.Step
			r.watch.StepStarted(a.Step)
			if step.Script != nil {
				drains = r.drain(a.Step)
			}
			continue
		}
		lines := 0
		if drains != nil {
			lines = max(<-drains, <-drains)
			drains = nil
		}
		if a.Failed != nil {
			a.Failed.Step, a.Failed.Name, a.Failed.Line = a.Step, step.Name, lines
		}
		r.watch.StepEnded(a.Step, a.Took, a.Failed)
		if a.Failed != nil {
			return a.Failed
		}
	}
}

// drain passes on a script's output line by line; the channel yields, once for each stream,
// the last line number that the script's interpreter named in an error message.
func (r *running) drain(step int) chan int {
	done := make(chan int, 2)
	out := lineSplitter{end: r.order.End}
	out.emit = func(stream, text string) { r.watch.Line(step, stream, text) }
	out.cut = func(stream string, lines, bytes int64) { r.watch.Cut(step, stream, lines, bytes) }
	for i, stream := range []string{"out", "err"} {
		var from io.Reader = r.outs[step][i]
		if r.stage.Mask != nil {
			from = r.stage.Mask(from)
		}
		go func() { done <- out.copy(stream, from) }()
	}
	return done
}

func (r *running) timedOut() error {
	e := &StepError{Step: r.step, Name: r.stage.Steps[r.step].Name,
		Reason: fmt.Sprintf("the stage did not end within its timeout of %s; all its processes were stopped", r.stage.Timeout)}
	r.watch.StepEnded(r.step, r.stage.Timeout, e)
	return e
}
