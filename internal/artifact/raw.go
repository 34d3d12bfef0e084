package artifact

import "zygos/internal/disk"

// raw is the disk itself, sparse.
var raw = Format{Name: "raw", Extension: ".raw", MediaType: "application/vnd.zygos.disk.v1.raw", QEMU: "raw",
	Options: onDisks(&boots, &network),
	Write:   contained(func(*Tree, Options) disk.Container { return disk.Raw })}
