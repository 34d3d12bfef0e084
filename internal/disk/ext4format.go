package disk

import (
	"encoding/binary"
	"slices"
)

// Layout of ext4 (Linux, Documentation/filesystems/ext4; fs/ext4/ext4.h).
const (
	blockSize      = 4096
	perGroupBlocks = 8 * blockSize // one block of bitmap
	descSize       = 32
	inodeSize      = 256
	inodesPerBlock = blockSize / inodeSize
	extraSize      = 32    // of the inode beyond its first 128 bytes
	bytesPerInode  = 16384 // one inode for so many bytes of disk
	smallestMargin = 8 << 20
	stepDisk       = 256   // blocks: the smallest disk is a multiple of these
	steppedBlocks  = 16384 // a disk of so many blocks has
	stepInodes     = 256   // inodes in a group: a multiple of these
	stepBlocks     = 512   // content begins at a multiple of these
	inlineLink     = 60    // a link's target shorter than this lies in the inode
	longestExtent  = 32768

	rootInode    = 2
	journalInode = 8
	lostInode    = 11
	firstInode   = 12
	lostFound    = "lost+found"
	lostBlocks   = 4

	superMagic     = 0xEF53
	extentMagic    = 0xF30A
	attrMagic      = 0xEA020000
	journalMagic   = 0xC03B3998
	extentsFlag    = 0x80000
	treeInInode    = 4   // extents that fit the inode
	treeInBlock    = 340 // and a block
	mostLinks      = 65000
	firstTime      = -1 << 31                      // seconds since 1970
	lastTime       = 1<<34 - 1<<31 - 1             // 32 bits, and two more that count from there
	compatible     = 0x4 | 0x8 | 0x20              // has_journal, ext_attr, dir_index
	incompatible   = 0x2 | 0x40 | 0x200            // filetype, extent, flex_bg
	readonlyCompat = 0x1 | 0x2 | 0x8 | 0x20 | 0x40 // sparse_super, large_file, huge_file, dir_nlink, extra_isize
)

var le = binary.LittleEndian

type extent struct {
	logical, start uint32
	count          uint16
}

// treeBlock is a block of an extent tree: its entries are extents at depth 0, else other blocks.
type treeBlock struct {
	at      uint32
	logical uint32
	depth   uint16
	entries []byte
	count   int
}

// placeTree gives the extents that do not fit the inode their blocks, bottom up, until at most
// four entries remain for the inode.
func (fs *ext4) placeTree(n *node) {
	if len(n.extents) <= treeInInode {
		return
	}
	var level []treeBlock
	for part := range slices.Chunk(n.extents, treeInBlock) {
		level = append(level, treeBlock{logical: part[0].logical, entries: extentEntries(part), count: len(part)})
	}
	for depth := uint16(0); ; depth++ {
		for i := range level {
			level[i].at, _ = fs.run(1, true)
			level[i].depth = depth
			n.blocks++
			block := append(treeHeader(level[i].count, treeInBlock, depth), level[i].entries...)
			fs.chunks = append(fs.chunks, chunk{level[i].at, 1, writePadded(block)})
		}
		if len(level) <= treeInInode {
			n.tree = level
			return
		}
		var above []treeBlock
		for part := range slices.Chunk(level, treeInBlock) {
			above = append(above, treeBlock{logical: part[0].logical, entries: indexEntries(part), count: len(part)})
		}
		level = above
	}
}

func treeHeader(count, most int, depth uint16) []byte {
	b := le.AppendUint16(nil, extentMagic)
	b = le.AppendUint16(b, uint16(count))
	b = le.AppendUint16(b, uint16(most))
	b = le.AppendUint16(b, depth)
	return le.AppendUint32(b, 0)
}

func extentEntries(list []extent) (b []byte) {
	for _, e := range list {
		b = le.AppendUint32(b, e.logical)
		b = le.AppendUint16(b, e.count)
		b = le.AppendUint16(b, 0)
		b = le.AppendUint32(b, e.start)
	}
	return b
}

