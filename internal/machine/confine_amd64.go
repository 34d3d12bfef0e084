package machine

import "golang.org/x/sys/unix"

const auditArch = unix.AUDIT_ARCH_X86_64

var forbiddenHere = []uintptr{unix.SYS_IOPL, unix.SYS_IOPERM}
