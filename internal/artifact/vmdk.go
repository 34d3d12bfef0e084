package artifact

import (
	"zygos/internal/disk"
	"zygos/internal/reading"
)

// vmdk is a stream-optimised disk (Virtual Disk Format 5.0).
var vmdk = Format{Name: "vmdk", Extension: ".vmdk", Packs: true, MediaType: "application/vnd.zygos.disk.v1.vmdk", QEMU: "vmdk",
	Reads: &reading.Vmdk, StartRank: 5, ReadRank: 7,
	Options: onDisks(&boots, &network),
	Write:   contained(vmdkOf)}

func vmdkOf(t *Tree, _ Options) disk.Container {
	return disk.Vmdk(t.numberOf("disk"), t.Past)
}