func indexEntries(list []treeBlock) (b []byte) {
	for _, t := range list {
		b = le.AppendUint32(b, t.logical)
		b = le.AppendUint32(b, t.at)
		b = le.AppendUint32(b, 0)
	}
	return b
}

// usedIn counts the blocks of a group that chunks use and sets their bits if bitmap is not nil.
func (fs *ext4) usedIn(g uint32, bitmap []byte) (used uint32) {
	first, end := g*perGroupBlocks, min((g+1)*perGroupBlocks, fs.blocks)
	i, _ := slices.BinarySearchFunc(fs.chunks, first, func(c chunk, at uint32) int {
		if c.start+c.count <= at {
			return -1
		}
		return 1
	})
	for ; i < len(fs.chunks) && fs.chunks[i].start < end; i++ {
		c := fs.chunks[i]
		from, to := max(c.start, first), min(c.start+c.count, end)
		used += to - from
		if bitmap != nil {
			setBits(bitmap, from-first, to-first)
		}
	}
	return used
}

func setBits(bitmap []byte, from, to uint32) {
	for ; from < to && from%8 != 0; from++ {
		bitmap[from/8] |= 1 << (from % 8)
	}
	for ; from+8 <= to; from += 8 {
		bitmap[from/8] = 0xff
	}
	for ; from < to; from++ {
		bitmap[from/8] |= 1 << (from % 8)
	}
}

func (fs *ext4) groupBlocks(g uint32) uint32 {
	return min(perGroupBlocks, fs.blocks-g*perGroupBlocks)
}

// lastInode is the highest inode in use; all below it are in use or reserved.
func (fs *ext4) lastInode() uint32 { return lostInode + uint32(len(fs.nodes)) - 1 }

func (fs *ext4) usedInodes(g uint32) uint32 {
	first := g * fs.perGroup
	return min(fs.perGroup, max(fs.lastInode(), first)-first)
}

func (fs *ext4) writeBlockMap(g uint32) writing {
	return func(out *ext4output) error {
		bitmap := make([]byte, blockSize)
		fs.usedIn(g, bitmap)
		setBits(bitmap, fs.groupBlocks(g), perGroupBlocks)
		_, err := out.Write(bitmap)
		return err
	}
}

func (fs *ext4) writeInodeMap(g uint32) writing {
	return func(out *ext4output) error {
		bitmap := make([]byte, blockSize)
		setBits(bitmap, 0, fs.usedInodes(g))
		setBits(bitmap, fs.perGroup, perGroupBlocks)
		_, err := out.Write(bitmap)
		return err
	}
}

func (fs *ext4) inode(number uint32) *node {
	switch {
	case number == rootInode:
		return fs.root
	case number == journalInode:
		return fs.journal
	case number >= lostInode && number <= fs.lastInode():
		return fs.nodes[number-lostInode]
	}
	return nil
}

func (fs *ext4) writeTable(g uint32) writing {
	return func(out *ext4output) error {
		used := (fs.usedInodes(g) + inodesPerBlock - 1) / inodesPerBlock
		for b := range used {
			block := make([]byte, blockSize)
			for i := range uint32(inodesPerBlock) {
				if n := fs.inode(g*fs.perGroup + b*inodesPerBlock + i + 1); n != nil {
					fs.encodeInode(block[i*inodeSize:(i+1)*inodeSize], n)
				}
			}
			if _, err := out.Write(block); err != nil {
				return err
			}
		}
		if rest := fs.perGroup/inodesPerBlock - used; rest > 0 {
			return out.Zero(int64(rest) * blockSize)
		}
		return nil
	}
}

