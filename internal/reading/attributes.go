package reading

import (
	"bytes"
	"io"
)

// Prefixes of names of extended attributes, by their number (Linux, fs/ext4/xattr.h).
var prefixes = map[byte]string{0: "", 1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default", 4: "trusted.",
	6: "security.", 7: "system."}

const attributeMagic = 0xea020000

// attributes reads an inode's extended attributes: those in it, and those in a block of their own.
func (fs *Ext4) attributes(n *inode) (map[string][]byte, error) {
	found := map[string][]byte{}
	if at := 128 + n.extra(); at+4 <= len(n.raw) && n.extra() > 0 && le.Uint32(n.raw[at:]) == attributeMagic {
		if err := fs.entries(n.raw[at+4:], n.raw[at+4:], found); err != nil {
			return nil, err
		}
	}
	block := int64(le.Uint32(n.raw[104:]))
	if fs.incompat&incompat64bit != 0 {
		block |= int64(le.Uint16(n.raw[118:])) << 32
	}
	if block != 0 {
		b, err := fs.meta(block)
		if err != nil {
			return nil, err
		}
		if le.Uint32(b) != attributeMagic {
			return nil, damaged("the block of its attributes is none")
		}
		if err := fs.entries(b[32:], b, found); err != nil {
			return nil, err
		}
	}
	delete(found, "system.data") // what an inode holds of its own content
	return found, nil
}

// entries reads attributes whose values lie in a text.
func (fs *Ext4) entries(b, values []byte, found map[string][]byte) error {
	lowest := len(values) // where a value lies
	for len(b) >= 4 && le.Uint32(b) != 0 {
		if len(b) < 16 {
			return damaged("an attribute is cut short")
		}
		length, index, offset, inum, size := int(b[0]), b[1], int(le.Uint16(b[2:])), le.Uint32(b[4:]), int(le.Uint32(b[8:]))
		prefix, known := prefixes[index]
		if 16+length > len(b) || size > 1<<16 || size < 0 {
			return damaged("an attribute has a name of %d bytes, a value of %d", length, size)
		}
		name := prefix + string(b[16:16+length])
		var value []byte
		switch {
		case inum != 0:
			n, err := fs.inode(inum)
			if err != nil {
				return err
			}
			if n.flags()&flagEAInode == 0 || n.size() != int64(size) {
				return damaged("the value of an attribute is none")
			}
			r, err := fs.open(n)
			if err != nil {
				return err
			}
			if value, err = io.ReadAll(r); err != nil {
				return err
			}
		case offset > len(values) || size > len(values)-offset:
			return damaged("the value of an attribute lies outside")
		default:
			value = bytes.Clone(values[offset : offset+size])
			if size > 0 {
				lowest = min(lowest, offset)
			}
		}
		if index == 2 || index == 3 {
			var err error
			if value, err = plainACL(value); err != nil {
				return err
			}
		}
		if known {
			found[name] = value
		}
		if (16+length+3)/4*4 > len(b) {
			break
		}
		b = b[(16+length+3)/4*4:]
	}
	if len(values)-len(b)+4 > lowest {
		return damaged("the values of attributes lie over their names")
	}
	return nil
}

// plainACL turns an ACL of ext4's form (version 1) into that of extended attributes (version 2, 8 bytes an entry).
func plainACL(value []byte) ([]byte, error) {
	if len(value) < 4 || le.Uint32(value) != 1 {
		return nil, damaged("an ACL is none")
	}
	out := le.AppendUint32(nil, 2)
	for b := value[4:]; len(b) > 0; {
		if len(b) < 4 {
			return nil, damaged("an ACL is cut short")
		}
		out = append(out, b[:4]...)
		if tag := le.Uint16(b); tag == 0x02 || tag == 0x08 { // a named user or group
			if len(b) < 8 {
				return nil, damaged("an ACL is cut short")
			}
			out, b = append(out, b[4:8]...), b[8:]
		} else {
			out, b = le.AppendUint32(out, 1<<32-1), b[4:]
		}
	}
	return out, nil
}

// inline is content that lies in the inode: 60 bytes, and what an attribute holds.
func (fs *Ext4) inline(n *inode) ([]byte, error) {
	text := bytes.Clone(n.raw[40:100])
	at := 128 + n.extra()
	if at+4 > len(n.raw) || n.extra() == 0 || le.Uint32(n.raw[at:]) != attributeMagic {
		return nil, damaged("inode %d is to hold its content, and has no room for it", n.number)
	}
	found := map[string][]byte{}
	if err := fs.entries(n.raw[at+4:], n.raw[at+4:], found); err != nil {
		return nil, err
	}
	return append(text, found["system.data"]...), nil
}
