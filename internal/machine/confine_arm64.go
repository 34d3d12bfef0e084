package machine

import "golang.org/x/sys/unix"

const (
	auditArch    = unix.AUDIT_ARCH_AARCH64
	foreignCalls = 0x40000000 // there are none as high
)

var forbiddenHere []uintptr
