package reading

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"sync"
)

// Features of ext4 (Linux, Documentation/filesystems/ext4/super.rst).
const (
	incompatFiletype = 0x2
	incompatRecover  = 0x4
	incompatJournal  = 0x8
	incompatMetaBG   = 0x10
	incompatExtents  = 0x40
	incompat64bit    = 0x80
	incompatMMP      = 0x100
	incompatFlexBG   = 0x200
	incompatEAInode  = 0x400
	incompatSeed     = 0x2000
	incompatLargeDir = 0x4000
	incompatInline   = 0x8000
	incompatEncrypt  = 0x10000
	incompatCasefold = 0x20000
	incompatKnown    = incompatFiletype | incompatRecover | incompatMetaBG | incompatExtents | incompat64bit | incompatMMP | incompatFlexBG |
		incompatEAInode | incompatSeed | incompatLargeDir | incompatInline | incompatEncrypt | incompatCasefold
	rocompatSums     = 0x400
	rocompatBigalloc = 0x200
)

// Flags of inodes.
const (
	flagEncrypted = 0x800
	flagIndex     = 0x1000
	flagExtents   = 0x80000
	flagEAInode   = 0x200000
	flagInline    = 0x10000000
)

// Ext4 is a file system, also ext2 and ext3, as its journal leaves it.
type Ext4 struct {
	ID    string // UUID in hexadecimal digits
	Label string
	disk  Disk
	block int64
	super []byte

	blocks    int64
	perGroup  uint32 // inodes
	inodes    uint32
	inodeSize int64
	descSize  int64
	incompat  uint32
	sums      bool
	seed      uint32
	replayed  map[int64]logged // blocks that the journal holds newer

	mu    sync.Mutex
	pages kept[[]byte] // of metadata, by block
	work  int64        // entries of structures that were looked at
}

// mostWork is how many entries of a file system's structures are looked at: one whose structures refer to each other has no end.
const mostWork = 1 << 30

func (fs *Ext4) worked(n int64) error {
	if fs.work += n; fs.work > mostWork {
		return damaged("its structures refer to each other without end")
	}
	return nil
}

// damaged is an error that says where.
func damaged(form string, args ...any) error {
	return fmt.Errorf("the file system is damaged: %s; repair it with fsck.ext4", fmt.Sprintf(form, args...))
}

