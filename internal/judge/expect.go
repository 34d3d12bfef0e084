package judge

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"zygos/internal/definition"
	"zygos/internal/inventory"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plain"
)

// Expectation is a kind of expectation: what it is about is the key of its name.
type Expectation struct {
	Name string
	// Read reads what a definition expects, and says it in words.
	Read func(v definition.Values) (settings any, text string)
	// Holds says what was found instead, "" if the expectation holds. It starts no process.
	Holds func(t *Tree, settings any) string
	// Booted does so in a booted machine; nil where the tree tells.
	Booted func(g *Guest, settings any) (found string, err error)
	// Runs does so of an expectation that needs a process.
	Runs func(run Run, settings any) (found string, err error)
}

// Run runs a command where a check judges, and returns how it failed and the last lines that it printed.
type Run func(command string) (*machine.StepError, []string, error)

// Table is the kinds, in the order in which they are told.
var Table = []Expectation{pathKind, packageKind, accountKind, startsKind, listensKind, runsKind, setuidKind, writableKind, sizeKind}

func find(name string) *Expectation {
	if i := slices.IndexFunc(Table, func(e Expectation) bool { return e.Name == name }); i >= 0 {
		return &Table[i]
	}
	return nil
}

// Forms are the kinds as definitions are read with them.
func Forms() definition.ExpectKinds {
	kinds := definition.ExpectKinds{Read: func(kind string, v definition.Values) (any, string) { return find(kind).Read(v) }}
	for _, e := range Table {
		kinds.Names = append(kinds.Names, e.Name)
	}
	return kinds
}

// Tree is what expectations are judged by.
type Tree struct {
	layer.Files
	once    sync.Once
	taken   *inventory.Inventory
	booting sync.Once
	units   *inventory.Units // see systemd
	booted  bool
}

// inventory is what the tree holds, by its own records.
func (t *Tree) inventory() *inventory.Inventory {
	t.once.Do(func() { t.taken = inventory.Read(&t.Files) })
	return t.taken
}

// node finds what lies at a path; links above it are followed, and not at its end.
func (t *Tree) node(name string) *layer.Node {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	if n := t.Tree.Lookup(cmp.Or(name, ".")); n != nil {
		return n
	}
	dir := t.Tree.Follow(path.Dir(name))
	if dir == nil {
		return nil
	}
	return t.Tree.Lookup(path.Join(dir.Path, path.Base(name)))
}

// names are the records of a file like /etc/passwd: a name for a number.
func (t *Tree) names(file string) map[string]string {
	found := map[string]string{}
	for line := range strings.Lines(string(t.Read(file))) {
		if parts := strings.Split(strings.TrimSpace(line), ":"); len(parts) > 2 && found[parts[2]] == "" {
			found[parts[2]] = parts[0]
		}
	}
	return found
}

// owner is who owns a node, as the tree knows them.
func (t *Tree) owner(n *layer.Node) string {
	uid, gid := strconv.Itoa(int(n.UID)), strconv.Itoa(int(n.GID))
	return cmp.Or(t.names("etc/passwd")[uid], uid) + ":" + cmp.Or(t.names("etc/group")[gid], gid)
}

type pathSettings struct {
	path, mode, owner, holds string
	absent                   bool
}

var pathKind = Expectation{Name: "path", Read: func(v definition.Values) (any, string) {
	p, at := v.Must("path", "/etc/hostname")
	s := pathSettings{path: p, mode: v.Text("mode"), owner: v.Text("owner"), holds: v.Text("holds"), absent: v.Bool("absent")}
	if p != "" && !path.IsAbs(p) {
		v.Problem(at, fmt.Sprintf("%q is no path in the image", p), "write the whole path, from '/'")
	}
	if _, err := strconv.ParseUint(s.mode, 8, 32); s.mode != "" && err != nil {
		v.Problem(v.At("mode"), fmt.Sprintf("%q is no mode", s.mode), `write octal digits, for instance "0640"`)
	}
	if s.absent && (s.mode != "" || s.owner != "" || s.holds != "") {
		v.Problem(v.At("absent"), "what is absent has no mode, owner or content", "take absent out, or the others")
	}
	text := p
	for _, more := range []string{s.mode, s.owner} {
		if more != "" {
			text += " " + more
		}
	}
	if s.holds != "" {
		text += fmt.Sprintf(" holds %q", s.holds)
	}
	if s.absent {
		text += " is absent"
	}
	return s, text
}, Holds: func(t *Tree, settings any) string {
	s := settings.(pathSettings)
	n := t.node(s.path)
	if n == nil {
		return s.found(machine.Seen{})
	}
	return s.found(machine.Seen{There: true, Mode: n.Mode, Owner: t.owner(n), IDs: fmt.Sprintf("%d:%d", n.UID, n.GID),
		Content: t.Read(strings.TrimPrefix(path.Clean(s.path), "/"))})
}, Booted: func(g *Guest, settings any) (string, error) {
	s := settings.(pathSettings)
	seen, err := g.Look(g.ctx, s.path)
	return s.found(seen), err
}}

