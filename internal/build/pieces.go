package build

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"

	"zygos/internal/disk"
	"zygos/internal/store"
)

// lastDisk is what stands before the list of the pieces that an artifact's last disk was packed to.
type lastDisk struct {
	Of      store.Blob `json:"of"`
	Packing string     `json:"packing"` // how: what was packed in another way is of no use
}

func readLastDisk(name string) (last lastDisk, pieces []byte, err error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return last, nil, err
	}
	head, pieces, _ := bytes.Cut(text, []byte("\n"))
	return last, pieces, json.Unmarshal(head, &last)
}

// past is what is known of an artifact's last disk, from its list: nothing if that or the disk is gone or damaged. It keeps the
// disk open until done is called.
func (b *branch) past(name, packing string) (past *disk.Past, done func()) {
	unknown, _ := disk.NewPast(nil, nil)
	last, pieces, err := readLastDisk(name)
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
	if head, err := json.Marshal(lastDisk{of, packing}); err == nil && os.MkdirAll(filepath.Dir(name), 0o755) == nil {
		_ = store.WriteFile(name, append(append(head, '\n'), past.Text()...)) // as said
	}
}
