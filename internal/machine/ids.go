package machine

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"os/user"
	"runtime"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// IDs is the range of user and group ids that trees may use, as this process sees it:
// id n of a tree is id First+n here. Count is 65536 where a subordinate range is to be had,
// else 1: then only root exists in the sandbox.
type IDs struct {
	First uint32 `json:"first"`
	Count uint32 `json:"count"`
	Host  uint32 `json:"host"` // First as the host sees it
	User  uint32 `json:"user"` // who runs Zygos, as the host sees it
}

// Limited says whether only root exists in the sandbox.
func (ids IDs) Limited() bool { return ids.Count == 1 }

const (
	fullRange    = 65536
	rootFirst    = 0x70000000 // used by root when /etc/subuid gives root no range
	envInside    = "ZYGOS_INSIDE"
	cmdEnter     = "zygos-enter"   // argv[0] while waiting for the id maps
	cmdInit      = "zygos-sandbox" // argv[0] as process 1 of a sandbox
	enterFD      = 3
	newuidmapBin = "newuidmap"
	newgidmapBin = "newgidmap"
)

// Inside says whether this process may make sandboxes, and with which ids: root may, and so
// may the process that Enter started.
func Inside() (IDs, bool) {
	if text := os.Getenv(envInside); text != "" {
		var ids IDs
		if json.Unmarshal([]byte(text), &ids) == nil {
			return ids, true
		}
	}
	if os.Geteuid() == 0 {
		first := uint32(rootFirst)
		if from, ok := subordinate("/etc/subuid", "root", 0); ok {
			first = from
		}
		return IDs{First: first, Count: fullRange, Host: first}, true
	}
	return IDs{}, false
}

// OutsideError says that this process cannot make sandboxes, and Enter starts one that can.
type OutsideError struct{}

func (*OutsideError) Error() string {
	return "this process cannot make sandboxes: it must go on in a user namespace"
}

// Ready is nil if this process may make sandboxes, else an *OutsideError.
func Ready() error {
	if _, ok := Inside(); !ok {
		return &OutsideError{}
	}
	return nil
}

// Planned is the id range that an ordinary user's sandboxes will use, and in words what is
// missing if it is limited.
func Planned() (ids IDs, missing string) {
	if ids, ok := Inside(); ok {
		return ids, ""
	}
	uid := uint32(os.Getuid())
	ids = IDs{First: 0, Count: 1, Host: uid, User: uid}
	name := strconv.Itoa(int(uid))
	if u, err := user.LookupId(name); err == nil {
		name = u.Username
	}
	for _, bin := range []string{newuidmapBin, newgidmapBin} {
		if _, err := exec.LookPath(bin); err != nil {
			return ids, bin + " is not installed (package uidmap)"
		}
	}
	first, ok := subordinate("/etc/subuid", name, uid)
	if !ok {
		return ids, "/etc/subuid has no range of 65536 ids for " + name
	}
	if gfirst, ok := subordinate("/etc/subgid", name, uid); !ok || gfirst != first {
		return ids, "/etc/subgid has no range for " + name + " that equals the one in /etc/subuid"
	}
	return IDs{First: 1, Count: fullRange, Host: first, User: uid}, ""
}

// subordinate finds a range of at least 65536 ids in a file of lines NAME:FIRST:COUNT (subuid(5)).
func subordinate(file, name string, uid uint32) (first uint32, ok bool) {
	f, err := os.Open(file)
	if err != nil {
		return 0, false
	}
	defer f.Close()
	for in := bufio.NewScanner(f); in.Scan(); {
		parts := strings.Split(strings.TrimSpace(in.Text()), ":")
		if len(parts) != 3 || (parts[0] != name && parts[0] != strconv.Itoa(int(uid))) {
			continue
		}
		from, err1 := strconv.ParseUint(parts[1], 10, 32)
		count, err2 := strconv.ParseUint(parts[2], 10, 33)
		if err1 == nil && err2 == nil && count >= fullRange {
			return uint32(from), true
		}
	}
	return 0, false
}

