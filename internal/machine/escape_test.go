package machine_test

import (
	"debug/elf"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/layer"
	"zygos/internal/machine"
)

// host is what attempts know of the host that they try to reach.
type host struct {
	Marker   string // file with the content "host"
	PID      int    // process of the tests
	Port     int    // of a listener on the host's loopback
	Abstract string // name of a listening socket without a file
	Open     []int  // descriptors of whoever builds: a file only for them, the host's root
}

var errNothing = errors.New("nothing of the host is there")

const (
	byRoot    = "its root is the stage's tree; the host's is not mounted"
	bySeccomp = "filter of system calls"
	byUser    = "user namespace: its root is nobody on the host"
	byPID     = "pid namespace"
	byNet     = "network namespace without devices"
	byDev     = "a /dev of its own"
	byEnd     = "the pid namespace ends with the stage"
	byPowers  = "steps have fewer capabilities than process 1, so that they may not look into it"
	bySize    = "file systems in memory have a size"
	byClosed  = "only what is made for a stage is open in it"
	byLayer   = "layers below are read-only to the overlay; the index is the truth"
)

// attempts are what hostile scripts try, run as root in the sandbox; nil means that it worked.
var attempts = []struct {
	name string
	by   string // what stops it
	try  func(host) error
}{
	{"read a file of the host", byRoot, func(h host) error { return openFor(unix.O_RDONLY)(h.Marker) }},
	{"write a file of the host", byRoot, func(h host) error { return openFor(unix.O_WRONLY | unix.O_CREAT)(h.Marker) }},
	{"climb above the root with ..", byRoot, func(h host) error {
		return openFor(unix.O_RDONLY)(strings.Repeat("/..", 40) + h.Marker)
	}},
	{"leave a second root made with chroot", byRoot, func(h host) error {
		_ = os.Mkdir("/inner", 0o755)
		fd, err := unix.Open("/", unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return err
		}
		if err := errors.Join(unix.Chroot("/inner"), unix.Fchdir(fd)); err != nil {
			return err
		}
		for range 40 {
			_ = unix.Chdir("..")
		}
		_ = unix.Chroot(".")
		return openFor(unix.O_RDONLY)(h.Marker)
	}},
	{"go through the root of process 1", byRoot, func(h host) error { return openFor(unix.O_RDONLY)("/proc/1/root" + h.Marker) }},
	{"go through folders that process 1 has open", byRoot, func(h host) error {
		entries, err := os.ReadDir("/proc/1/fd")
		if err != nil {
			return err
		}
		for _, e := range entries {
			if openFor(unix.O_RDONLY)("/proc/1/fd/"+e.Name()+strings.Repeat("/..", 40)+h.Marker) == nil {
				return nil
			}
		}
		return errNothing
	}},
	{"use what whoever builds has open", byClosed, func(h host) error {
		for _, fd := range h.Open {
			for _, at := range []string{"", h.Marker, "/etc/passwd"} {
				for _, who := range []string{"self", "1"} {
					if openFor(unix.O_RDONLY)(fmt.Sprintf("/proc/%s/fd/%d%s", who, fd, at)) == nil {
						return nil
					}
				}
			}
		}
		return errNothing
	}},
	{"see what process 1 has open", byPowers, func(host) error { _, err := os.Readlink("/proc/1/fd/2"); return err }},
	{"speak in the name of process 1", byPowers, at("/proc/1/fd/2", unix.O_WRONLY)},
	{"open the memory of process 1", byPowers, at("/proc/1/mem", unix.O_RDWR)},
	{"trace process 1", byPowers, func(host) error { return unix.PtraceSeize(1) }},
	{"read the memory of process 1", byPowers, func(host) error {
		var b [1]byte
		_, err := unix.ProcessVMReadv(1, []unix.Iovec{{Base: &b[0], Len: 1}}, []unix.RemoteIovec{{Base: 0x400000, Len: 1}}, 0)
		return err
	}},
	{"copy a descriptor of process 1", bySeccomp, func(host) error {
		fd, err := unix.PidfdOpen(1, 0)
		if err != nil {
			return err
		}
		_, err = unix.PidfdGetfd(fd, 2, 0)
		return err
	}},
	{"open a file by its handle", bySeccomp, func(host) error {
		handle, _, err := unix.NameToHandleAt(unix.AT_FDCWD, "/etc", 0)
		if err != nil {
			handle = unix.NewFileHandle(1, make([]byte, 8))
		}
		_, err = unix.OpenByHandleAt(unix.AT_FDCWD, handle, unix.O_RDONLY)
		return err
	}},
	{"write the program that runs as process 1", byUser, at("/proc/1/exe", unix.O_WRONLY)},
	{"read the environment that Zygos was started with", byRoot, func(host) error {
		text, err := os.ReadFile("/proc/1/environ")
		if err == nil && len(text) == 0 {
			err = errNothing
		}
		return err
	}},
	{"make a node of a disk", byUser, func(host) error { return unix.Mknod("/disk", unix.S_IFBLK|0o600, int(unix.Mkdev(8, 0))) }},
	{"make a node of memory", byUser, func(host) error { return unix.Mknod("/mem", unix.S_IFCHR|0o600, int(unix.Mkdev(1, 1))) }},
	{"find disks in /dev", byDev, func(host) error {
		for _, pattern := range []string{"/dev/sd*", "/dev/vd*", "/dev/nvme*", "/dev/loop*", "/dev/mem", "/dev/kmsg", "/dev/kvm", "/dev/fuse"} {
			if list, _ := filepath.Glob(pattern); len(list) > 0 {
				return nil
			}
		}
		return errNothing
	}},
	{"find the host's /sys and control groups", byRoot, func(host) error {
		if list, _ := filepath.Glob("/sys/*"); len(list) > 0 {
			return nil
		}
		return errNothing
	}},
	{"mount a file system", bySeccomp, func(host) error { return unix.Mount("proc", "/tmp", "proc", 0, "") }},
	{"mount the host's disk", bySeccomp, func(host) error { return unix.Mount("/dev/vda", "/tmp", "ext4", 0, "") }},
	{"make /proc/sys writable again", bySeccomp,
		func(host) error { return unix.Mount("", "/proc/sys", "", unix.MS_REMOUNT|unix.MS_BIND, "") }},
	{"take the cover off /proc/keys", bySeccomp, func(host) error { return unix.Unmount("/proc/keys", unix.MNT_DETACH) }},
	{"mount by the newer calls", bySeccomp, func(host) error { _, err := unix.Fsopen("tmpfs", 0); return err }},
	{"clone a mount", bySeccomp, func(host) error { _, err := unix.OpenTree(unix.AT_FDCWD, "/proc", unix.OPEN_TREE_CLONE); return err }},
	{"clone a mount and make it writable, by a call of newer kernels", bySeccomp, func(host) error {
		name, _ := unix.BytePtrFromString("/proc/sys")
		attr := unix.MountAttr{Attr_clr: unix.MOUNT_ATTR_RDONLY}
		dir := unix.AT_FDCWD
		_, _, errno := unix.RawSyscall6(467, uintptr(dir), uintptr(unsafe.Pointer(name)), unix.OPEN_TREE_CLONE, uintptr(unsafe.Pointer(&attr)),
			unsafe.Sizeof(attr), 0)
		if errno != 0 {
			return errno
		}
		return nil
	}},
	{"use a call that is newer than Zygos", bySeccomp, func(host) error {
		for n := uintptr(467); n < 600; n++ {
			if err := number(n, 0, 0, 0, 0, 0); err != unix.ENOSYS {
				return nil
			}
		}
		return unix.ENOSYS
	}},
	{"change the root once more", bySeccomp, func(host) error { return unix.PivotRoot("/", "/tmp") }},
	{"make a user namespace of its own", bySeccomp, call(unix.SYS_UNSHARE, unix.CLONE_NEWUSER)},
	{"make a mount namespace of its own", bySeccomp, call(unix.SYS_UNSHARE, unix.CLONE_NEWNS)},
	{"clone into a user namespace", bySeccomp, func(host) error {
		cmd := exec.Command("/bin/true")
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWUSER}
		return cmd.Run()
	}},
	{"clone by the call whose flags no filter sees", bySeccomp, call(unix.SYS_CLONE3, 0, 0)},
	{"enter the namespaces of process 1", bySeccomp, func(host) error {
		fd, err := unix.Open("/proc/1/ns/mnt", unix.O_RDONLY, 0)
		if err != nil {
			return err
		}
		return unix.Setns(fd, unix.CLONE_NEWNS)
	}},
	{"load a kernel module", bySeccomp, func(host) error { return unix.InitModule([]byte{0}, "") }},
	{"load a kernel module from a file", bySeccomp, call(unix.SYS_FINIT_MODULE, 0, 0)},
	{"start another kernel", bySeccomp, call(unix.SYS_KEXEC_LOAD)},
	{"set how the host reboots", bySeccomp, func(host) error { return unix.Reboot(unix.LINUX_REBOOT_CMD_CAD_OFF) }},
	{"load a program into the kernel", bySeccomp, call(unix.SYS_BPF, 0, 0, 0)},
	{"count events of the whole host", bySeccomp, func(host) error {
		_, err := unix.PerfEventOpen(&unix.PerfEventAttr{Type: unix.PERF_TYPE_SOFTWARE, Size: uint32(unsafe.Sizeof(unix.PerfEventAttr{}))}, -1,
			0, -1, 0)
		return err
	}},
	{"handle page faults of the kernel", bySeccomp, call(unix.SYS_USERFAULTFD, 0)},
	{"use io_uring past the filter", bySeccomp, func(host) error {
		var params [120]byte
		return number(unix.SYS_IO_URING_SETUP, 1, uintptr(unsafe.Pointer(&params)))
	}},
	{"add a key to the kernel's keyrings", bySeccomp, func(host) error {
		_, err := unix.AddKey("user", "zygos-attempt", []byte("x"), unix.KEY_SPEC_USER_KEYRING)
		return err
	}},
	{"list the kernel's keys", "a cover over /proc/keys", func(host) error {
		text, err := os.ReadFile("/proc/keys")
		if err == nil && len(text) == 0 {
			err = errNothing
		}
		return err
	}},
	{"read the kernel's log", bySeccomp, func(host) error {
		_,
			err := unix.Klogctl(unix.SYSLOG_ACTION_READ_ALL, make([]byte, 4096))
		return err
	}},
	{"read the kernel's memory", byUser, at("/proc/kcore", unix.O_RDONLY)},
	{"press the magic key", byUser, at("/proc/sysrq-trigger", unix.O_WRONLY)},
	{"say what runs when a program crashes", "/proc/sys is read-only", at("/proc/sys/kernel/core_pattern", unix.O_WRONLY)},
	{"set the host's clock", bySeccomp, func(host) error { return unix.Settimeofday(&unix.Timeval{Sec: 1}) }},
	{"reach the host's ports of input and output", bySeccomp, func(host) error {
		if runtime.GOARCH != "amd64" {
			return errNothing
		}
		return number(172, 3) // iopl
	}},
	{"see processes of the host", byPID, func(host) error {
		list, err := filepath.Glob("/proc/[0-9]*")
		if err == nil && len(list) <= 3 {
			err = errNothing
		}
		return err
	}},
	{"signal a process of the host", byPID, func(h host) error { return unix.Kill(h.PID, 0) }},
	{"read the memory of a process of the host", byPID, func(h host) error {
		var b [1]byte
		_, err := unix.ProcessVMReadv(h.PID, []unix.Iovec{{Base: &b[0], Len: 1}}, []unix.RemoteIovec{{Base: 0x400000, Len: 1}}, 0)
		return err
	}},
	{"trace a process of the host", byPID, func(h host) error { return unix.PtraceAttach(h.PID) }},
	{"raise the limit on open files", byUser, func(host) error {
		var now unix.Rlimit
		if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &now); err != nil {
			return err
		}
		return unix.Setrlimit(unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: now.Max, Max: now.Max + 1})
	}},
	{"take more than its share of the processor", byUser, func(host) error { return unix.Setpriority(unix.PRIO_PROCESS, 0, -10) }},
	{"type into the terminal of who builds", bySeccomp, func(host) error {
		key := byte('x')
		return number(unix.SYS_IOCTL, 0, unix.TIOCSTI, uintptr(unsafe.Pointer(&key)))
	}},
	{"open the terminal of who builds", "a session of its own", at("/dev/tty", unix.O_RDWR)},
	{"read packets from the wire", bySeccomp, socket(unix.AF_PACKET, unix.SOCK_RAW)},
	{"use a rare kind of socket", bySeccomp, socket(unix.AF_ALG, unix.SOCK_SEQPACKET)},
	{"reach the machine that the host runs on", bySeccomp, socket(unix.AF_VSOCK, unix.SOCK_STREAM)},
	{"write rules of the packet filter", bySeccomp, netlink(unix.NETLINK_NETFILTER)},
	{"write rules of encrypted networks", bySeccomp, netlink(unix.NETLINK_XFRM)},
	{"speak to the audit system", bySeccomp, netlink(unix.NETLINK_AUDIT)},
	{"rule the network of the sandbox", "a capability that steps do not have", func(host) error {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
		if err != nil {
			return err
		}
		ifr, err := unix.NewIfreq("lo")
		if err != nil {
			return err
		}
		return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, ifr)
	}},
	{"fill the host's memory through /run", bySize, fill("/run/fill")},
	{"fill the host's memory through /dev/shm", bySize, fill("/dev/shm/fill")},
	{"reach the network when cut off", byNet, func(host) error {
		c, err := net.DialTimeout("udp", "192.0.2.1:53", time.Second)
		if err == nil {
			c.Close()
		}
		return err
	}},
	{"reach a service on the host when cut off", byNet, func(h host) error {
		c, err := net.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(h.Port), time.Second)
		if err == nil {
			c.Close()
		}
		return err
	}},
	{"reach a socket without a file when cut off", byNet, func(h host) error {
		c, err := net.Dial("unix", h.Abstract)
		if err == nil {
			c.Close()
		}
		return err
	}},
	{"turn on a network device when cut off", byNet, func(host) error {
		list, err := net.Interfaces()
		if err == nil && len(list) < 2 {
			err = errNothing
		}
		return err
	}},
	{"swap memory to a file", bySeccomp, func(host) error {
		name, _ := unix.BytePtrFromString("/etc/passwd")
		return number(unix.SYS_SWAPON, uintptr(unsafe.Pointer(name)), 0)
	}},
	{"keep accounts of all processes", bySeccomp, func(host) error {
		name, _ := unix.BytePtrFromString("/tmp/acct")
		return number(unix.SYS_ACCT, uintptr(unsafe.Pointer(name)))
	}},
}

