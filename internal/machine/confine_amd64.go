package machine

import "golang.org/x/sys/unix"

const (
	auditArch    = unix.AUDIT_ARCH_X86_64
	foreignCalls = 0x40000000 // numbers of the x32 interface begin here
)

var forbiddenHere = []uintptr{unix.SYS_IOPL, unix.SYS_IOPERM}
