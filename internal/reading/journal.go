package reading

import (
	"errors"
	"fmt"
)

// Blocks of a journal (Linux, include/linux/jbd2.h).
const (
	jbdMagic      = 0xc03b3998
	jbdDescriptor = 1
	jbdCommit     = 2
	jbdRevoke     = 5
	jbdSuperV1    = 3
	jbdSuperV2    = 4

	jbdRevokes   = 0x1 // incompatible features
	jbd64bit     = 0x2
	jbdAsync     = 0x4
	jbdSumsV2    = 0x8
	jbdSumsV3    = 0x10
	jbdEscaped   = 1 // flags of tags
	jbdSameUUID  = 2
	jbdLastTag   = 8
	mostJournal  = 1 << 20 // blocks
	mostReplayed = 1 << 18 // blocks that are remembered
)

// logged is where the journal holds a newer block.
type logged struct {
	block   int64 // on the disk
	escaped bool  // its first bytes would look like a block of the journal
}

// replay reads the journal and remembers which blocks it holds newer. Nothing is written.
func (fs *Ext4) replay() error {
	if le.Uint32(fs.super[228:]) != 0 || le.Uint32(fs.super[224:]) == 0 {
		return errors.New("it is on another disk; mount the file system once where both are")
	}
	n, err := fs.inode(le.Uint32(fs.super[224:]))
	if err != nil {
		return err
	}
	runs, err := fs.runs(n)
	if err != nil {
		return err
	}
	var place []int64 // of each of its blocks
	for _, r := range runs {
		for i := range r.count {
			if r.at == 0 || int64(len(place)) != r.logical+i || len(place) > mostJournal {
				return damaged("it has holes, or no end")
			}
			place = append(place, r.at+i)
		}
	}
	if len(place) < 2 {
		return damaged("it is empty")
	}
	block := func(i uint32) ([]byte, error) {
		if int64(i) >= int64(len(place)) {
			return nil, damaged("it refers to its block %d of %d", i, len(place))
		}
		p := make([]byte, fs.block)
		return p, fs.read(place[i], p)
	}
	s, err := block(0)
	if err != nil {
		return err
	}
	kind, first, most := be.Uint32(s[4:]), be.Uint32(s[20:]), be.Uint32(s[16:])
	features := uint32(0)
	if kind == jbdSuperV2 {
		features = be.Uint32(s[40:])
	}
	switch {
	case be.Uint32(s) != jbdMagic || (kind != jbdSuperV1 && kind != jbdSuperV2):
		return damaged("it has no superblock")
	case int64(be.Uint32(s[12:])) != fs.block || first == 0 || first >= most || int64(most) > int64(len(place)):
		return damaged("its superblock makes no sense")
	case features&^uint32(jbdRevokes|jbd64bit|jbdAsync|jbdSumsV2|jbdSumsV3|0x20) != 0:
		return fmt.Errorf("it has features (%#x) that are not known here", features)
	case features&0x20 != 0:
		return errors.New("it holds fast commits, which are not read here; mount the file system once, or run fsck.ext4")
	}
	j := journal{fs: fs, features: features, first: first, most: most, block: block, place: place}
	if j.sums() {
		j.seed = crc(1<<32-1, s[48:64])
		if sum := be.Uint32(s[252:]); crc(1<<32-1, s[:252], make([]byte, 4), s[256:1024]) != sum {
			return damaged("the checksum of its superblock is another one")
		}
	}
	return j.run(be.Uint32(s[28:]), be.Uint32(s[24:]))
}

// journal is one that is read.
type journal struct {
	fs          *Ext4
	features    uint32
	first, most uint32
	block       func(uint32) ([]byte, error)
	place       []int64
	seed        uint32 // of checksums
}

// sums says whether its blocks have checksums.
func (j *journal) sums() bool { return j.features&(jbdSumsV2|jbdSumsV3) != 0 }

// sound says whether a block has the checksum that stands in it.
func (j *journal) sound(b []byte, at int) bool {
	return !j.sums() || crc(j.seed, b[:at], make([]byte, 4), b[at+4:]) == be.Uint32(b[at:])
}