// aftermath are attempts whose outcome shows on the host, when the stage has ended.
var aftermath = []struct {
	name, by, script string
	worked           func(b *bench, h host) bool
}{
	{"keep running after the stage", byEnd, "(trap '' TERM HUP INT; setsid sleep 54321 &) ; sleep 54321 &",
		func(*bench, host) bool { return exec.Command("pgrep", "-f", "sleep 54321").Run() == nil }},
	{"change the base below", byLayer, "echo x >> /etc/passwd; rm -rf /var; chmod 0777 /etc",
		func(b *bench, _ host) bool { _, err := os.Stat(filepath.Join(b.base, "var")); return err != nil }},
	{"rename the host", "uts namespace", "hostname taken", func(*bench, host) bool { name, _ := os.Hostname(); return name == "taken" }},
	{"let a link in the tree be read on the host", "links are never followed when a layer is made",
		"ln -s HOSTFILE /link; ln -s / /all; mkdir /dir; rm -r /dir; ln -s /etc /dir",
		func(b *bench, _ host) bool {
			return slices.ContainsFunc(b.scan(), func(e layer.Entry) bool { return e.Digest != "" || strings.HasPrefix(e.Path, "all/") })
		}},
	{"leave a program that is root on the host", byUser, "cp /bin/busybox /run-me; chmod 4755 /run-me",
		func(b *bench, _ host) bool {
			var st unix.Stat_t
			return unix.Stat(filepath.Join(b.upper, "run-me"), &st) != nil || st.Uid == 0 && os.Getenv("ZYGOS_INSIDE") == ""
		}},
	{"put a file where the host would read it", byRoot, "mkdir -p $(dirname HOSTFILE); echo changed > HOSTFILE",
		func(_ *bench, h host) bool {
			text, err := os.ReadFile(h.Marker)
			return err != nil || string(text) != "host"
		}},
	{"flood the host with messages of process 1", byPowers,
		"for fd in 3 4 5 6 7 8; do echo '{\"Step\":99,\"Began\":true}' > /proc/1/fd/$fd; done 2>/dev/null; true",
		func(b *bench, _ host) bool { return b.failed != nil && b.failed.Step == 99 }},
}

