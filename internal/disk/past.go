package disk

import (
	"errors"
	"io"
	"runtime/debug"
	"slices"

	"github.com/zeebo/blake3"
)

// Past knows the pieces of a disk as they were packed the last time, so that those that come again are copied, and
// notes those of the disk that is written now. What it gives is checked: it may be slow, never wrong. A nil one does nothing.
type Past struct {
	file io.ReaderAt       // which holds them
	had  map[check]content // by what they are unpacked
	now  []content         // of the disk that is written
	base int64             // where in its file the container begins
}

// content is a piece as it lies in a file.
type content struct {
	plain, packed check
	at            int64
	length        uint32 // 0 for one that packing does not make smaller
}

// check tells contents apart (BLAKE3, the first half of a digest).
type check [16]byte

func checkOf(text []byte) check {
	sum := blake3.Sum256(text)
	return check(sum[:])
}

const (
	contentSize  = 2*len(check{}) + 8 + 4
	mostContents = 1 << 20 // noted of one disk: 64 GiB
)

// Packer tells which packing made pieces: those of another one may differ in their bytes.
func Packer() string {
	const levels = "1" // what the containers of this package ask for
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, m := range info.Deps {
			if m.Path == "github.com/klauspost/compress" {
				return levels + " " + m.Version
			}
		}
	}
	return levels
}

// NewPast reads what Text gave; file is what that disk was written to. Nothing is known if text is nil.
func NewPast(text []byte, file io.ReaderAt) (*Past, error) {
	p := &Past{file: file}
	if text == nil {
		return p, nil
	}
	entries := len(text) - len(check{})
	if entries < 0 || entries%contentSize != 0 || checkOf(text[:entries]) != check(text[entries:]) {
		return nil, errors.New("the list of packed pieces is damaged")
	}
	p.had = make(map[check]content, entries/contentSize)
	for e := range slices.Chunk(text[:entries], contentSize) {
		c := content{plain: check(e), packed: check(e[16:]), at: int64(le.Uint64(e[32:])), length: le.Uint32(e[40:])}
		p.had[c.plain] = c
	}
	return p, nil
}

// Text is the pieces that were noted, for NewPast.
func (p *Past) Text() []byte {
	text := make([]byte, 0, len(p.now)*contentSize+len(check{}))
	for _, c := range p.now {
		text = append(append(text, c.plain[:]...), c.packed[:]...)
		text = le.AppendUint32(le.AppendUint64(text, uint64(c.at)), c.length)
	}
	sum := checkOf(text)
	return append(text, sum[:]...)
}

// Behind says how many bytes lie before the container in its file.
func (p *Past) Behind(n int64) {
	if p != nil {
		p.base = n
	}
}

// find is a piece as it was packed, in the space of into; false if it is not known. It may be called by several at once.
func (p *Past) find(piece check, into []byte) ([]byte, bool) {
	c, ok := p.had[piece]
	if !ok || c.length > 2*batchSize {
		return nil, false
	}
	if c.length == 0 {
		return nil, true
	}
	if cap(into) < int(c.length) {
		into = make([]byte, c.length)
	}
	into = into[:c.length]
	if _, err := p.file.ReadAt(into, c.at); err != nil || checkOf(into) != c.packed {
		return nil, false
	}
	return into, true
}

// note remembers a piece where it was written.
func (p *Past) note(piece *piece) {
	if p == nil || len(p.now) == mostContents {
		return
	}
	c := content{plain: piece.sum}
	if piece.at > 0 {
		c.packed, c.at, c.length = checkOf(piece.packed), p.base+piece.at, uint32(len(piece.packed))
	}
	p.now = append(p.now, c)
}
