package inventory

import (
	"strconv"
	"strings"
)

// Account is a line of passwd(5).
type Account struct {
	Name, Home, Shell string
	UID, GID          uint32
}

// Accounts reads the lines of passwd(5) that count, as glibc's fgetpwent(3) does: the fields behind the group may be missing, and the
// shell is all that is left of the line. Of several of one name the first counts.
func Accounts(text []byte) (list []Account) {
	for f := range records(text, 7) {
		if len(f) < 4 {
			continue
		}
		uid, ok1 := number(f[2])
		gid, ok2 := number(f[3])
		if !ok1 || !ok2 {
			continue
		}
		f = append(f, "", "", "")
		list = append(list, Account{Name: f[0], UID: uid, GID: gid, Home: f[5], Shell: f[6]})
	}
	return list
}

// Group is a line of group(5).
type Group struct {
	Name    string
	ID      uint32
	Members []string
}

// Groups reads the lines of group(5) that count, as glibc's fgetgrent(3) does. Of several of one name the first counts.
func Groups(text []byte) (list []Group) {
	for f := range records(text, 4) {
		if len(f) < 3 {
			continue
		}
		id, ok := number(f[2])
		if !ok {
			continue
		}
		g := Group{Name: f[0], ID: id}
		if len(f) > 3 {
			for m := range strings.SplitSeq(f[3], ",") {
				if m = strings.TrimLeft(m, " \t"); m != "" {
					g.Members = append(g.Members, m)
				}
			}
		}
		list = append(list, g)
	}
	return list
}

// records reads lines of at most so many fields with colons between; the last one is the rest of the line.
func records(text []byte, fields int) func(yield func([]string) bool) {
	return func(yield func([]string) bool) {
		for line := range strings.Lines(string(text)) {
			line = strings.TrimLeft(strings.TrimRight(line, "\n"), " \t\r\v\f")
			if line == "" || line[0] == '#' || line[0] == '+' || line[0] == '-' {
				continue
			}
			if !yield(strings.SplitN(line, ":", fields)) {
				return
			}
		}
	}
}

// number is a user or group id as strtoul(3) reads it.
func number(text string) (uint32, bool) {
	n, err := strconv.ParseUint(strings.TrimPrefix(strings.TrimLeft(text, " \t"), "+"), 10, 32)
	return uint32(n), err == nil
}

// users and groups are what counts of passwd(5) and group(5), by name.
func users(text []byte) map[string]string {
	found := map[string]string{}
	for _, a := range Accounts(text) {
		if _, had := found[a.Name]; !had {
			found[a.Name] = strings.TrimSpace(strings.Join([]string{strconv.Itoa(int(a.UID)), strconv.Itoa(int(a.GID)), a.Home, a.Shell}, " "))
		}
	}
	return found
}

func groups(text []byte) map[string]string {
	found := map[string]string{}
	for _, g := range Groups(text) {
		if _, had := found[g.Name]; !had {
			found[g.Name] = strings.TrimSpace(strconv.Itoa(int(g.ID)) + " " + strings.Join(g.Members, ","))
		}
	}
	return found
}
