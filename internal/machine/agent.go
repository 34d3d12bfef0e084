package machine

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// What follows runs in a booted guest: the agent, which the kernel starts from an initramfs of ours beside the tree's own. It starts the
// tree's init and, once that has changed to the real root, follows it there and carries out what it is told over a virtio port.

// Where the agent lies in the initramfs, and the name of its port.
const (
	AgentFile   = "/zygos-agent"
	AgentFolder = "/zygos-proc"
	AgentPort   = "zygos"
)

// Processes whose name begins with "@" are left alone when systemd leaves an initramfs (systemd, "Storage Daemons for the Root File
// System").
const cmdAgent = "@zygos-agent"

const fdProc = 3 // of the agent: proc(5), which is mounted nowhere any more

// agentInit is process 1 of the guest for a moment: it starts the agent and becomes the tree's own init, whatever happens.
func agentInit() {
	if err := unix.Mount("proc", AgentFolder, "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err == nil {
		proc, err := os.Open(AgentFolder)
		_ = unix.Unmount(AgentFolder, unix.MNT_DETACH) // what is open stays
		if err == nil {
			// Without an agent, the host hears nothing and says so.
			_, _ = syscall.ForkExec(AgentFile, []string{cmdAgent}, &syscall.ProcAttr{Files: []uintptr{0, 1, 2, proc.Fd()},
				Sys: &syscall.SysProcAttr{Setsid: true}})
			proc.Close()
		}
	}
	const init = "/init"
	err := unix.Exec(init, append([]string{init}, os.Args[1:]...), os.Environ())
	fmt.Fprintf(os.Stderr, "start %s of the initramfs: %v\n", init, err)
	os.Exit(1)
}

// agent runs until the guest ends.
func agent() {
	signal.Notify(make(chan os.Signal, 1), unix.SIGINT, unix.SIGTERM, unix.SIGHUP)
	unix.CloseOnExec(fdProc)
	for !followRoot() {
		time.Sleep(agentPause)
	}
	_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) // valid arguments cannot fail
	unix.Umask(0o022)
	a := &agentEnd{self: rand.Text()}
	for a.port = openPort(); a.port == nil; a.port = openPort() {
		time.Sleep(agentPause)
	}
	go func() {
		for {
			a.send(frameBeat, []byte(a.self))
			time.Sleep(agentBeat)
		}
	}()
	go a.settle()
	// In memory and of its own, since /run of many trees runs no programs. Without it, no script starts and the first says why.
	_ = os.MkdirAll(zygosDir, 0o755)
	_ = unix.Mount("zygos", zygosDir, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=755,"+inMemory)
	_ = os.MkdirAll(scriptDir, 0o755)
	a.serve()
	os.Exit(1)
}

const (
	agentPause = 100 * time.Millisecond
	agentBeat  = time.Second
	agentRest  = 2 * time.Second // in which what a script printed must have been read, once it ended
)

// followRoot makes the root of process 1 that of the agent, once it is another one.
func followRoot() bool {
	root, err := unix.Openat(fdProc, "1/root", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return false
	}
	defer unix.Close(root)
	var ours, theirs unix.Stat_t
	if unix.Stat("/", &ours) != nil || unix.Fstat(root, &theirs) != nil || (ours.Dev == theirs.Dev && ours.Ino == theirs.Ino) {
		return false
	}
	return unix.Fchdir(root) == nil && unix.Chroot(".") == nil
}

// openPort opens the port to the host, nil if it is not there yet. A tree without udev(7) does not load what makes it.
func openPort() *os.File {
	const ports = "/sys/class/virtio-ports"
	names, err := os.ReadDir(ports)
	if err != nil {
		tool("modprobe", "virtio_console") // tried again
	}
	for _, n := range names {
		name, err := os.ReadFile(path.Join(ports, n.Name(), "name"))
		if err == nil && strings.TrimSpace(string(name)) == AgentPort {
			// Not through Go's poller: the port blocks whoever writes more than the host takes.
			if fd, err := unix.Open("/dev/"+n.Name(), unix.O_RDWR|unix.O_CLOEXEC, 0); err == nil {
				return os.NewFile(uintptr(fd), AgentPort)
			}
		}
	}
	return nil
}