const attemptProgram = "/attempt"

// attemptMain is what the program of the tests does inside the sandbox: one attempt.
func attemptMain() {
	var h host
	if err := json.Unmarshal([]byte(os.Getenv("HOST")), &h); err != nil {
		fmt.Println("no host:", err)
		os.Exit(2)
	}
	for _, a := range attempts {
		if a.name != os.Args[1] {
			continue
		}
		runtime.LockOSThread()
		if err := a.try(h); err != nil {
			fmt.Println("stopped:", err)
			os.Exit(0)
		}
		fmt.Println("ESCAPED")
		os.Exit(1)
	}
	os.Exit(2)
}

var update = flag.Bool("update", false, "write docs/security.md anew")

func TestHostileScriptsStayInside(t *testing.T) {
	b := newBench(t)
	h := host{Marker: filepath.Join(t.TempDir(), "host-file"), PID: os.Getpid(), Abstract: fmt.Sprintf("@zygos-attempt-%d", os.Getpid())}
	require.NoError(t, os.WriteFile(h.Marker, []byte("host"), 0o666))
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	h.Port = tcp.Addr().(*net.TCPAddr).Port
	unixSocket, err := net.Listen("unix", h.Abstract)
	require.NoError(t, err)
	defer unixSocket.Close()
	for _, name := range []string{h.Marker, "/"} { // as a shell leaves them open
		fd, err := unix.Open(name, unix.O_RDONLY, 0)
		require.NoError(t, err)
		defer unix.Close(fd)
		h.Open = append(h.Open, fd)
	}
	known, err := json.Marshal(h)
	require.NoError(t, err)
	self, err := os.Executable()
	require.NoError(t, err)
	program, err := elf.Open(self)
	require.NoError(t, err)
	defer program.Close()
	require.Nil(t, program.Section(".interp"), "the program of the tests must be static; run with CGO_ENABLED=0, as 'make test' does")
	var rows []string
	for _, a := range attempts {
		t.Run(a.name, func(t *testing.T) {
			err := b.run(t.Context(), machine.Stage{Timeout: time.Minute, Steps: []machine.Step{
				{Name: "copy", Copy: &machine.Copy{Items: []machine.Item{{From: self, To: attemptProgram, Mode: 0o755}}}},
				{Name: "try", Script: &machine.Script{Content: []byte(attemptProgram + ` "` + a.name + `"`), Env: []string{"HOST=" + string(known)}}}}})
			require.NoError(t, err, "%v", b.lines)
			require.Len(t, b.lines, 1)
			require.Contains(t, b.lines[0], "stopped: ")
			t.Log(b.lines[0])
		})
		rows = append(rows, fmt.Sprintf("| %s | stopped | %s |", a.name, a.by))
	}
	for _, a := range aftermath {
		t.Run(a.name, func(t *testing.T) {
			err := b.run(t.Context(), scripts(strings.ReplaceAll(a.script, "HOSTFILE", h.Marker)))
			if err != nil {
				t.Log(err) // it may end as it likes, as long as it stays inside
			}
			require.False(t, a.worked(b, h))
		})
		rows = append(rows, fmt.Sprintf("| %s | stopped | %s |", a.name, a.by))
	}
	if t.Failed() {
		return
	}
	const file, begin, end = "../../docs/security.md", "<!-- attempts -->\n", "<!-- end of attempts -->"
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return // run as an ordinary user, away from the sources
	}
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok)
	table, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	want := "| attempt, as root in a sandbox | outcome | what stops it |\n| --- | --- | --- |\n" + strings.Join(rows, "\n") + "\n"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(head+begin+want+end+tail), 0o644))
		return
	}
	require.Equal(t, want, table, "docs/security.md is not what was tried; go test ./internal/machine -run Hostile -update writes it")
}