func (fs *ext4) encodeInode(b []byte, n *node) {
	links := n.links
	if n.Mode&typeMask == typeDir && links > mostLinks {
		links = 1 // feature dir_nlink: not counted
	}
	le.PutUint16(b[0:], uint16(n.Mode))
	le.PutUint16(b[2:], uint16(n.UID))
	le.PutUint32(b[4:], uint32(n.Size))
	for _, at := range []int{8, 12, 16, 144} { // access, change, modification, creation
		le.PutUint32(b[at:], uint32(n.MTime))
	}
	for _, at := range []int{132, 136, 140, 148} { // their high bits
		le.PutUint32(b[at:], uint32((n.MTime-int64(int32(n.MTime)))>>32)&3)
	}
	le.PutUint16(b[24:], uint16(n.GID))
	le.PutUint16(b[26:], uint16(links))
	sectors := uint64(n.blocks) * (blockSize / 512)
	le.PutUint32(b[28:], uint32(sectors))
	le.PutUint16(b[116:], uint16(sectors>>32))
	le.PutUint32(b[104:], n.xattr)
	le.PutUint32(b[108:], uint32(n.Size>>32))
	le.PutUint16(b[120:], uint16(n.UID>>16))
	le.PutUint16(b[122:], uint16(n.GID>>16))
	le.PutUint16(b[128:], extraSize)
	switch n.Mode & typeMask {
	case typeChar, typeBlock:
		if n.Major < 256 && n.Minor < 256 {
			le.PutUint32(b[40:], n.Major<<8|n.Minor)
		} else {
			le.PutUint32(b[44:], n.Minor&0xff|n.Major<<8|(n.Minor&^0xff)<<12)
		}
		return
	case typeFifo:
		return
	case typeSymlink:
		if n.Size < inlineLink {
			copy(b[40:100], n.Link)
			return
		}
	}
	le.PutUint32(b[32:], extentsFlag)
	if n.tree != nil {
		copy(b[40:], append(treeHeader(len(n.tree), treeInInode, n.tree[0].depth+1), indexEntries(n.tree)...))
	} else {
		copy(b[40:], append(treeHeader(len(n.extents), treeInInode, 0), extentEntries(n.extents)...))
	}
}

var folderTypes = map[uint32]byte{typeFile: 1, typeDir: 2, typeChar: 3, typeBlock: 4, typeFifo: 5, typeSymlink: 7}

// folderSize is how many blocks folderBlocks makes.
func folderSize(n *node) uint32 {
	blocks, used := uint32(1), entrySize(".")+entrySize("..")
	for _, c := range n.children {
		size := entrySize(c.name)
		if used += size; used > blockSize {
			blocks, used = blocks+1, size
		}
	}
	if n.number == lostInode {
		return max(blocks, lostBlocks)
	}
	return blocks
}

func entrySize(name string) int { return (8 + len(name) + 3) / 4 * 4 }

// folderBlocks are a folder's entries as a list of blocks.
func (fs *ext4) folderBlocks(n *node) [][]byte {
	entries := append([]child{{".", n}, {"..", n.parent}}, n.children...)
	var blocks [][]byte
	var block []byte
	last := 0 // where the last entry of the block starts
	end := func() {
		if block != nil {
			le.PutUint16(block[last+4:], uint16(blockSize-last))
			blocks = append(blocks, append(block, make([]byte, blockSize-len(block))...))
			block = nil
		}
	}
	for _, e := range entries {
		size := entrySize(e.name)
		if len(block)+size > blockSize {
			end()
		}
		last = len(block)
		block = le.AppendUint32(block, e.node.number)
		block = le.AppendUint16(block, uint16(size))
		block = append(block, byte(len(e.name)), folderTypes[e.node.Mode&typeMask])
		block = append(block, e.name...)
		block = append(block, make([]byte, last+size-len(block))...)
	}
	end()
	if n.number == lostInode {
		for len(blocks) < lostBlocks {
			empty := make([]byte, blockSize)
			le.PutUint16(empty[4:], blockSize)
			blocks = append(blocks, empty)
		}
	}
	return blocks
}