// tool runs a program of the tree and returns what it prints, "" if it cannot be run.
func tool(name string, args ...string) string {
	program := ""
	for _, dir := range strings.Split(toolPath, ":") {
		if _, err := os.Stat(path.Join(dir, name)); err == nil {
			program = path.Join(dir, name)
			break
		}
	}
	null, err := os.Open("/dev/null")
	if err != nil || program == "" {
		return ""
	}
	defer null.Close()
	r, w, err := os.Pipe()
	if err != nil {
		return ""
	}
	defer r.Close()
	pid, err := syscall.ForkExec(program, append([]string{name}, args...), &syscall.ProcAttr{Env: []string{"PATH=" + toolPath, "LANG=C"},
		Files: []uintptr{null.Fd(), w.Fd(), null.Fd()}})
	w.Close()
	if err != nil {
		return ""
	}
	text, _ := io.ReadAll(io.LimitReader(r, 64<<10)) // what there is
	_, _ = unix.Wait4(pid, nil, 0, nil)              // or reap has it
	return strings.TrimSpace(string(text))
}

// Frames are a byte that says what follows, four bytes with its length (big endian), and that.
const (
	frameBeat    = 'b' // from the agent: it is there
	frameAnswer  = 'a' // from the agent: an answer, JSON
	frameOut     = 'o' // from the agent: what a script prints
	frameErr     = 'e'
	frameSeen    = 's' // from the agent: a Seen, JSON
	frameOrder   = 'r' // to the agent: an order with one script, JSON
	frameStop    = 'k' // to the agent: end what runs
	frameLook    = 'l' // to the agent: a question, JSON
	longestFrame = 1 << 20
)

// question asks what lies at a path.
type question struct{ Token, Path string }

// agentEnd is the agent's end of the port.
type agentEnd struct {
	self string // drawn when it started, so that the host notices another one in its place
	port *os.File
	mu   sync.Mutex
}

func (a *agentEnd) send(kind byte, payload []byte) {
	a.mu.Lock()
	defer a.mu.Unlock()
	_, _ = a.port.Write(frame(kind, payload)) // a host that is gone has turned the guest off
}

func (a *agentEnd) answer(v answer) {
	v.Agent = a.self
	text, _ := json.Marshal(v) // of plain fields
	a.send(frameAnswer, text)
}

// settle tells when the guest is up, where systemd knows; elsewhere its console says so.
func (a *agentEnd) settle() {
	for !bySystemd() {
		// What changed to the real root is replaced by the init that lies there.
		var root, init unix.Stat_t
		if unix.Stat("/", &root) == nil && unix.Stat("/proc/1/exe", &init) == nil && root.Dev == init.Dev {
			if name, _ := os.Readlink("/proc/1/exe"); path.Base(name) != "systemd" {
				a.answer(answer{Up: upRooted})
				return
			}
		}
		time.Sleep(agentPause)
	}
	for {
		switch tool("systemctl", "is-system-running", "--wait") {
		case "running":
			a.answer(answer{Up: upSettled})
			return
		case "degraded", "maintenance", "stopping":
			a.answer(answer{Up: upSettled, Units: tool("systemctl", "--failed", "--no-legend", "--plain", "--no-pager")})
			return
		}
		time.Sleep(agentPause) // its bus is not there yet
	}
}

// bySystemd is sd_booted(3).
func bySystemd() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil
}

// frame is a message as it goes over the port.
func frame(kind byte, payload []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(payload))), payload...)
}

// readFrame reads a message; one that is too long is an error.
func readFrame(r io.Reader) (kind byte, payload []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if n > longestFrame {
		return 0, nil, fmt.Errorf("a message of %d bytes, and %d is the most", n, longestFrame)
	}
	payload = make([]byte, n)
	_, err = io.ReadFull(r, payload)
	return head[0], payload, err
}