// found is what lies at the path instead.
func (s pathSettings) found(n machine.Seen) string {
	if !n.There || s.absent {
		if !n.There == s.absent {
			return ""
		}
		return map[bool]string{true: "it is there", false: "it is not there"}[s.absent]
	}
	var wrong []string
	if mode, _ := strconv.ParseUint(s.mode, 8, 32); s.mode != "" && uint64(n.Mode&0o7777) != mode {
		wrong = append(wrong, fmt.Sprintf("its mode is %04o", n.Mode&0o7777))
	}
	if s.owner != "" && s.owner != n.Owner && s.owner != n.IDs {
		wrong = append(wrong, "its owner is "+n.Owner)
	}
	if s.holds != "" && !strings.Contains(string(n.Content), s.holds) {
		wrong = append(wrong, "its content does not hold that")
	}
	return strings.Join(wrong, ", ")
}

type packageSettings struct {
	name, relation, version string
	absent                  bool
}

var packageKind = Expectation{Name: "package", Read: func(v definition.Values) (any, string) {
	name, _ := v.Must("package", "openssh-server")
	s := packageSettings{name: name, absent: v.Bool("absent")}
	wanted := v.Text("version")
	if wanted != "" {
		relation, version, ok := strings.Cut(wanted, " ")
		if !ok || !slices.Contains([]string{"=", ">=", "<=", ">", "<"}, relation) {
			v.Problem(v.At("version"), fmt.Sprintf("%q compares with no version", wanted), `write for instance ">= 1:9.2"`)
		}
		s.relation, s.version = relation, strings.TrimSpace(version)
	}
	if s.absent {
		return s, fmt.Sprintf("package %s is absent", name)
	}
	return s, strings.TrimSpace(fmt.Sprintf("package %s %s", name, wanted))
}, Holds: func(t *Tree, settings any) string {
	s := settings.(packageSettings)
	have, there := t.inventory().Packages[s.name]
	switch {
	case t.inventory().Unread != "":
		return "the database of packages cannot be read: " + t.inventory().Unread
	case s.absent && there:
		return "it is there, " + have
	case s.absent || (there && s.version == ""):
		return ""
	case !there:
		return "it is not there"
	}
	c := t.compare(have, s.version)
	if (c == 0 && strings.Contains(s.relation, "=")) || (c > 0 && s.relation[0] == '>') || (c < 0 && s.relation[0] == '<') {
		return ""
	}
	return "it is " + have
}}

var startsKind = Expectation{Name: "starts", Read: func(v definition.Values) (any, string) {
	name, _ := v.Must("starts", "ssh")
	return name, name + " starts at boot"
}, Booted: func(g *Guest, settings any) (string, error) {
	name := plain.Shell(settings.(string))
	failed, said, err := g.run("if [ -d /run/systemd/system ]; then systemctl is-active -- " + name + "; else rc-service -- " + name +
		" status; fi")
	if failed == nil || err != nil {
		return "", err
	}
	return "it is " + cmp.Or(strings.Join(said, " "), failed.How()), nil
}, Holds: func(t *Tree, settings any) string {
	name := settings.(string)
	if t.starts(name) {
		return ""
	}
	if u, ok := t.systemd(); ok && u.There(withEnd(name)) {
		return "it is there, and nothing that starts at boot pulls it in, or it is masked"
	}
	return "nothing starts it"
}}

type listensSettings struct{ protocol, port string }

