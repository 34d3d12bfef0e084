package artifact

import (
	"zygos/internal/disk"
)

// qcow2 is QEMU's container (QEMU, docs/interop/qcow2.txt, version 3).
var qcow2 = Format{Name: "qcow2", Extension: ".qcow2", Packs: true, MediaType: "application/vnd.zygos.disk.v1.qcow2", QEMU: "qcow2",
	Options: onDisks(&boots, &network, &qcow2Packing),
	Write:   contained(func(t *Tree, o Options) disk.Container { return disk.Qcow2(o.Says.Word(&qcow2Packing), t.Past) })}

var qcow2Packing = Option{Name: "compression", Is: Word, Words: []string{disk.Zlib, disk.Zstd, disk.None}}
