package state

import (
	"bytes"
	"encoding/json"
	"os"

	"zygos/internal/store"
)

// Captured is the file that an artifact of a tree came to, as Dir.Capture notes it.
func Captured(name string) (b store.Blob, known bool) {
	text, err := os.ReadFile(name)
	return b, err == nil && json.Unmarshal(text, &b) == nil
}

// LastDisk stands before the list of the pieces that an artifact's last disk was packed to, in Dir.Pieces.
type LastDisk struct {
	Of      store.Blob `json:"of"`
	Packing string     `json:"packing"` // how: what was packed in another way is of no use
}

// ReadLastDisk reads that file.
func ReadLastDisk(name string) (last LastDisk, pieces []byte, err error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return last, nil, err
	}
	head, pieces, _ := bytes.Cut(text, []byte("\n"))
	return last, pieces, json.Unmarshal(head, &last)
}
