package disk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"sort"
)

// File is one name of the tree to write, in an order in which a folder precedes what it holds.
// The first is the root, with Path ".".
type File struct {
	Path   string
	Mode   uint32 // type and permission bits as in stat(2)
	UID    uint32
	GID    uint32
	MTime  int64 // seconds since 1970
	Size   int64 // bytes, regular files
	Link   string
	Same   string // for a further name of a file: its first name
	Major  uint32
	Minor  uint32
	Xattrs map[string][]byte
	Data   []Extent // what lies between holes, offsets multiples of 4096; nil without holes
	Source string   // file with the content
	Text   []byte   // the content itself, where there is no Source
	Layer  int      // what has a lower one lies before it, so that it stays where it is when later ones change
}

// Options of a file system.
type Options struct {
	Size  int64 // bytes; 0 for the smallest plus a margin
	Label string
	UUID  [16]byte // also seeds what other tools draw at random
	Epoch int64    // time of creation, seconds since 1970
	// Note is told, once for each matter, what the file system cannot hold as it is; nil for nobody.
	Note func(text string)
}

// File types as in stat(2).
const (
	typeMask    = 0o170000
	typeDir     = 0o040000
	typeFile    = 0o100000
	typeSymlink = 0o120000
	typeChar    = 0o020000
	typeBlock   = 0o060000
	typeFifo    = 0o010000
)

// SizeError says that a tree does not fit into the size asked for.
type SizeError struct{ Size, Needed int64 } // bytes

func (e *SizeError) Error() string {
	return fmt.Sprintf("the tree needs a disk of at least %d MiB and the size is %d MiB", (e.Needed+1<<20-1)>>20, e.Size>>20)
}

// Ext4 lays out an ext4 file system (Linux, Documentation/filesystems/ext4) that holds the files. The same files
// and options give the same bytes.
func Ext4(ctx context.Context, files []File, o Options) (Volume, error) {
	fs := &ext4{options: o}
	if err := fs.number(files); err != nil {
		return nil, err
	}
	return fs, fs.fit(ctx)
}

// node is an inode to be.
type node struct {
	*File
	number   uint32
	parent   *node
	links    int
	children []child
	extents  []extent
	tree     []treeBlock // blocks of the extent tree outside the inode
	blocks   uint32      // all blocks it uses
	xattr    uint32      // its attribute block, 0 if none
	folder   uint32      // blocks of a folder's entries, the same for every geometry
}

type child struct {
	name string
	node *node
}

// ext4 is a file system while it is planned and written.
type ext4 struct {
	options Options
	nodes   []*node // by inode number, from firstInode
	root    *node
	journal *node

	blocks    uint32
	groups    uint32
	perGroup  uint32 // inodes per group
	gdtBlocks uint32
	bitmaps   []uint32 // block bitmap of each group
	imaps     []uint32 // inode bitmap
	tables    []uint32 // inode table
	next      uint32   // first block not given out
	chunks    []chunk
	clamped   int // times that ext4 cannot hold
}

// chunk is a run of blocks in use and how its bytes come about; nil leaves zeros.
type chunk struct {
	start, count uint32
	write        writing // nil for zeros
}

// writing gives a chunk's bytes.
type writing func(out *ext4output) error

