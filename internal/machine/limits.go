package machine

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// group is a control group of cgroup v2 for one stage. A nil group holds nothing.
type group struct {
	dir    string
	fd     *os.File
	limits Limits
}

// groupPrefix begins the names of the control groups of stages.
const groupPrefix = "zygos-"

// groups is where this process may make control groups, in the order in which to try.
func groups() []string {
	mount := cgroupMount()
	text, err := os.ReadFile("/proc/self/cgroup")
	if mount == "" || err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		if own, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			here := filepath.Join(mount, own)
			if own == "/" {
				return []string{here}
			}
			// A group that holds processes gives no controllers to others below it; the one above may.
			return []string{filepath.Dir(here), here}
		}
	}
	return nil
}

// cgroupMount is where cgroup v2 is mounted, "" if nowhere.
func cgroupMount() string {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return ""
	}
	defer f.Close()
	for in := bufio.NewScanner(f); in.Scan(); {
		before, after, _ := strings.Cut(in.Text(), " - ")
		if fields := strings.Fields(before); strings.HasPrefix(after, "cgroup2 ") && len(fields) > 4 {
			return fields[4]
		}
	}
	return ""
}

// newGroup makes a control group with limits. Its error says why this host has none for us.
func newGroup(l Limits) (*group, error) {
	values := map[string]string{}
	if l.Memory > 0 {
		values["memory.max"], values["memory.swap.max"] = strconv.FormatInt(l.Memory, 10), "0"
	}
	if l.Processes > 0 {
		values["pids.max"] = strconv.FormatInt(l.Processes, 10)
	}
	if l.CPU > 0 {
		values["cpu.max"] = fmt.Sprintf("%d 100000", int64(l.CPU*100000))
	}
	places := groups()
	if len(places) == 0 {
		return nil, errors.New("this host has no cgroup v2")
	}
	var why error
	for _, place := range places {
		g, err := groupIn(place, values)
		if err == nil {
			g.limits = l
			return g, nil
		}
		why = err
	}
	return nil, why
}

func groupIn(place string, values map[string]string) (*group, error) {
	for name := range values {
		controller, _, _ := strings.Cut(name, ".")
		if err := control(place, controller); err != nil {
			return nil, err
		}
	}
	dir, err := os.MkdirTemp(place, groupPrefix+strconv.Itoa(os.Getpid())+"-")
	if err != nil {
		return nil, err
	}
	g := &group{dir: dir}
	for name, value := range values {
		err := os.WriteFile(filepath.Join(dir, name), []byte(value), 0o644)
		if err != nil && !(name == "memory.swap.max" && errors.Is(err, os.ErrNotExist)) { // a host without swap
			g.remove()
			return nil, err
		}
	}
	if g.fd, err = os.Open(dir); err != nil {
		g.remove()
		return nil, err
	}
	return g, nil
}

// control makes sure that groups below place may limit what a controller is about.
func control(place, controller string) error {
	file := filepath.Join(place, "cgroup.subtree_control")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	for _, have := range strings.Fields(string(text)) {
		if have == controller {
			return nil
		}
	}
	if err := os.WriteFile(file, []byte("+"+controller), 0o644); err != nil {
		return fmt.Errorf("the controller %q of cgroup v2 is not given to %s (%w)", controller, place, errors.Unwrap(err))
	}
	return nil
}

// LimitsWork says why limits cannot be put on stages here, nil if they can.
func LimitsWork() error {
	g, err := newGroup(Limits{Memory: 1 << 30, Processes: 1000, CPU: 1})
	g.remove()
	return err
}

// put lets a process that is about to start begin in the group.
func (g *group) put(attr *syscall.SysProcAttr) {
	if g != nil {
		attr.UseCgroupFD, attr.CgroupFD = true, int(g.fd.Fd())
	}
}

// explain adds to a failure which limit was met.
func (g *group) explain(e *StepError) {
	if g == nil {
		return
	}
	switch {
	case g.killed():
		e.Reason = fmt.Sprintf("it met its memory limit of %d MiB and was stopped; raise memory in [limits]", g.limits.Memory>>20)
	case g.count("pids.events", "max") > 0:
		e.Reason = fmt.Sprintf("it met its limit of %d processes; raise processes in [limits]", g.limits.Processes)
	}
}

// killed says whether the kernel stopped a process for want of memory.
func (g *group) killed() bool { return g != nil && g.count("memory.events", "oom_kill") > 0 }

// count reads a counter from one of the group's files.
func (g *group) count(file, name string) int64 {
	text, err := os.ReadFile(filepath.Join(g.dir, file))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if value, ok := strings.CutPrefix(strings.TrimSpace(line), name+" "); ok {
			n, _ := strconv.ParseInt(value, 10, 64) // the kernel writes numbers
			return n
		}
	}
	return 0
}

// remove ends every process in the group and takes it away.
func (g *group) remove() {
	if g == nil {
		return
	}
	if g.fd != nil {
		g.fd.Close()
	}
	removeGroup(g.dir)
}

// SweepGroups removes the control groups of processes that are gone, and names them.
func SweepGroups() (removed []string) {
	for _, place := range groups() {
		dirs, _ := filepath.Glob(filepath.Join(place, groupPrefix+"*")) // the pattern's form is known
		for _, dir := range dirs {
			text, _, _ := strings.Cut(strings.TrimPrefix(filepath.Base(dir), groupPrefix), "-")
			pid, err := strconv.Atoi(text)
			if err == nil && errors.Is(unix.Kill(pid, 0), unix.ESRCH) && removeGroup(dir) {
				removed = append(removed, dir)
			}
		}
	}
	return removed
}

// removeGroup ends every process in a control group and takes it away, and says whether it is gone.
func removeGroup(dir string) bool {
	for range 50 {
		if err := unix.Rmdir(dir); err == nil || errors.Is(err, unix.ENOENT) {
			return true
		}
		_ = os.WriteFile(filepath.Join(dir, "cgroup.kill"), []byte("1"), 0o644) // it may be empty already
		time.Sleep(2 * time.Millisecond)                                        // killed processes take a moment to go
	}
	return false
}
