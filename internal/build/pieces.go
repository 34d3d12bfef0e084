package build

import (
	"encoding/json"
	"os"
	"path/filepath"

	"zygos/internal/disk"
	"zygos/internal/state"
	"zygos/internal/store"
)

// past is what is known of an artifact's last disk, from its list: nothing if that or the disk is gone or damaged. It keeps the
// disk open until done is called.
func (b *branch) past(name, packing string) (past *disk.Past, done func()) {
	unknown, _ := disk.NewPast(nil, nil)
	last, pieces, err := state.ReadLastDisk(name)
	if err != nil || last.Packing != packing || b.plan.Force || !b.store.Has(last.Of) {
		return unknown, func() {}
	}
	file, err := os.Open(b.store.Path(last.Of.Digest))
	if err != nil {
		return unknown, func() {}
	}
	done = func() { file.Close() }
	if past, err = disk.NewPast(pieces, file); err != nil {
		return unknown, done
	}
	return past, done
}

// keepPieces writes the list for the next disk, which without one is packed anew as a whole.
func keepPieces(name, packing string, of store.Blob, past *disk.Past) {
	if head, err := json.Marshal(state.LastDisk{Of: of, Packing: packing}); err == nil && os.MkdirAll(filepath.Dir(name), 0o755) == nil {
		_ = store.WriteFile(name, append(append(head, '\n'), past.Text()...)) // as said
	}
}