// number turns files into nodes with inode numbers, those of lower layers first.
func (fs *ext4) number(files []File) error {
	list := make([]*File, len(files))
	for i := range files {
		list[i] = fs.timely(&files[i])
	}
	if fs.clamped > 0 && fs.options.Note != nil {
		fs.options.Note(fmt.Sprintf("ext4 holds times from 1901-12-13 to 2446-05-10; those of %d files are at the nearest end of it", fs.clamped))
	}
	byPath := make(map[string]*node, len(files))
	lost := &node{File: &File{Path: lostFound, Mode: typeDir | 0o700, MTime: fs.options.Epoch}, number: lostInode, links: 2}
	fs.nodes = []*node{lost}
	inOrder := slices.Clone(list)
	slices.SortStableFunc(inOrder, func(a, b *File) int { return cmp.Compare(a.Layer, b.Layer) })
	for _, f := range inOrder {
		switch {
		case f.Path == ".":
			fs.root = &node{File: f, number: rootInode, links: 2}
			fs.root.parent, byPath["."] = fs.root, fs.root
		case f.Path == lostFound && f.Mode&typeMask != typeDir:
			return fmt.Errorf("/%s is no folder in the tree; ext4 keeps that name for the folder in which a check puts what it finds. Remove it "+
				"in a stage", lostFound)
		case f.Path == lostFound:
			lost.File = f
		case f.Same == "":
			n := &node{File: f, number: lostInode + uint32(len(fs.nodes)), links: 1}
			if n.number < lostInode {
				return errors.New("too many files")
			}
			fs.nodes = append(fs.nodes, n)
			byPath[f.Path] = n
		}
	}
	if fs.root == nil {
		return errors.New("the tree has no root")
	}
	for _, f := range list {
		if f.Path == "." || f.Path == lostFound {
			continue
		}
		if err := fs.attach(f, byPath); err != nil {
			return err
		}
	}
	lost.parent = fs.root
	fs.root.links++
	fs.root.children = append(fs.root.children, child{lostFound, lost})
	return nil
}

// timely is a file whose time can be held.
func (fs *ext4) timely(f *File) *File {
	if at := min(max(f.MTime, firstTime), lastTime); at != f.MTime {
		g := *f
		g.MTime, f = at, &g
		fs.clamped++
	}
	return f
}

// attach puts a file into its folder.
func (fs *ext4) attach(f *File, byPath map[string]*node) error {
	parent := byPath[path.Dir(f.Path)]
	if parent == nil || parent.Mode&typeMask != typeDir {
		return fmt.Errorf("%s is not in a folder", f.Path)
	}
	n := byPath[cmp.Or(f.Same, f.Path)]
	if n == nil {
		return fmt.Errorf("%s is a second name of %s, which is not there", f.Path, f.Same)
	}
	if f.Same != "" {
		if n.links++; n.links > mostLinks {
			return fmt.Errorf("%s has more than %d names; ext4 gives a file no more. Use copies or symbolic links for some of them", n.Path,
				mostLinks)
		}
	}
	if f.Mode&typeMask == typeDir {
		n.parent, n.links = parent, n.links+1
		parent.links++
	}
	parent.children = append(parent.children, child{path.Base(f.Path), n})
	return nil
}

// fit chooses the geometry: the size asked for, or the smallest with a margin.
func (fs *ext4) fit(ctx context.Context) error {
	if fs.options.Size > 0 {
		err := fs.layOut(ctx, uint64(fs.options.Size)/blockSize)
		var small *SizeError
		if errors.As(err, &small) {
			blocks, err := fs.smallest(ctx)
			if err != nil {
				return err
			}
			return &SizeError{Size: fs.options.Size, Needed: int64(blocks) * blockSize}
		}
		return err
	}
	used, err := fs.smallest(ctx)
	if err != nil {
		return err
	}
	blocks, step := used+max(used/10, smallestMargin/blockSize), uint64(stepDisk)
	for step*64 < blocks {
		step *= 2 // so that a tree that grows a little keeps its geometry
	}
	return fs.layOut(ctx, (blocks+step-1)/step*step)
}

// smallest is the least number of blocks that holds the tree, or a few more: a larger disk has
// larger tables and a larger journal, so the answer is found step by step.
func (fs *ext4) smallest(ctx context.Context) (uint64, error) {
	blocks := uint64(256)
	for {
		err := fs.layOut(ctx, blocks)
		var small *SizeError
		if !errors.As(err, &small) {
			return blocks, err
		}
		blocks = max(blocks+64, uint64(small.Needed)/blockSize)
	}
}