var listensKind = Expectation{Name: "listens", Read: func(v definition.Values) (any, string) {
	text, at := v.Must("listens", "tcp/22")
	protocol, port, _ := strings.Cut(text, "/")
	if n, err := strconv.Atoi(port); text != "" && (err != nil || n < 1 || n > 65535 || (protocol != "tcp" && protocol != "udp")) {
		v.Problem(at, fmt.Sprintf("%q is no port", text), `write for instance "tcp/22"`)
	}
	return listensSettings{protocol, port}, text + " is listened on"
}, Booted: func(g *Guest, settings any) (string, error) {
	s := settings.(listensSettings)
	var others []string
	for _, version := range []string{"", "6"} {
		table, err := g.Look(g.ctx, "/proc/net/"+s.protocol+version)
		if err != nil {
			return "", err
		}
		for _, port := range listening(s.protocol, string(table.Content)) {
			if port == s.port {
				return "", nil
			}
			if !slices.Contains(others, port) {
				others = append(others, port)
			}
		}
	}
	if len(others) == 0 {
		return "nothing listens on " + s.protocol, nil
	}
	return "the machine listens on " + s.protocol + " " + some(others), nil
}, Holds: func(t *Tree, settings any) string {
	s := settings.(listensSettings)
	if s.protocol == "tcp" && slices.Contains(t.sshd(), s.port) || slices.Contains(t.sockets(s.protocol), s.port) {
		return ""
	}
	return "no configuration of sshd or of a socket of systemd that starts names it"
}}

type runsSettings struct {
	command string
	prints  *regexp.Regexp
}

var runsKind = Expectation{Name: "runs", Read: func(v definition.Values) (any, string) {
	command, _ := v.Must("runs", "link --version")
	s := runsSettings{command: command}
	text := command + " runs"
	if form := v.Text("prints"); form != "" {
		var err error
		if s.prints, err = regexp.Compile("(?m)" + form); err != nil {
			v.Problem(v.At("prints"), fmt.Sprintf("%q is no regular expression: %v", form, err), "write one as Go's regexp package reads it")
		}
		text += fmt.Sprintf(" and prints %q", form)
	}
	return s, text
}, Runs: func(run Run, settings any) (string, error) {
	s := settings.(runsSettings)
	failed, said, err := run(s.command)
	switch {
	case err != nil:
		return "", err
	case failed != nil:
		return failed.How(), nil
	case s.prints != nil && !s.prints.MatchString(strings.Join(said, "\n")):
		return "it prints " + quote(said), nil
	}
	return "", nil
}}

// listed is an expectation that a list is exactly the one that is found.
func listed(name, text string, is func(*layer.Node) bool) Expectation {
	return Expectation{Name: name, Read: func(v definition.Values) (any, string) {
		list := v.Texts(name)
		slices.Sort(list)
		return list, fmt.Sprintf("%s: %s", text, cmp.Or(strings.Join(list, ", "), "none"))
	}, Holds: func(t *Tree, settings any) string {
		want := settings.([]string)
		var found, more, less []string
		for _, n := range t.Tree.Nodes() {
			if is(n) {
				found = append(found, "/"+n.Path)
			}
		}
		for _, name := range found {
			if !slices.Contains(want, name) {
				more = append(more, name)
			}
		}
		for _, name := range want {
			if !slices.Contains(found, name) {
				less = append(less, name)
			}
		}
		var wrong []string
		if len(more) > 0 {
			wrong = append(wrong, "there also is "+some(more))
		}
		if len(less) > 0 {
			wrong = append(wrong, "there is no "+some(less))
		}
		return strings.Join(wrong, "; ")
	}}
}

// some names the first of a list.
func some(list []string) string {
	const most = 5
	if len(list) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
	}
	return strings.Join(list, ", ")
}

var setuidKind = listed("setuid", "files with setuid", func(n *layer.Node) bool { return n.Kind == layer.File && n.Mode&0o4000 != 0 })

var writableKind = listed("writable_by_all", "writable by all", func(n *layer.Node) bool {
	sticky := n.Kind == layer.Dir && n.Mode&0o1000 != 0 // on a file it means nothing
	return (n.Kind == layer.File || n.Kind == layer.Dir) && n.Mode&0o002 != 0 && !sticky
})

var sizeKind = Expectation{Name: "size_at_most", Read: func(v definition.Values) (any, string) {
	text, _ := v.Must("size_at_most", "400MiB")
	size, what, do := definition.ParseSize(text)
	if text != "" && what != "" {
		v.Problem(v.At("size_at_most"), what, do)
	}
	return size, "the tree's files take at most " + text
}, Holds: func(t *Tree, settings any) string {
	if size := t.Tree.Size(); size > settings.(int64) {
		return fmt.Sprintf("they take %.1f MiB", float64(size)/(1<<20))
	}
	return ""
}}
