package artifact

import (
	"zygos/internal/disk"
	"zygos/internal/reading"
)

// vhdx is its successor for large disks ([MS-VHDX]).
var vhdx = Format{Name: "vhdx", Extension: ".vhdx", MediaType: "application/vnd.zygos.disk.v1.vhdx", QEMU: "vhdx",
	Reads: &reading.Vhdx, StartRank: 3, ReadRank: 5,
	Options: onDisks(&boots, &network),
	Write:   contained(func(t *Tree, _ Options) disk.Container { return disk.Vhdx(t.idOf("disk")) })}
