package disk

import (
	"maps"
	"slices"
	"strings"
)

// Name spaces of extended attributes and their numbers on disk.
var attrPrefixes = []struct {
	prefix string
	index  byte
}{{"user.", 1}, {"system.posix_acl_access", 2}, {"system.posix_acl_default", 3}, {"trusted.", 4}, {"security.", 6}, {"system.", 7}}

// attributeBlock is the block with a file's extended attributes, nil if it has none; false if
// they are more than one block holds.
func attributeBlock(xattrs map[string][]byte) ([]byte, bool) {
	if len(xattrs) == 0 {
		return nil, true
	}
	type attr struct {
		index byte
		name  string
		value []byte
	}
	var list []attr
	for _, full := range slices.Sorted(maps.Keys(xattrs)) {
		for _, p := range attrPrefixes {
			if name, ok := strings.CutPrefix(full, p.prefix); ok {
				value := xattrs[full]
				if p.index == 2 || p.index == 3 {
					value = diskACL(value)
				}
				list = append(list, attr{p.index, name, value})
				break
			}
		}
	}
	slices.SortFunc(list, func(a, b attr) int {
		if a.index != b.index {
			return int(a.index) - int(b.index)
		}
		if len(a.name) != len(b.name) {
			return len(a.name) - len(b.name)
		}
		return strings.Compare(a.name, b.name)
	})
	block := make([]byte, blockSize)
	at, end := 32, blockSize
	blockHash := uint32(0)
	for _, a := range list {
		size := (16 + len(a.name) + 3) / 4 * 4
		padded := (len(a.value) + 3) / 4 * 4
		if at+size+4 > end-padded {
			return nil, false
		}
		end -= padded
		copy(block[end:], a.value)
		e := block[at:]
		e[0], e[1] = byte(len(a.name)), a.index
		le.PutUint16(e[2:], uint16(end))
		le.PutUint32(e[8:], uint32(len(a.value)))
		hash := attrHash(a.name, block[end:end+padded])
		le.PutUint32(e[12:], hash)
		copy(e[16:], a.name)
		blockHash = blockHash<<16 ^ blockHash>>16 ^ hash
		at += size
	}
	if at == 32 {
		return nil, true
	}
	le.PutUint32(block[0:], attrMagic)
	le.PutUint32(block[4:], 1) // references
	le.PutUint32(block[8:], 1) // blocks
	le.PutUint32(block[12:], blockHash)
	return block, true
}

func attrHash(name string, padded []byte) (hash uint32) {
	for _, c := range []byte(name) {
		hash = hash<<5 ^ hash>>27 ^ uint32(c)
	}
	for ; len(padded) > 0; padded = padded[4:] {
		hash = hash<<16 ^ hash>>16 ^ le.Uint32(padded)
	}
	return hash
}

// diskACL turns a POSIX ACL from the form of extended attributes (version 2, 8 bytes an entry)
// into ext4's (version 1, 8 bytes with an id, else 4).
func diskACL(value []byte) []byte {
	out := le.AppendUint32(nil, 1)
	for i := 4; i+8 <= len(value); i += 8 {
		e := value[i : i+8]
		if tag := le.Uint16(e); tag == 0x02 || tag == 0x08 { // a named user or group
			out = append(out, e...)
		} else {
			out = append(out, e[:4]...)
		}
	}
	return out
}
