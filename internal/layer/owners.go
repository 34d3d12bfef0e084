package layer

import (
	"encoding/binary"
	"slices"
)

// Owners tells how user and group ids of a tree stand on disk: id n of the tree is
// id First+n there. With Count 1 only id 0 can be held; every other owner stands in
// the index alone.
type Owners struct {
	First uint32 `json:"first"`
	Count uint32 `json:"count"`
}

// Disk is the id on disk for a tree's id; false if it cannot be held.
func (o Owners) Disk(id uint32) (uint32, bool) {
	if id >= o.Count {
		return o.First, false
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

// Tags of POSIX ACL entries that carry an id (Linux, include/uapi/linux/posix_acl.h).
const (
	aclUser  = 0x02
	aclGroup = 0x08
)

// shiftACL rewrites the ids in a system.posix_acl_* attribute
// (Linux, include/uapi/linux/posix_acl_xattr.h: 4 bytes version, then tag, perm, id).
func shiftACL(value []byte, shift func(uint32) uint32) []byte {
	out := slices.Clone(value)
	for i := 4; i+8 <= len(out); i += 8 {
		tag := binary.LittleEndian.Uint16(out[i:])
		if tag == aclUser || tag == aclGroup {
			id := binary.LittleEndian.Uint32(out[i+4:])
			binary.LittleEndian.PutUint32(out[i+4:], shift(id))
		}
	}
	return out
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
