package inventory

import (
	"path"
	"slices"
	"strings"
)

// Linked is a tree whose links can be read too.
type Linked interface {
	Source
	// Link returns where a symbolic link leads, "" for what is none; links above it are followed.
	Link(path string) string
}

// unitDirs are where systemd looks for units, the first it finds counts (systemd.unit(5), Unit File Load Path).
var unitDirs = []string{"etc/systemd/system", "usr/local/lib/systemd/system", "usr/lib/systemd/system", "lib/systemd/system"}

// Units is what starts at boot under systemd.
type Units struct {
	tree   Linked
	starts map[string]bool
	below  map[string][]string // what lies in each folder of units
}

// ReadUnits follows what default.target pulls in. ok is false for a tree without systemd.
func ReadUnits(tree Linked) (u *Units, ok bool) {
	u = &Units{tree: tree, starts: map[string]bool{}, below: map[string][]string{}}
	for _, dir := range unitDirs {
		for _, name := range tree.Names(dir) { // once: it looks through all of the tree
			u.below[path.Dir(name)] = append(u.below[path.Dir(name)], name)
		}
	}
	first := "default.target"
	if u.find(first) == "" {
		if first = "multi-user.target"; u.find(first) == "" {
			return nil, false
		}
	}
	for list := []string{first}; len(list) > 0; {
		name := list[0]
		list = list[1:]
		if name = u.named(name); name == "" || u.starts[name] {
			continue
		}
		u.starts[name] = true
		list = append(list, u.pulled(name)...)
	}
	return u, true
}

// Starts reports whether a unit starts at boot: something that starts pulls it in, it is there, and nobody masked it.
func (u *Units) Starts(name string) bool {
	if !strings.Contains(name, ".") {
		name += ".service"
	}
	return u.starts[u.named(name)]
}

// There reports whether a unit file of some name is there, masked or not.
func (u *Units) There(name string) bool { return u.find(name) != "" }

// find is the path of a unit's file, "" if there is none; an instance has that of its template.
func (u *Units) find(name string) string {
	names := []string{name}
	if at := strings.Index(name, "@"); at > 0 {
		names = append(names, name[:at+1]+path.Ext(name))
	}
	for _, name := range names {
		for _, dir := range unitDirs {
			file := path.Join(dir, name)
			if u.tree.Link(file) != "" || u.tree.Read(file) != nil {
				return file
			}
		}
	}
	return ""
}

// named is a unit's own name, if it was given an alias; "" for one that is masked or not there.
func (u *Units) named(name string) string {
	for range 8 { // an alias may be that of another one
		file := u.find(name)
		if file == "" {
			return ""
		}
		to := u.tree.Link(file)
		if to == "" {
			if len(u.tree.Read(file)) == 0 {
				return "" // an empty file masks too
			}
			return name
		}
		if path.Clean(to) == "/dev/null" {
			return ""
		}
		next := path.Base(to)
		if next == name || strings.HasPrefix(next, strings.SplitN(name, "@", 2)[0]+"@") {
			if u.tree.Read(file) == nil {
				return "" // it leads nowhere
			}
			return name
		}
		name = next
	}
	return ""
}

// pulled are the units that one pulls in: by its own words and by links in folders beside it.
func (u *Units) pulled(name string) (list []string) {
	names := []string{name}
	if at := strings.Index(name, "@"); at > 0 {
		names = append(names, name[:at+1]+path.Ext(name))
	}
	instance := strings.TrimSuffix(name[strings.Index(name, "@")+1:], path.Ext(name))
	words := func(file string) {
		for line := range strings.Lines(string(u.tree.Read(file))) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
			if slices.Contains([]string{"Wants", "Requires", "BindsTo", "Upholds"}, strings.TrimSpace(key)) {
				for _, w := range strings.Fields(value) {
					list = append(list, strings.NewReplacer("%i", instance, "%I", instance).Replace(w))
				}
			}
		}
	}
	words(u.find(name))
	for _, dir := range unitDirs {
		for _, name := range names {
			for _, kind := range []string{".wants", ".requires", ".upholds"} {
				for _, link := range u.below[path.Join(dir, name+kind)] {
					if path.Clean(u.tree.Link(link)) != "/dev/null" {
						list = append(list, path.Base(link))
					}
				}
			}
			for _, file := range u.below[path.Join(dir, name+".d")] {
				if path.Ext(file) == ".conf" {
					words(file)
				}
			}
		}
	}
	return list
}

// All lists the units that start whose names have an end, such as ".socket".
func (u *Units) All(end string) (list []string) {
	for name := range u.starts {
		if path.Ext(name) == end {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// Files are the files that make up a unit: its own and those beside it, in order.
func (u *Units) Files(name string) []string {
	list := []string{u.find(name)}
	for _, dir := range unitDirs {
		for _, file := range u.below[path.Join(dir, name+".d")] {
			if path.Ext(file) == ".conf" {
				list = append(list, file)
			}
		}
	}
	return list
}
