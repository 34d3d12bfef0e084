package artifact

import (
	"zygos/internal/disk"
	"zygos/internal/reading"
)

// vhd is a virtual hard disk (Virtual Hard Disk Image Format Specification 1.0).
var vhd = Format{Name: "vhd", Extension: ".vhd", MediaType: "application/vnd.zygos.disk.v1.vhd", QEMU: "vpc",
	Reads: &reading.Vhd, StartRank: 4, ReadRank: 6,
	Options: onDisks(&boots, &network, &vhdLayout),
	Write: contained(func(t *Tree, o Options) disk.Container {
		return disk.Vhd(disk.VhdOptions{Fixed: o.Says.Word(&vhdLayout) == "fixed", ID: t.idOf("disk"), Epoch: o.Epoch})
	})}

var vhdLayout = Option{Name: "layout", Is: Word, Words: []string{"dynamic", "fixed"}}