// layOut gives every structure and file its blocks. Everything lies in one run from the front,
// but for the copies of the superblock.
func (fs *ext4) layOut(ctx context.Context, blocks uint64) error {
	if blocks > 1<<32-1 {
		return fmt.Errorf("a size of %d MiB is more than this ext4 layout holds (16 TiB)", blocks>>8)
	}
	fs.blocks = uint32(blocks)
	fs.groups = (fs.blocks + perGroupBlocks - 1) / perGroupBlocks
	fs.gdtBlocks = (fs.groups*descSize + blockSize - 1) / blockSize
	if rest := fs.blocks % perGroupBlocks; fs.groups > 1 && rest > 0 && rest < fs.gdtBlocks+64 {
		fs.blocks -= rest // the last group would hardly hold its own copy of the superblock
		fs.groups--
	}
	inodes := max(uint64(fs.blocks)*blockSize/bytesPerInode, uint64(len(fs.nodes))*11/10+64)
	perGroup := (inodes + uint64(fs.groups) - 1) / uint64(max(fs.groups, 1))
	step := uint64(inodesPerBlock)
	if fs.blocks >= steppedBlocks {
		step = stepInodes
	}
	perGroup = (perGroup + step - 1) / step * step
	fs.chunks, fs.next = nil, 0
	if fs.groups == 0 || perGroup > perGroupBlocks {
		return &SizeError{Size: int64(blocks) * blockSize,
			Needed: int64(max(1, uint64(len(fs.nodes))/perGroupBlocks) * perGroupBlocks * blockSize)}
	}
	fs.perGroup = uint32(perGroup)
	fs.next = 1 + fs.gdtBlocks
	fs.chunks = append(fs.chunks, chunk{0, fs.next, fs.writeSuper(0)})
	fs.placeTables()
	fs.placeJournal()
	if fs.blocks >= steppedBlocks { // tables that grow a little move nothing
		fs.next = (fs.next + stepBlocks - 1) / stepBlocks * stepBlocks
	}
	for _, n := range append([]*node{fs.root}, fs.nodes...) {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := fs.place(n); err != nil {
			return err
		}
	}
	if fs.next > fs.blocks {
		return &SizeError{Size: int64(blocks) * blockSize, Needed: int64(fs.next) * blockSize}
	}
	for g := uint32(1); g < fs.groups; g++ {
		if hasBackup(g) {
			fs.chunks = append(fs.chunks, chunk{g * perGroupBlocks, 1 + fs.gdtBlocks, fs.writeSuper(g)})
		}
	}
	sort.SliceStable(fs.chunks, func(i, j int) bool { return fs.chunks[i].start < fs.chunks[j].start })
	return nil
}

// hasBackup says which groups carry a copy of the superblock (feature sparse_super):
// 0, 1 and powers of 3, 5 and 7.
func hasBackup(g uint32) bool {
	if g <= 1 {
		return true
	}
	for _, base := range []uint32{3, 5, 7} {
		p := base
		for p < g {
			p *= base
		}
		if p == g {
			return true
		}
	}
	return false
}

// run gives out one run of at most n blocks, or exactly n if whole; it steps over superblock copies.
func (fs *ext4) run(n uint32, whole bool) (start, count uint32) {
	for {
		g := fs.next / perGroupBlocks
		if at := fs.next - g*perGroupBlocks; hasBackup(g) && g > 0 && at < 1+fs.gdtBlocks {
			fs.next = g*perGroupBlocks + 1 + fs.gdtBlocks
			continue
		}
		end := (g + 1) * perGroupBlocks
		for !hasBackup(end / perGroupBlocks) {
			end += perGroupBlocks
		}
		if room := end - fs.next; room < n {
			if whole {
				fs.next = end
				continue
			}
			n = room
		}
		start = fs.next
		fs.next += n
		return start, n
	}
}