// Enter runs this program again with other arguments in a user namespace in which an
// ordinary user may make sandboxes, and returns its exit code. Interrupts are passed on.
func Enter(args []string) (int, error) {
	// The parent-death signal of the new process follows the thread that starts it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	ids, _ := Planned()
	self, err := os.Executable()
	if err != nil {
		return 1, err
	}
	waits, goes, err := os.Pipe()
	if err != nil {
		return 1, err
	}
	defer goes.Close()
	text, err := json.Marshal(ids)
	if err != nil {
		return 1, err
	}
	cmd := exec.Command(self, args...)
	cmd.Args[0] = cmdEnter
	cmd.Env = append(os.Environ(), envInside+"="+string(text))
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	cmd.ExtraFiles = []*os.File{waits}
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWUSER | unix.CLONE_NEWNS}
	if ids.Limited() {
		one := []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		cmd.SysProcAttr.UidMappings = one
		cmd.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, unix.SIGTERM, unix.SIGHUP)
	defer signal.Stop(signals)
	if err := cmd.Start(); err != nil {
		waits.Close()
		return 1, fmt.Errorf("make a user namespace: %w; run 'zygos doctor' to see what this host lacks", err)
	}
	waits.Close()
	go func() {
		for s := range signals {
			_ = cmd.Process.Signal(s) // it may have ended already
		}
	}()
	if !ids.Limited() {
		if err := mapRange(cmd.Process.Pid, ids); err != nil {
			_ = cmd.Process.Kill()
			_ = cmd.Wait() // the map's error says it all
			return 1, err
		}
	}
	if _, err := goes.Write([]byte{1}); err != nil {
		return 1, err
	}
	err = cmd.Wait()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
			return 128 + int(status.Signal()), nil
		}
		return exit.ExitCode(), nil
	}
	return 0, err
}

// mapRange gives a process in a new user namespace the caller's own id as 0 and the
// subordinate range from 1, through the set-id helpers (newuidmap(1), newgidmap(1)).
func mapRange(pid int, ids IDs) error {
	for bin, own := range map[string]int{newuidmapBin: os.Getuid(), newgidmapBin: os.Getgid()} {
		out, err := exec.Command(bin, strconv.Itoa(pid), "0", strconv.Itoa(own), "1",
			"1", strconv.Itoa(int(ids.Host)), strconv.Itoa(int(ids.Count))).CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s: %w: %s; run 'zygos doctor' to see what this host lacks", bin, err, strings.TrimSpace(string(out)))
		}
	}
	return nil
}

// Early takes over when this process was started by the package itself: in a new user namespace,
// or as process 1 of a sandbox. Otherwise it returns at once. Call it first in main.
func Early() {
	if len(os.Args) == 0 {
		return
	}
	switch os.Args[0] {
	case cmdEnter:
		enter()
	case cmdInit:
		sandboxInit()
	case AgentFile:
		if os.Getpid() == 1 {
			agentInit()
		}
	case cmdAgent:
		agent()
	}
	if os.Getenv(envInside) != "" {
		// If the process that the user started is killed, this one stops and cleans up.
		_ = unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGTERM), 0, 0, 0) // valid arguments cannot fail
	}
}

// enter waits until the id maps are written, then runs the program anew: only then is it
// root in its namespace, with the capabilities over it.
func enter() {
	pipe := os.NewFile(enterFD, "maps written")
	if _, err := io.ReadFull(pipe, make([]byte, 1)); err != nil {
		os.Exit(1) // whoever started us is gone or has said why
	}
	pipe.Close()
	args := append([]string{"zygos"}, os.Args[1:]...)
	err := unix.Exec("/proc/self/exe", args, os.Environ())
	fmt.Fprintln(os.Stderr, "zygos: start in the user namespace:", err)
	os.Exit(1)
}
