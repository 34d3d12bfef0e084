package layer

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Tags of POSIX ACL entries (Linux, include/uapi/linux/posix_acl.h). Those of a named user or group
// carry an id.
const (
	aclUserObj  = 0x01
	aclUser     = 0x02
	aclGroupObj = 0x04
	aclGroup    = 0x08
	aclMask     = 0x10
	aclOther    = 0x20
	aclNoID     = 0xffffffff
	aclVersion  = 2
)

const (
	accessACL  = "system.posix_acl_access"
	defaultACL = "system.posix_acl_default"
)

// Records of an archive that hold an ACL as text (star(4), "SCHILY.acl.access").
var aclRecords = map[string]string{"SCHILY.acl.access": accessACL, "SCHILY.acl.default": defaultACL}

var aclWords = []struct {
	tag  uint16
	word string
	who  bool // it names a user or group
}{{aclUserObj, "user", false}, {aclUser, "user", true}, {aclGroupObj, "group", false}, {aclGroup, "group", true},
	{aclMask, "mask", false}, {aclOther, "other", false}}

// eachACL calls take with each entry of a system.posix_acl_* attribute (Linux,
// include/uapi/linux/posix_acl_xattr.h: 4 bytes version, then 2 tag, 2 permissions, 4 id).
func eachACL(value []byte, take func(entry []byte, tag uint16)) {
	for i := 4; i+8 <= len(value); i += 8 {
		take(value[i:i+8], binary.LittleEndian.Uint16(value[i:]))
	}
}

// saysNoMore says whether an access ACL holds only what the mode says: the kernel keeps no such ACL.
func saysNoMore(value []byte) bool {
	more := false
	eachACL(value, func(_ []byte, tag uint16) { more = more || tag != aclUserObj && tag != aclGroupObj && tag != aclOther })
	return !more
}

// aclText is an ACL in words, with ids as numbers; "" if it is none.
func aclText(value []byte) string {
	var list []string
	eachACL(value, func(entry []byte, tag uint16) {
		perm, id := binary.LittleEndian.Uint16(entry[2:]), binary.LittleEndian.Uint32(entry[4:])
		for _, w := range aclWords {
			if w.tag != tag {
				continue
			}
			who := ""
			if w.who {
				who = strconv.FormatUint(uint64(id), 10)
			}
			may := []byte("---")
			for i, c := range []byte("rwx") {
				if perm&(4>>i) != 0 {
					may[i] = c
				}
			}
			list = append(list, w.word+":"+who+":"+string(may))
		}
	})
	return strings.Join(list, ",")
}

// parseACL reads an ACL in words. names finds the id of a user or group that is no number.
func parseACL(text string, names func(group bool, name string) (uint32, bool)) ([]byte, error) {
	type entry struct {
		tag, perm uint16
		id        uint32
	}
	var list []entry
	for _, line := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == '\n' }) {
		line, _, _ = strings.Cut(line, "#") // a comment: what is in force
		part := strings.Split(strings.TrimSpace(line), ":")
		if len(part) == 1 && part[0] == "" {
			continue
		}
		if len(part) < 3 {
			return nil, fmt.Errorf("%q is no entry of an ACL", line)
		}
		e := entry{id: aclNoID}
		for _, w := range aclWords {
			if (part[0] == w.word || part[0] == w.word[:1]) && (part[1] != "") == w.who {
				e.tag = w.tag
			}
		}
		if e.tag == 0 {
			return nil, fmt.Errorf("%q is no entry of an ACL", line)
		}
		for _, c := range part[2] {
			if i := strings.IndexRune("rwx", c); i >= 0 {
				e.perm |= 4 >> i
			}
		}
		if e.tag == aclUser || e.tag == aclGroup {
			number, err := strconv.ParseUint(part[len(part)-1], 10, 32) // a number may follow
			if len(part) < 4 || err != nil {
				number, err = strconv.ParseUint(part[1], 10, 32)
			}
			if e.id = uint32(number); err != nil {
				var known bool
				if e.id, known = names(e.tag == aclGroup, part[1]); !known {
					return nil, fmt.Errorf("its ACL names the %s %q, who is not in the archive's /etc/%s; make the archive with numeric ids", part[0],
						part[1],
						map[bool]string{false: "passwd", true: "group"}[e.tag == aclGroup])
				}
			}
		}
		list = append(list, e)
	}
	slices.SortStableFunc(list, func(a, b entry) int { return cmp.Or(cmp.Compare(a.tag, b.tag), cmp.Compare(a.id, b.id)) })
	out := binary.LittleEndian.AppendUint32(nil, aclVersion)
	for _, e := range list {
		out = binary.LittleEndian.AppendUint16(out, e.tag)
		out = binary.LittleEndian.AppendUint16(out, e.perm)
		out = binary.LittleEndian.AppendUint32(out, e.id)
	}
	return out, nil
}
