package artifact

import (
	"zygos/internal/disk"
	"zygos/internal/reading"
)

// raw is the disk itself, sparse.
var raw = Format{Name: "raw", Extension: ".raw", MediaType: "application/vnd.zygos.disk.v1.raw", QEMU: "raw",
	Reads: &reading.Raw, Ends: []string{".img"}, StartRank: 1, ReadRank: 4,
	Options: onDisks(&boots, &network),
	Write:   contained(func(*Tree, Options) disk.Container { return disk.Raw })}