// holds says whether a block of a transaction is the one that its tag names.
func (j *journal) holds(t tag, b []byte, sequence uint32) bool {
	sum := crc(j.seed, be.AppendUint32(nil, sequence), b)
	if j.features&jbdSumsV3 == 0 {
		sum &= 0xffff
	}
	return !j.sums() || sum == t.sum
}

// next is the block behind one: it is a ring.
func (j *journal) next(i uint32) uint32 {
	if i+1 >= j.most {
		return j.first
	}
	return i + 1
}

// tag is what a descriptor says of a block.
type tag struct {
	target int64
	flags  uint32
	sum    uint32
	size   int // bytes that the tag takes
}

func (j *journal) tag(b []byte) (t tag, ok bool) {
	size := 8
	switch {
	case j.features&jbdSumsV3 != 0:
		size = 16
	case j.features&jbd64bit != 0:
		size = 12
	}
	if j.features&jbdSumsV2 != 0 && j.features&jbdSumsV3 == 0 {
		size += 2
	}
	if len(b) < size {
		return t, false
	}
	t.target = int64(be.Uint32(b))
	if j.features&jbdSumsV3 != 0 {
		t.flags, t.sum = be.Uint32(b[4:]), be.Uint32(b[12:])
	} else {
		t.flags, t.sum = uint32(be.Uint16(b[6:])), uint32(be.Uint16(b[4:]))
	}
	if j.features&jbd64bit != 0 {
		t.target |= int64(be.Uint32(b[8:])) << 32
	}
	t.size = size
	if t.flags&jbdSameUUID == 0 {
		t.size += 16
	}
	return t, true
}

// run goes through the whole transactions from a block on, each with the next number.
func (j *journal) run(at, sequence uint32) error {
	if at == 0 { // it was closed
		return nil
	}
	if at < j.first || at >= j.most {
		return damaged("it begins at its block %d of %d", at, j.most)
	}
	found := map[int64]logged{}
	inTransaction, spoilt := map[int64]logged{}, false
	revoked := map[int64]bool{}
	for range j.most {
		b, err := j.block(at)
		if err != nil {
			return err
		}
		if be.Uint32(b) != jbdMagic || be.Uint32(b[8:]) != sequence {
			break // what follows was not finished
		}
		at = j.next(at)
		kind, tail := be.Uint32(b[4:]), 0
		if j.sums() {
			tail = 4
		}
		if (kind == jbdDescriptor || kind == jbdRevoke) && !j.sound(b, len(b)-4) || kind == jbdCommit && !j.sound(b, 16) {
			return damaged("the checksum of a block of it is another one")
		}
		switch kind {
		case jbdDescriptor:
			for rest := b[12 : len(b)-tail]; ; {
				t, ok := j.tag(rest)
				if !ok {
					break
				}
				if t.target < 0 || t.target >= j.fs.blocks {
					return damaged("it holds a block %d of %d", t.target, j.fs.blocks)
				}
				inTransaction[t.target] = logged{j.place[at], t.flags&jbdEscaped != 0}
				if j.sums() {
					held, err := j.block(at)
					if err != nil {
						return err
					}
					spoilt = spoilt || !j.holds(t, held, sequence)
				}
				at = j.next(at)
				if t.flags&jbdLastTag != 0 || t.size > len(rest) {
					break
				}
				rest = rest[t.size:]
			}
		case jbdRevoke:
			width := 4
			if j.features&jbd64bit != 0 {
				width = 8
			}
			for end, i := min(int(be.Uint32(b[12:])), len(b)), 16; i+width <= end; i += width {
				target := int64(be.Uint32(b[i:]))
				if width == 8 {
					target = int64(be.Uint64(b[i:]))
				}
				revoked[target] = true
			}
		case jbdCommit:
			if spoilt { // a transaction that did not end may be half written
				return damaged("the checksum of a block that it holds is another one")
			}
			for target := range revoked { // what came before it is not to be written any more
				delete(found, target)
			}
			for target, l := range inTransaction {
				found[target] = l
			}
			if len(found) > mostReplayed {
				return fmt.Errorf("it holds more than %d blocks", mostReplayed)
			}
			inTransaction, revoked = map[int64]logged{}, map[int64]bool{}
			sequence++
		default:
			return damaged("a block of it is of no kind that is known")
		}
	}
	j.fs.replayed = found
	j.fs.pages = kept[[]byte]{most: j.fs.pages.most} // what was read before is old
	return nil
}