func (fs *ext4) placeTables() {
	fs.bitmaps, fs.imaps, fs.tables = make([]uint32, fs.groups), make([]uint32, fs.groups), make([]uint32, fs.groups)
	take := func(n uint32, write writing) uint32 {
		start, _ := fs.run(n, true)
		fs.chunks = append(fs.chunks, chunk{start, n, write})
		return start
	}
	for g := range fs.groups {
		fs.bitmaps[g] = take(1, fs.writeBlockMap(g))
	}
	for g := range fs.groups {
		fs.imaps[g] = take(1, fs.writeInodeMap(g))
	}
	for g := range fs.groups {
		fs.tables[g] = take(fs.perGroup/inodesPerBlock, fs.writeTable(g))
	}
}

// placeJournal reserves a journal of the size that is usual for the file system's size.
func (fs *ext4) placeJournal() {
	size := uint32(0)
	for _, step := range []struct{ from, blocks uint32 }{{2048, 1024}, {32768, 4096}, {262144, 8192}, {524288, 16384}} {
		if fs.blocks >= step.from {
			size = step.blocks
		}
	}
	fs.journal = nil
	if size == 0 {
		return
	}
	fs.journal = &node{File: &File{Mode: typeFile | 0o600, Size: int64(size) * blockSize, MTime: fs.options.Epoch}, number: journalInode,
		links: 1}
	first := true
	fs.allocate(fs.journal, 0, size, func(uint32, uint32) writing {
		if first {
			first = false
			return fs.writeJournal(size)
		}
		return nil
	})
	fs.placeTree(fs.journal)
}

// place gives a node blocks for its content, its extent tree and its attributes.
func (fs *ext4) place(n *node) error {
	n.extents, n.tree, n.blocks, n.xattr = nil, nil, 0, 0
	switch n.Mode & typeMask {
	case typeDir:
		if n.folder == 0 {
			n.folder = folderSize(n)
		}
		n.Size = int64(n.folder) * blockSize
		fs.allocate(n, 0, n.folder, func(from, count uint32) writing {
			return func(out *ext4output) error {
				for _, b := range fs.folderBlocks(n)[from : from+count] {
					if _, err := out.Write(b); err != nil {
						return err
					}
				}
				return nil
			}
		})
	case typeFile:
		data := n.Data
		if data == nil && n.Size > 0 {
			data = []Extent{{0, n.Size}}
		}
		for _, s := range data {
			fs.allocate(n, uint32(s.Offset/blockSize), uint32((s.Length+blockSize-1)/blockSize), func(from, count uint32) writing {
				return writeContent(n, s, from, count)
			})
		}
	case typeSymlink:
		n.Size = int64(len(n.Link))
		if n.Size >= inlineLink {
			fs.allocate(n, 0, 1, func(uint32, uint32) writing { return writePadded([]byte(n.Link)) })
		}
	}
	fs.placeTree(n)
	block, ok := attributeBlock(n.Xattrs)
	if !ok {
		return fmt.Errorf("%s has more extended attributes than ext4 holds (4 KiB for one file); remove some in a stage, or capture a tar, "+
			"which holds them", n.Path)
	}
	if block != nil {
		n.xattr, _ = fs.run(1, true)
		n.blocks++
		fs.chunks = append(fs.chunks, chunk{n.xattr, 1, writePadded(block)})
	}
	return nil
}

// allocate gives a node count blocks from its logical block on; content makes the writer for
// the blocks from-th to from+count-th of these.
func (fs *ext4) allocate(n *node, logical, count uint32, content func(from, count uint32) writing) {
	for from := uint32(0); from < count; {
		start, got := fs.run(min(count-from, longestExtent), false)
		n.extents = append(n.extents, extent{logical + from, start, uint16(got)})
		fs.chunks = append(fs.chunks, chunk{start, got, content(from, got)})
		from += got
		n.blocks += got
	}
}
