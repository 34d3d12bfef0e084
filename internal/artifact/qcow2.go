package artifact

import (
	"zygos/internal/disk"
	"zygos/internal/reading"
)

// qcow2 is QEMU's container (QEMU, docs/interop/qcow2.txt, version 3).
var qcow2 = Format{Name: "qcow2", Extension: ".qcow2", Packs: true, MediaType: "application/vnd.zygos.disk.v1.qcow2", QEMU: "qcow2",
	Reads: &reading.Qcow2, StartRank: 2, ReadRank: 3,
	Options: onDisks(&boots, &network, &qcow2Packing),
	Write:   contained(func(t *Tree, o Options) disk.Container { return disk.Qcow2(o.Says.Word(&qcow2Packing), t.Past) })}

var qcow2Packing = Option{Name: "compression", Is: Word, Words: []string{disk.Zlib, disk.Zstd, disk.None}}
