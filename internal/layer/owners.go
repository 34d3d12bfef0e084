package layer

import (
	"encoding/binary"
	"slices"
)

// Owners tells how user and group ids of a tree stand on disk: id n of the tree is id First+n
// there. The last id of the range stands for all that the range cannot hold, which stand in the
// index; nobody in a stage but its root can give a file to it. With Count 1 only id 0 exists, and
// stands for every other one too.
type Owners struct {
	First uint32 `json:"first"`
	Count uint32 `json:"count"`
}

const fullRange = 65536 // ids of a tree in full

// last is the highest id on disk, which stands for others.
func (o Owners) last() uint32 { return o.First + max(o.Count, 1) - 1 }

// Disk is the id on disk for a tree's id; false if it only stands for it.
func (o Owners) Disk(id uint32) (uint32, bool) {
	if o.Count == 1 {
		return o.First, id == 0
	}
	if id >= o.Count-1 {
		return o.last(), false
	}
	return o.First + id, true
}

// Tree is the tree's id for an id on disk. An id outside the range belongs to nobody
// in the tree and becomes 65534, which the kernel uses for the same purpose.
func (o Owners) Tree(disk uint32) uint32 {
	if disk >= o.First && disk-o.First < o.Count {
		return disk - o.First
	}
	return 65534
}

// Was is the tree's id for the id on disk of a file that belonged to was before: unless somebody
// gave it to another one, it still does.
func (o Owners) Was(disk, was uint32) uint32 {
	if had, _ := o.Disk(was); had == disk {
		return was
	}
	return o.Tree(disk)
}

// holds says whether the disk tells an entry's owners from all others.
func (o Owners) holds(e *Entry) bool {
	_, uid := o.Disk(e.UID)
	_, gid := o.Disk(e.GID)
	return uid && gid
}

// shiftACL rewrites the ids in a system.posix_acl_* attribute.
func shiftACL(value []byte, shift func(tag uint16, id uint32) uint32) []byte {
	out := slices.Clone(value)
	eachACL(out, func(entry []byte, tag uint16) {
		if tag == aclUser || tag == aclGroup {
			binary.LittleEndian.PutUint32(entry[4:], shift(tag, binary.LittleEndian.Uint32(entry[4:])))
		}
	})
	return out
}

// diskACL is an ACL with the ids that its own have on disk; false if the disk cannot tell them apart.
func (o Owners) diskACL(value []byte) (disk []byte, held bool) {
	held = true
	return shiftACL(value, func(_ uint16, id uint32) uint32 {
		d, ok := o.Disk(id)
		held = held && ok
		return d
	}), held
}

// treeACL is the reverse, for a file that had the ACL was before, nil if it had none. Ids that the
// range cannot hold are those that it had.
func (o Owners) treeACL(disk, was []byte) []byte {
	if had, _ := o.diskACL(was); slices.Equal(had, disk) {
		return was
	}
	others := map[uint16][]uint32{} // by tag, in order
	shiftACL(was, func(tag uint16, id uint32) uint32 {
		if _, held := o.Disk(id); !held {
			others[tag] = append(others[tag], id)
		}
		return id
	})
	return shiftACL(disk, func(tag uint16, id uint32) uint32 {
		if list := others[tag]; id == o.last() && len(list) > 0 {
			others[tag] = list[1:]
			return list[0]
		}
		return o.Tree(id)
	})
}

// Revisions of the security.capability attribute (Linux, include/uapi/linux/capability.h).
const (
	capRevision2 = 0x02000000
	capRevision3 = 0x03000000
	capRevisions = 0xff000000
)

// plainCapability turns a file capability that is bound to a user namespace (revision 3,
// 24 bytes, root id last) into the unbound form (revision 2, 20 bytes) that an image carries.
func plainCapability(value []byte) []byte {
	if len(value) != 24 {
		return value
	}
	magic := binary.LittleEndian.Uint32(value)
	if magic&capRevisions != capRevision3 {
		return value
	}
	out := slices.Clone(value[:20])
	binary.LittleEndian.PutUint32(out, capRevision2|magic&^uint32(capRevisions))
	return out
}

// boundCapability is the reverse: a capability that holds for the namespace whose root is the disk id given.
func boundCapability(value []byte, root uint32) []byte {
	if len(value) != 20 || root == 0 {
		return value
	}
	magic := binary.LittleEndian.Uint32(value)
	if magic&capRevisions != capRevision2 {
		return value
	}
	out := binary.LittleEndian.AppendUint32(slices.Clone(value), root)
	binary.LittleEndian.PutUint32(out, capRevision3|magic&^uint32(capRevisions))
	return out
}
