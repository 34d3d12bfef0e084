package machine

import (
	"fmt"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// forbidden are system calls that no provisioning script needs and that reach, or have reached,
// beyond a user namespace: mounts and namespaces, modules, the kernel's keys and tracing, clocks.
var forbidden = append([]uintptr{
	unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_MOVE_MOUNT, unix.SYS_OPEN_TREE, unix.SYS_FSOPEN, unix.SYS_FSCONFIG, unix.SYS_FSMOUNT,
	unix.SYS_FSPICK, unix.SYS_MOUNT_SETATTR, unix.SYS_PIVOT_ROOT, unix.SYS_SETNS,
	unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_KEXEC_FILE_LOAD, unix.SYS_REBOOT,
	unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_ACCT, unix.SYS_QUOTACTL, unix.SYS_QUOTACTL_FD, unix.SYS_SYSLOG,
	unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD, unix.SYS_FANOTIFY_INIT,
	unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_KEYCTL, unix.SYS_OPEN_BY_HANDLE_AT,
	unix.SYS_CLOCK_SETTIME, unix.SYS_CLOCK_ADJTIME, unix.SYS_ADJTIMEX, unix.SYS_SETTIMEOFDAY,
	unix.SYS_PIDFD_GETFD, unix.SYS_KCMP, unix.SYS_PROCESS_MADVISE, // which process they are about stands in memory or in a descriptor
	unix.SYS_LOOKUP_DCOOKIE, unix.SYS_VHANGUP, unix.SYS_NFSSERVCTL,
}, forbiddenHere...)

// highest is the last system call that was judged; programs do without newer ones. Numbers are the
// same everywhere from 424 on.
const highest = 466 // removexattrat

// absent are system calls that programs do without if the kernel does not have them. clone3
// takes its flags from memory, where no filter sees them; libraries fall back to clone.
var absent = []uintptr{unix.SYS_CLONE3, unix.SYS_IO_URING_SETUP, unix.SYS_IO_URING_ENTER, unix.SYS_IO_URING_REGISTER}

// powers that no step gets, not even over the sandbox itself (capabilities(7)): to look into other
// processes, process 1 above all, to rule the network, and what nothing in a user namespace can use.
var powers = []uintptr{unix.CAP_SYS_PTRACE, unix.CAP_NET_ADMIN, unix.CAP_SYS_MODULE, unix.CAP_SYS_RAWIO, unix.CAP_SYS_BOOT,
	unix.CAP_SYS_TIME,
	unix.CAP_SYSLOG, unix.CAP_BPF, unix.CAP_PERFMON, unix.CAP_CHECKPOINT_RESTORE, unix.CAP_MAC_ADMIN, unix.CAP_MAC_OVERRIDE,
	unix.CAP_AUDIT_CONTROL, unix.CAP_AUDIT_READ, unix.CAP_AUDIT_WRITE, unix.CAP_WAKE_ALARM, unix.CAP_BLOCK_SUSPEND}

// weaken takes powers from all that this thread will start, which then may look into no process that
// has more of them, as this one has.
func weaken() error {
	for _, power := range powers {
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, power, 0, 0, 0); err != nil && err != unix.EINVAL { // not known to an older kernel
			return fmt.Errorf("give up capability %d: %w", power, err)
		}
	}
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("close this process to others: %w", err)
	}
	return nil
}

const (
	newNamespaces = unix.CLONE_NEWUSER | unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWNET |
		unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWTIME
	tiocLinux = 0x541C // ioctl_console(2)
)

// Offsets in struct seccomp_data (Linux, include/uapi/linux/seccomp.h), low words.
const (
	dataNumber = 0
	dataArch   = 4
	dataArg0   = 16
	dataArg1   = 24
	dataArg2   = 32
)

// confine puts a seccomp filter (seccomp(2)) on this process and all that it will start.
func confine() error {
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil { // a dump would hold secrets
		return err
	}
	program := filter()
	prog := unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}
	// All threads of this process, since any of them may start the scripts.
	_, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC, uintptr(unsafe.Pointer(&prog)))
	runtime.KeepAlive(program)
	if errno != 0 {
		return fmt.Errorf("set the filter of system calls: %w", errno)
	}
	return nil
}

// filter is the program: a list of tests on the number of the call and on its arguments.
func filter() []unix.SockFilter {
	const (
		load    = unix.BPF_LD | unix.BPF_W | unix.BPF_ABS
		equal   = unix.BPF_JMP | unix.BPF_JEQ | unix.BPF_K
		above   = unix.BPF_JMP | unix.BPF_JGE | unix.BPF_K
		hasBits = unix.BPF_JMP | unix.BPF_JSET | unix.BPF_K
		give    = unix.BPF_RET | unix.BPF_K
	)
	refuse := func(errno unix.Errno) unix.SockFilter {
		return unix.SockFilter{Code: give, K: unix.SECCOMP_RET_ERRNO | uint32(errno)}
	}
	allow := unix.SockFilter{Code: give, K: unix.SECCOMP_RET_ALLOW}
	p := []unix.SockFilter{
		{Code: load, K: dataArch}, {Code: equal, K: auditArch, Jt: 1}, refuse(unix.ENOSYS), // another kind of program has other numbers
		{Code: load, K: dataNumber}, {Code: above, K: highest + 1, Jf: 1}, refuse(unix.ENOSYS), // those of x32 too
	}
	for _, number := range forbidden {
		p = append(p, unix.SockFilter{Code: equal, K: uint32(number), Jf: 1}, refuse(unix.EPERM))
	}
	for _, number := range absent {
		p = append(p, unix.SockFilter{Code: equal, K: uint32(number), Jf: 1}, refuse(unix.ENOSYS))
	}
	for _, number := range []uintptr{unix.SYS_UNSHARE, unix.SYS_CLONE} {
		p = append(p, unix.SockFilter{Code: equal, K: uint32(number), Jf: 4},
			unix.SockFilter{Code: load, K: dataArg0}, unix.SockFilter{Code: hasBits, K: newNamespaces, Jf: 1}, refuse(unix.EPERM), allow)
	}
	p = append(p, unix.SockFilter{Code: equal, K: uint32(unix.SYS_IOCTL), Jf: 5}, // typing into a terminal, as if somebody had
		unix.SockFilter{Code: load, K: dataArg1}, unix.SockFilter{Code: equal, K: unix.TIOCSTI, Jt: 1},
		unix.SockFilter{Code: equal, K: tiocLinux, Jf: 1}, refuse(unix.EPERM), allow)
	families := []uint32{unix.AF_UNIX, unix.AF_INET, unix.AF_INET6, unix.AF_NETLINK}
	for _, number := range []uintptr{unix.SYS_SOCKET, unix.SYS_SOCKETPAIR} {
		n := uint8(len(families))
		p = append(p, unix.SockFilter{Code: equal, K: uint32(number), Jf: n + 6}, unix.SockFilter{Code: load, K: dataArg0})
		for i, family := range families[:n-1] {
			p = append(p, unix.SockFilter{Code: equal, K: family, Jt: n + 3 - uint8(i)})
		}
		p = append(p, unix.SockFilter{Code: equal, K: families[n-1], Jt: 1}, refuse(unix.EAFNOSUPPORT),
			unix.SockFilter{Code: load, K: dataArg2}, unix.SockFilter{Code: equal, K: unix.NETLINK_ROUTE, Jt: 1}, refuse(unix.EPROTONOSUPPORT),
			allow)
	}
	return append(p, allow)
}
