// Package inventory tells what a root file system holds, as its own records say: packages, users,
// groups, services that start, what listens. It reads files and knows nothing of images or layers.
package inventory

import (
	"bufio"
	"bytes"
	"maps"
	"path"
	"slices"
	"strings"
)

// Source is a tree of files.
type Source interface {
	// Read returns a file's content, nil if there is none; links are followed inside the tree.
	Read(path string) []byte
	// Names lists what lies below a folder, at any depth, by path.
	Names(dir string) []string
}

// Inventory is what a tree holds, by name.
type Inventory struct {
	Packages  map[string]string `json:"packages"`         // name -> version
	Users     map[string]string `json:"users"`            // name -> uid, gid, home, shell
	Groups    map[string]string `json:"groups"`           // name -> gid, members
	Services  map[string]string `json:"services"`         // unit or entry -> what starts it
	Listening map[string]string `json:"listening"`        // where -> what the configuration says
	Unread    string            `json:"unread,omitempty"` // path of a package database that could not be read
}

// Read takes the inventory of a tree.
func Read(s Source) *Inventory {
	found, unread := packages(s)
	return &Inventory{Packages: found, Unread: unread, Users: users(s.Read("etc/passwd")),
		Groups: groups(s.Read("etc/group")), Services: services(s), Listening: listening(s)}
}

// packages reads the databases of dpkg (deb-control(5), /var/lib/dpkg/status), apk (/lib/apk/db/installed) and RPM.
func packages(s Source) (found map[string]string, unread string) {
	found = map[string]string{}
	status := [][]byte{s.Read("var/lib/dpkg/status")}
	for _, name := range s.Names("var/lib/dpkg/status.d") {
		status = append(status, append(s.Read(name), '\n', '\n'))
	}
	for p := range paragraphs(bytes.Join(status, []byte("\n"))) {
		if name := p["Package"]; name != "" && (p["Status"] == "" || strings.HasSuffix(p["Status"], " installed")) {
			add(found, name, p["Version"])
		}
	}
	for p := range paragraphs(s.Read("lib/apk/db/installed")) {
		if name := p["P"]; name != "" {
			add(found, name, p["V"])
		}
	}
	return found, rpmPackages(s, found)
}

// add takes a package of which there may be one for each architecture, or several versions.
func add(found map[string]string, name, version string) {
	if had := found[name]; had != "" && had != version {
		version = had + ", " + version
	}
	found[name] = version
}

// paragraphs reads groups of lines KEY: VALUE with empty lines between.
func paragraphs(text []byte) func(yield func(map[string]string) bool) {
	return func(yield func(map[string]string) bool) {
		in := bufio.NewScanner(bytes.NewReader(text))
		in.Buffer(make([]byte, 1<<16), 1<<24)
		fields := map[string]string{}
		for in.Scan() {
			if in.Text() == "" {
				if !yield(fields) {
					return
				}
				fields = map[string]string{}
			} else if key, value, ok := strings.Cut(in.Text(), ":"); ok && !strings.HasPrefix(key, " ") {
				fields[key] = strings.TrimSpace(value)
			}
		}
		yield(fields)
	}
}

// services lists units that a target wants (systemd.unit(5)), entries of /etc/inittab and runlevels.
func services(s Source) map[string]string {
	found := map[string]string{}
	for _, dir := range []string{"etc/systemd/system", "usr/lib/systemd/system", "lib/systemd/system"} {
		for _, name := range s.Names(dir) {
			if target := path.Base(path.Dir(name)); strings.HasSuffix(target, ".wants") || strings.HasSuffix(target, ".requires") {
				found[path.Base(name)] = strings.TrimSuffix(strings.TrimSuffix(target, ".wants"), ".requires")
			}
		}
	}
	for _, name := range s.Names("etc/runlevels") {
		found[path.Base(name)] = "runlevel " + path.Base(path.Dir(name))
	}
	for line := range strings.Lines(string(s.Read("etc/inittab"))) {
		line = strings.TrimSpace(line)
		if parts := strings.SplitN(line, ":", 4); len(parts) == 4 && !strings.HasPrefix(line, "#") && parts[3] != "" {
			found[parts[3]] = "inittab " + parts[2]
		}
	}
	return found
}

// listening lists what configuration files say about addresses and ports: sshd_config(5) and
// systemd.socket(5).
func listening(s Source) map[string]string {
	found := map[string]string{}
	files := append([]string{"etc/ssh/sshd_config"}, s.Names("etc/ssh/sshd_config.d")...)
	for _, dir := range []string{"etc/systemd/system", "usr/lib/systemd/system", "lib/systemd/system"} {
		files = append(files, s.Names(dir)...)
	}
	for _, name := range files {
		socket := strings.HasSuffix(name, ".socket") && !strings.HasSuffix(path.Dir(name), ".wants")
		if !socket && !strings.HasPrefix(name, "etc/ssh/") {
			continue
		}
		var lines []string
		for line := range strings.Lines(string(s.Read(name))) {
			line = strings.TrimSpace(line)
			word, _, _ := strings.Cut(strings.Replace(line, "=", " ", 1), " ")
			if (socket && strings.HasPrefix(word, "Listen")) ||
				(!socket && slices.Contains([]string{"port", "listenaddress"}, strings.ToLower(word))) {
				lines = append(lines, line)
			}
		}
		if len(lines) > 0 {
			found["/"+name] = strings.Join(lines, ", ")
		}
	}
	return found
}

// Change is one name that differs between two inventories.
type Change struct {
	Name string `json:"name"`
	Was  string `json:"was,omitempty"`
	Now  string `json:"now,omitempty"`
	// State is added, removed or changed.
	State string `json:"state"`
}

// Diff lists what differs between two parts of inventories, by name.
func Diff(was, now map[string]string) []Change {
	list := []Change{}
	names := slices.Concat(slices.Collect(maps.Keys(was)), slices.Collect(maps.Keys(now)))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		old, had := was[name]
		value, has := now[name]
		c := Change{Name: name, Was: old, Now: value, State: "changed"}
		switch {
		case !had:
			c.State = "added"
		case !has:
			c.State = "removed"
		case old == value:
			continue
		}
		list = append(list, c)
	}
	return list
}