// OpenExt4 opens the file system on a part of a disk.
func OpenExt4(d Disk) (*Ext4, error) {
	s := make([]byte, 1024)
	if err := readFull(d, s, 1024, "the superblock"); err != nil {
		return nil, err
	}
	fs := &Ext4{disk: d, super: s, ID: fmt.Sprintf("%x", s[104:120]), Label: string(bytes.TrimRight(s[120:136], "\x00")),
		inodes: le.Uint32(s[0:]), perGroup: le.Uint32(s[40:]), incompat: le.Uint32(s[96:]), inodeSize: 128, descSize: 32}
	rocompat, revision, shift := le.Uint32(s[100:]), le.Uint32(s[76:]), le.Uint32(s[24:])
	if revision == 0 {
		fs.incompat, rocompat = 0, 0
	} else {
		fs.inodeSize = int64(le.Uint16(s[88:]))
	}
	if shift > 6 {
		return nil, damaged("its blocks are of 2^%d bytes", shift+10)
	}
	fs.block = 1024 << shift
	fs.blocks = int64(le.Uint32(s[4:]))
	if fs.incompat&incompat64bit != 0 {
		fs.blocks |= int64(le.Uint32(s[336:])) << 32
		if fs.descSize = int64(le.Uint16(s[254:])); fs.descSize < 32 {
			fs.descSize = 32
		}
	}
	fs.sums = rocompat&rocompatSums != 0
	switch {
	case le.Uint16(s[56:]) != 0xef53:
		return nil, errors.New("there is no ext4")
	case fs.incompat&incompatJournal != 0:
		return nil, errors.New("it is the journal of another file system")
	case fs.incompat&^uint32(incompatKnown) != 0:
		return nil, fmt.Errorf("the file system has features (%#x) that are not known here", fs.incompat&^uint32(incompatKnown))
	case fs.inodeSize < 128 || fs.inodeSize > fs.block || fs.inodeSize&(fs.inodeSize-1) != 0:
		return nil, damaged("its inodes are of %d bytes", fs.inodeSize)
	case fs.descSize > fs.block || fs.descSize&(fs.descSize-1) != 0:
		return nil, damaged("its descriptors are of %d bytes", fs.descSize)
	case fs.perGroup == 0 || fs.inodes == 0 || le.Uint32(s[32:]) == 0:
		return nil, damaged("its groups hold nothing")
	case int64(fs.inodes)*fs.inodeSize > d.Size():
		return nil, damaged("it has %d inodes of %d bytes, more than there is room for", fs.inodes, fs.inodeSize)
	case fs.blocks <= 0 || fs.blocks > d.Size()/fs.block:
		return nil, damaged("it has %d blocks of %d bytes, and there is room for %d: it is cut short", fs.blocks, fs.block, d.Size()/fs.block)
	}
	if fs.sums {
		if crc(^uint32(0), s[:1020]) != le.Uint32(s[1020:]) {
			return nil, damaged("the checksum of its superblock is another one")
		}
		if fs.seed = le.Uint32(s[624:]); fs.incompat&incompatSeed == 0 {
			fs.seed = crc(^uint32(0), s[104:120])
		}
	}
	fs.pages.most = max(16, int(mostTables/fs.block))
	if fs.incompat&incompatRecover != 0 {
		if err := fs.replay(); err != nil {
			return nil, fmt.Errorf("its journal: %w", err)
		}
		// The journal may hold a newer superblock; what is read of it here does not change with a mount.
	}
	return fs, nil
}

// crc is CRC-32C as ext4 uses it: begun with a value, and not inverted at its end.
func crc(begin uint32, texts ...[]byte) uint32 {
	for _, text := range texts {
		begin = ^crc32.Update(^begin, castagnoli, text)
	}
	return begin
}

// read reads a block, from the journal if that holds it newer.
func (fs *Ext4) read(number int64, p []byte) error {
	if number <= 0 && fs.block > 1024 || number < 0 || number >= fs.blocks {
		return damaged("a block %d of %d", number, fs.blocks)
	}
	if l, ok := fs.replayed[number]; ok {
		if err := readFull(fs.disk, p, l.block*fs.block, "a block of the journal"); err != nil {
			return err
		}
		if l.escaped {
			be.PutUint32(p, jbdMagic)
		}
		return nil
	}
	return readFull(fs.disk, p, number*fs.block, "a block")
}

// meta is a block of metadata, which is remembered.
func (fs *Ext4) meta(number int64) ([]byte, error) {
	fs.mu.Lock()
	defer fs.mu.Unlock()
	return fs.pages.get(number, func() ([]byte, error) {
		p := make([]byte, fs.block)
		return p, fs.read(number, p)
	})
}

// inode is one, as it lies on the disk.
type inode struct {
	number uint32
	raw    []byte
}

func (n *inode) mode() uint32  { return uint32(le.Uint16(n.raw)) }
func (n *inode) flags() uint32 { return le.Uint32(n.raw[32:]) }
func (n *inode) uid() uint32 {
	return uint32(le.Uint16(n.raw[2:])) | uint32(le.Uint16(n.raw[120:]))<<16
}
func (n *inode) gid() uint32 {
	return uint32(le.Uint16(n.raw[24:])) | uint32(le.Uint16(n.raw[122:]))<<16
}
func (n *inode) links() uint32 { return uint32(le.Uint16(n.raw[26:])) }
func (n *inode) kind() uint32  { return n.mode() & 0xf000 }
func (n *inode) size() int64 {
	return int64(le.Uint32(n.raw[4:])) | int64(le.Uint32(n.raw[108:]))<<32
}

