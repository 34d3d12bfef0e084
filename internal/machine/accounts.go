package machine

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// account is a user of the tree (passwd(5), group(5)).
type account struct {
	name, home string
	uid, gid   uint32
	groups     []uint32
}

// lookUp finds a user of the tree by name or number; "" is root.
func lookUp(name string) (account, error) {
	if name == "" || name == "root" || name == "0" {
		return account{name: "root", home: "/root"}, nil
	}
	a := account{name: name, home: "/"}
	found := false
	err := eachRecord("/etc/passwd", func(f []string) bool {
		if len(f) < 6 || (f[0] != name && f[2] != name) {
			return false
		}
		uid, err1 := strconv.ParseUint(f[2], 10, 32)
		gid, err2 := strconv.ParseUint(f[3], 10, 32)
		found = err1 == nil && err2 == nil
		a.name, a.uid, a.gid, a.home = f[0], uint32(uid), uint32(gid), f[5]
		return found
	})
	if !found {
		id, parse := strconv.ParseUint(name, 10, 32)
		if parse != nil {
			return a, fmt.Errorf("user %q is not in the image's /etc/passwd; add it in an earlier stage", name)
		}
		a.uid, a.gid = uint32(id), uint32(id)
		return a, nil
	}
	if err != nil {
		return a, err
	}
	a.groups = []uint32{a.gid}
	err = eachRecord("/etc/group", func(f []string) bool {
		if len(f) >= 4 && slices.Contains(strings.Split(f[3], ","), a.name) {
			if gid, err := strconv.ParseUint(f[2], 10, 32); err == nil {
				a.groups = append(a.groups, uint32(gid))
			}
		}
		return false
	})
	return a, err
}

// owner resolves USER or USER:GROUP against the tree; "" is root:root.
func owner(text string) (uid, gid int, err error) {
	if text == "" {
		return 0, 0, nil
	}
	user, group, both := strings.Cut(text, ":")
	a, err := lookUp(user)
	if err != nil {
		return 0, 0, err
	}
	if !both {
		return int(a.uid), int(a.gid), nil
	}
	if id, err := strconv.ParseUint(group, 10, 32); err == nil {
		return int(a.uid), int(id), nil
	}
	found := group == "root"
	err = eachRecord("/etc/group", func(f []string) bool {
		if len(f) < 3 || f[0] != group {
			return false
		}
		gid, err = strconv.Atoi(f[2])
		found = err == nil
		return found
	})
	if !found {
		return 0, 0, fmt.Errorf("group %q is not in the image's /etc/group; add it in an earlier stage", group)
	}
	return int(a.uid), gid, err
}

// eachRecord calls take with the fields of each line until it returns true. A missing file has no lines.
func eachRecord(file string, take func(fields []string) bool) error {
	f, err := os.OpenFile(file, os.O_RDONLY|unix.O_NONBLOCK, 0) // a script may have made it a pipe
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return fmt.Errorf("%s of the image is no file", file)
	}
	in := bufio.NewScanner(f)
	for in.Scan() {
		if take(strings.Split(in.Text(), ":")) {
			return nil
		}
	}
	return in.Err()
}