func (fs *ext4) writeJournal(size uint32) writing {
	return func(out *ext4output) error {
		b := make([]byte, blockSize)
		be := binary.BigEndian
		be.PutUint32(b[0:], journalMagic)
		be.PutUint32(b[4:], 4) // superblock, version 2
		be.PutUint32(b[12:], blockSize)
		be.PutUint32(b[16:], size)
		be.PutUint32(b[20:], 1) // first block of the log
		be.PutUint32(b[24:], 1) // first commit expected
		copy(b[48:], fs.options.UUID[:])
		be.PutUint32(b[64:], 1) // users
		if _, err := out.Write(b); err != nil {
			return err
		}
		if rest := int64(fs.journal.extents[0].count) - 1; rest > 0 {
			return out.Zero(rest * blockSize)
		}
		return nil
	}
}

// writeSuper writes the superblock and the group descriptors, or group g's copy of them.
func (fs *ext4) writeSuper(g uint32) writing {
	return func(out *ext4output) error {
		b := make([]byte, (1+fs.gdtBlocks)*blockSize)
		free := uint32(0)
		for i := range fs.groups {
			d := b[blockSize+i*descSize:]
			freeHere := fs.groupBlocks(i) - fs.usedIn(i, nil)
			free += freeHere
			le.PutUint32(d[0:], fs.bitmaps[i])
			le.PutUint32(d[4:], fs.imaps[i])
			le.PutUint32(d[8:], fs.tables[i])
			le.PutUint16(d[12:], uint16(freeHere))
			le.PutUint16(d[14:], uint16(fs.perGroup-fs.usedInodes(i)))
			le.PutUint16(d[16:], fs.foldersIn(i))
		}
		super := b[:1024]
		if g == 0 {
			super = b[1024:2048]
		}
		fs.encodeSuper(super, g, free)
		_, err := out.Write(b)
		return err
	}
}

func (fs *ext4) foldersIn(g uint32) (count uint16) {
	for i := range fs.usedInodes(g) {
		if n := fs.inode(g*fs.perGroup + i + 1); n != nil && n.Mode&typeMask == typeDir {
			count++
		}
	}
	return count
}

func (fs *ext4) encodeSuper(b []byte, g, free uint32) {
	o := fs.options
	u32 := func(at int, v uint32) { le.PutUint32(b[at:], v) }
	u16 := func(at int, v uint16) { le.PutUint16(b[at:], v) }
	inodes := fs.perGroup * fs.groups
	u32(0, inodes)
	u32(4, fs.blocks)
	u32(12, free)
	u32(16, inodes-fs.lastInode())
	u32(24, 2) // block size 1024 << 2
	u32(28, 2)
	u32(32, perGroupBlocks)
	u32(36, perGroupBlocks)
	u32(40, fs.perGroup)
	u32(48, uint32(o.Epoch))
	u16(54, 0xffff) // no check after a number of mounts
	u16(56, superMagic)
	u16(58, 1) // clean
	u16(60, 1) // on errors continue
	u32(64, uint32(o.Epoch))
	u32(76, 1) // dynamic revision
	u32(84, lostInode)
	u16(88, inodeSize)
	u16(90, uint16(g))
	compat := uint32(compatible)
	if fs.journal == nil {
		compat &^= 0x4
	}
	u32(92, compat)
	u32(96, incompatible)
	u32(100, readonlyCompat)
	copy(b[104:120], o.UUID[:])
	copy(b[120:136], o.Label)
	copy(b[236:252], o.UUID[:]) // seed of folder hashes
	b[252] = 1                  // half MD4
	u32(256, 0x4|0x8)           // user attributes and ACLs on
	u32(264, uint32(o.Epoch))
	u16(348, extraSize)
	u16(350, extraSize)
	u32(352, 1) // hashes take characters as signed
	b[372] = 4  // 16 groups to a flexible group
	if fs.journal != nil {
		u32(224, journalInode)
		b[253] = 1 // what follows is a copy of the journal's inode
		inode := make([]byte, inodeSize)
		fs.encodeInode(inode, fs.journal)
		copy(b[268:328], inode[40:100])
		u32(328, uint32(fs.journal.Size>>32))
		u32(332, uint32(fs.journal.Size))
	}
}