// serve carries out what the host says, one thing after the other.
func (a *agentEnd) serve() {
	work := make(chan order)
	go func() {
		for o := range work {
			a.carryOut(o)
		}
	}()
	for {
		kind, payload, err := readFrame(a.port)
		if err != nil {
			return
		}
		switch kind {
		case frameOrder:
			var o order
			if json.Unmarshal(payload, &o) == nil && len(o.Steps) == 1 && o.Steps[0].Script != nil {
				work <- o
			}
		case frameStop:
			stopChildren()
		case frameLook:
			var q question
			if json.Unmarshal(payload, &q) == nil {
				go func() { // a path on a file system that hangs must not hold up what follows
					s := look(q.Path)
					s.Token = q.Token
					text, _ := json.Marshal(s) // of plain fields
					a.send(frameSeen, text)
				}()
			}
		}
	}
}

// carryOut runs a script, passes on what it prints, and ends what it leaves behind.
func (a *agentEnd) carryOut(o order) {
	var relays sync.WaitGroup
	var froms []*os.File
	step := &o.Steps[0]
	for kind, to := range map[byte]*int{frameOut: &step.Out, frameErr: &step.Err} {
		var ends [2]int
		err := unix.Pipe2(ends[:], unix.O_CLOEXEC)
		if err == nil {
			err = unix.SetNonblock(ends[0], true) // so that reading it has a deadline
		}
		if err != nil {
			a.answer(answer{Token: o.Token, Failed: &StepError{Reason: err.Error()}})
			return
		}
		*to = ends[1]
		from := os.NewFile(uintptr(ends[0]), "script")
		froms = append(froms, from)
		relays.Go(func() {
			defer from.Close()
			buf := make([]byte, 32<<10)
			for {
				n, err := from.Read(buf)
				if n > 0 {
					a.send(kind, buf[:n])
				}
				if err != nil {
					return
				}
			}
		})
	}
	began := time.Now()
	failed := runScript(0, *step, o)
	_ = os.RemoveAll(secretDir) // in memory
	stopChildren()
	for _, from := range froms { // a service of the machine may hold the other end for ever
		_ = from.SetReadDeadline(time.Now().Add(agentRest))
	}
	relays.Wait()
	a.answer(answer{Token: o.Token, Took: time.Since(began), Failed: failed})
}

// stopChildren ends what a script started, and what that started: orphans become children of the agent.
func stopChildren() {
	for {
		list := childrenOf(os.Getpid())
		for i := 0; i < len(list); i++ { // a child that is stopped first cannot start another meanwhile
			list = append(list, childrenOf(list[i])...)
		}
		alive := false
		for _, pid := range list {
			if unix.Kill(pid, unix.SIGKILL) == nil {
				alive = true
			}
			_, _ = unix.Wait4(pid, nil, unix.WNOHANG, nil)
		}
		if !alive {
			return
		}
		time.Sleep(agentPause / 10)
	}
}

// childrenOf lists the processes whose parent is one.
func childrenOf(parent int) (list []int) {
	entries, _ := os.ReadDir("/proc") // without it, none
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, _ := os.ReadFile("/proc/" + e.Name() + "/stat") // one that ended has none
		if i := bytes.LastIndexByte(stat, ')'); i >= 0 {      // proc_pid_stat(5): state and parent follow the name
			if f := strings.Fields(string(stat[i+1:])); len(f) > 1 && f[1] == strconv.Itoa(parent) {
				list = append(list, pid)
			}
		}
	}
	return list
}

// look is what lies at a path of the guest.
func look(name string) (s Seen) {
	var st unix.Stat_t
	if unix.Lstat(name, &st) != nil {
		return s
	}
	s = Seen{There: true, Mode: st.Mode, Owner: nameOf("/etc/passwd", st.Uid) + ":" + nameOf("/etc/group", st.Gid),
		IDs: fmt.Sprintf("%d:%d", st.Uid, st.Gid)}
	f, err := os.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return s
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
		s.Content, _ = io.ReadAll(io.LimitReader(f, mostSeen)) // what there is
	}
	return s
}

// nameOf is the name of an id, or the id.
func nameOf(file string, id uint32) (name string) {
	number := strconv.Itoa(int(id))
	name = number
	_ = eachRecord(file, func(f []string) bool {
		if len(f) < 3 || f[2] != number {
			return false
		}
		name = f[0]
		return true
	})
	return name
}