// extra is how many bytes of an inode beyond the first 128 have names.
func (n *inode) extra() int {
	if len(n.raw) <= 128 {
		return 0
	}
	return min(int(le.Uint16(n.raw[128:])), len(n.raw)-128)
}

// mtime is in seconds since 1970: beyond 2038 with two more bits.
func (n *inode) mtime() int64 {
	t := int64(int32(le.Uint32(n.raw[16:])))
	if n.extra() >= 12 {
		t += int64(le.Uint32(n.raw[136:])&3) << 32
	}
	return t
}

// inode reads one.
func (fs *Ext4) inode(number uint32) (*inode, error) {
	if number == 0 || number > fs.inodes {
		return nil, damaged("an inode %d of %d", number, fs.inodes)
	}
	group, i := int64((number-1)/fs.perGroup), int64((number-1)%fs.perGroup)
	table, err := fs.tableOf(group)
	if err != nil {
		return nil, err
	}
	at := i * fs.inodeSize
	b, err := fs.meta(table + at/fs.block)
	if err != nil {
		return nil, err
	}
	n := &inode{number, bytes.Clone(b[at%fs.block:][:fs.inodeSize])}
	if fs.sums && !fs.inodeSound(n) {
		return nil, damaged("the checksum of inode %d is another one", number)
	}
	return n, nil
}

// inodeSound says whether an inode has the checksum that it names.
func (fs *Ext4) inodeSound(n *inode) bool {
	b := bytes.Clone(n.raw)
	want := uint32(le.Uint16(b[124:]))
	clear(b[124:126])
	wide := n.extra() >= 4
	if wide {
		want |= uint32(le.Uint16(b[130:])) << 16
		clear(b[130:132])
	}
	sum := crc(fs.seed, le.AppendUint32(nil, n.number), n.raw[100:104], b)
	if !wide {
		sum &= 0xffff
	}
	return sum == want
}

// tableOf is the block where the inodes of a group begin.
func (fs *Ext4) tableOf(group int64) (int64, error) {
	perBlock := fs.block / fs.descSize
	first := int64(le.Uint32(fs.super[20:]))    // data block
	block := 1024/fs.block + 1 + group/perBlock // behind the superblock
	if meta := int64(le.Uint32(fs.super[260:])); fs.incompat&incompatMetaBG != 0 && group/perBlock >= meta {
		// In the first group of those that it describes, behind a copy of the superblock if there is one.
		begin := group / perBlock * perBlock
		block = first + begin*int64(le.Uint32(fs.super[32:]))
		if fs.hasSuper(begin) {
			block++
		}
		if begin == 0 && first == 0 && fs.block == 1024 {
			block++
		}
	}
	b, err := fs.meta(block)
	if err != nil {
		return 0, err
	}
	d := b[group%perBlock*fs.descSize:][:fs.descSize]
	table := int64(le.Uint32(d[8:]))
	if fs.descSize >= 64 {
		table |= int64(le.Uint32(d[40:])) << 32
	}
	return table, nil
}

// hasSuper says whether a group has a copy of the superblock.
func (fs *Ext4) hasSuper(group int64) bool {
	const sparse = 1
	if group <= 1 || le.Uint32(fs.super[100:])&sparse == 0 {
		return true
	}
	if le.Uint32(fs.super[92:])&0x200 != 0 { // sparse_super2
		return group == int64(le.Uint32(fs.super[588:])) || group == int64(le.Uint32(fs.super[592:]))
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < group {
			n *= base
		}
		if n == group {
			return true
		}
	}
	return false
}

// run is where part of a file lies, in blocks; at 0 for zeros.
type run struct{ logical, at, count int64 }

const mostRuns = 1 << 20 // of one file: more is nothing that a kernel wrote

// runs lists where a file's content lies, in order.
func (fs *Ext4) runs(n *inode) (list []run, err error) {
	if n.flags()&flagExtents != 0 {
		err = fs.extents(n.raw[40:100], -1, -1, &list, n)
	} else {
		err = fs.mapped(n, &list)
	}
	if err != nil {
		return nil, fmt.Errorf("inode %d: %w", n.number, err)
	}
	end := int64(0)
	for _, r := range list {
		if r.logical < end {
			return nil, fmt.Errorf("inode %d: %w", n.number, damaged("its extents overlap"))
		}
		end = r.logical + r.count
	}
	return list, nil
}

// extents reads a node of the tree of extents; depth and first block are those which it must have, -1 for any.
func (fs *Ext4) extents(b []byte, depth int, first int64, list *[]run, n *inode) error {
	if le.Uint16(b) != 0xf30a {
		return damaged("a node of its extents is none")
	}
	count, own := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	if own > 5 || (depth >= 0 && own != depth) || 12+12*count > len(b) {
		return damaged("a node of its extents has %d entries at depth %d", count, own)
	}
	if err := fs.worked(int64(count) + 1); err != nil {
		return err
	}
	for i := range count {
		e := b[12+12*i:]
		if i == 0 && first >= 0 && int64(le.Uint32(e)) != first {
			return damaged("a node of its extents begins elsewhere than it should")
		}
		if own == 0 {
			length, at := int64(le.Uint16(e[4:])), int64(le.Uint16(e[6:]))<<32|int64(le.Uint32(e[8:]))
			if length > 32768 { // not written yet: zeros
				length, at = length-32768, 0
			} else if at <= 0 || length == 0 || at+length > fs.blocks {
				return damaged("an extent of %d blocks at %d", length, at)
			}
			if *list = append(*list, run{int64(le.Uint32(e)), at, length}); len(*list) > mostRuns {
				return damaged("it has too many extents")
			}
			continue
		}
		child, err := fs.meta(int64(le.Uint16(e[8:]))<<32 | int64(le.Uint32(e[4:])))
		if err != nil {
			return err
		}
		if fs.sums {
			if end := 12 + 12*int(le.Uint16(child[4:])); end+4 > len(child) ||
				crc(fs.seed, le.AppendUint32(nil, n.number), n.raw[100:104], child[:end]) != le.Uint32(child[end:]) {
				return damaged("the checksum of a node of its extents is another one")
			}
		}
		if err := fs.extents(child, own-1, int64(le.Uint32(e)), list, n); err != nil {
			return err
		}
	}
	return nil
}

// mapped reads the block map of ext2 and ext3.
func (fs *Ext4) mapped(n *inode, list *[]run) error {
	last := (n.size() + fs.block - 1) / fs.block
	per := fs.block / 4
	add := func(logical, at int64) error {
		if at >= fs.blocks {
			return damaged("a block %d of %d", at, fs.blocks)
		}
		if k := len(*list) - 1; k >= 0 && (*list)[k].at+(*list)[k].count == at && (*list)[k].logical+(*list)[k].count == logical {
			(*list)[k].count++
			return nil
		}
		if *list = append(*list, run{logical, at, 1}); len(*list) > mostRuns {
			return damaged("it has too many runs of blocks")
		}
		return nil
	}
	var below func(at, logical int64, level int) error
	below = func(at, logical int64, level int) error {
		if at == 0 || logical >= last {
			return nil
		}
		if level == 0 {
			return add(logical, at)
		}
		reach := int64(1)
		for range level - 1 {
			reach *= per
		}
		b, err := fs.meta(at)
		if err == nil {
			err = fs.worked(per)
		}
		if err != nil {
			return err
		}
		for i := range per {
			if err := below(int64(le.Uint32(b[4*i:])), logical+i*reach, level-1); err != nil {
				return err
			}
		}
		return nil
	}
	logical := int64(0)
	for i := range 15 {
		level := max(0, i-11)
		if err := below(int64(le.Uint32(n.raw[40+4*i:])), logical, level); err != nil {
			return err
		}
		reach := int64(1)
		for range level {
			reach *= per
		}
		logical += reach
	}
	return nil
}
