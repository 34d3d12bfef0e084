package judge

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"zygos/internal/definition"
	"zygos/internal/inventory"
)

type accountSettings struct {
	name, shell string
	groups      []string
	absent      bool
	maySudo     *bool // nil if nothing is said of it
}

var accountKind = Expectation{Name: "account", Read: func(v definition.Values) (any, string) {
	name, _ := v.Must("account", "keeper")
	s := accountSettings{name: name, shell: v.Text("shell"), groups: v.Texts("groups"), absent: v.Bool("absent")}
	text := "account " + name
	if len(s.groups) > 0 {
		text += " in " + strings.Join(s.groups, ", ")
	}
	if s.shell != "" {
		text += " with " + s.shell
	}
	if may := v.Bool("may_sudo"); v.Has("may_sudo") {
		s.maySudo = &may
		text += map[bool]string{true: " may use sudo", false: " may not use sudo"}[may]
	}
	if s.absent {
		text += " is absent"
	}
	return s, text
}, Holds: func(t *Tree, settings any) string {
	s := settings.(accountSettings)
	list := inventory.Accounts(t.Read("etc/passwd"))
	at := slices.IndexFunc(list, func(a inventory.Account) bool { return a.Name == s.name })
	if there := at >= 0; !there || s.absent {
		if there != s.absent {
			return ""
		}
		return map[bool]string{true: "it is there", false: "it is not there"}[s.absent]
	}
	account, groups := list[at], inventory.Groups(t.Read("etc/group"))
	var member []string
	for _, g := range groups {
		if g.ID == account.GID || slices.Contains(g.Members, s.name) {
			member = append(member, g.Name)
		}
	}
	var wrong []string
	for _, g := range s.groups {
		if !slices.Contains(member, g) {
			wrong = append(wrong, fmt.Sprintf("it is not in %s, but in %s", g, strings.Join(member, ", ")))
		}
	}
	if s.shell != "" && account.Shell != s.shell {
		wrong = append(wrong, "its shell is "+account.Shell)
	}
	if s.maySudo != nil {
		rules := sudoers{tree: t, aliases: map[string][]string{}}
		rules.read("etc/sudoers", 0)
		switch may := rules.may(&account, member); {
		case *s.maySudo && !may:
			wrong = append(wrong, "no line of sudoers(5) lets it do anything")
		case !*s.maySudo && may:
			wrong = append(wrong, "a line of sudoers(5) lets it")
		}
	}
	return strings.Join(wrong, ", ")
}}

// sudoers is what sudoers(5) says: for each rule whom it concerns, and what it allows and forbids.
type sudoers struct {
	tree    *Tree
	aliases map[string][]string // of users, and of commands
	rules   []sudoRule
	broken  bool // a file that sudo does not read, since others may write it
}

type sudoRule struct{ users, commands []string }

// read reads a file and those that it includes.
func (s *sudoers) read(file string, depth int) {
	const mostDepth = 16
	n := s.tree.node(file)
	if n == nil || depth > mostDepth {
		return
	}
	if n.UID != 0 || n.Mode&0o002 != 0 || n.Mode&0o020 != 0 && n.GID != 0 { // sudo(8) then reads nothing of it
		s.broken = s.broken || depth == 0
		return
	}
	text := strings.ReplaceAll(string(s.tree.Read(file)), "\\\n", "")
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		for _, mark := range []string{"@", "#"} {
			if dir, ok := strings.CutPrefix(line, mark+"includedir "); ok {
				dir = beside(file, dir)
				for _, name := range s.tree.Names(dir) {
					if base := path.Base(name); path.Dir(name) == dir && !strings.Contains(base, ".") && !strings.HasSuffix(base, "~") {
						s.read(name, depth+1)
					}
				}
			} else if name, ok := strings.CutPrefix(line, mark+"include "); ok {
				s.read(beside(file, name), depth+1)
			}
		}
		s.line(withoutComment(line))
	}
}

// beside is a path that a configuration file names.
func beside(file, name string) string {
	name = strings.Trim(strings.TrimSpace(name), `"`)
	if !path.IsAbs(name) {
		name = path.Join("/", path.Dir(file), name)
	}
	return strings.TrimPrefix(path.Clean(name), "/")
}

// withoutComment is a line without its comment; #123 is a user's number.
func withoutComment(line string) string {
	for i := 0; i < len(line); i++ {
		if line[i] == '#' && (i == 0 || line[i-1] != '\\') && (i+1 == len(line) || line[i+1] < '0' || line[i+1] > '9') {
			return line[:i]
		}
	}
	return line
}

// line reads an alias or a rule.
func (s *sudoers) line(line string) {
	word, rest, _ := strings.Cut(strings.ReplaceAll(line, "\t", " "), " ")
	switch word {
	case "User_Alias", "Cmnd_Alias", "Cmd_Alias":
		for part := range strings.SplitSeq(rest, ":") {
			if name, list, ok := strings.Cut(part, "="); ok {
				s.aliases[strings.TrimSpace(name)] = members(list)
			}
		}
		return
	case "Host_Alias", "Runas_Alias", "":
		return
	}
	if strings.HasPrefix(word, "Defaults") || strings.HasPrefix(word, "@") {
		return
	}
	left, right, ok := strings.Cut(strings.ReplaceAll(line, "\t", " "), "=")
	fields := strings.Fields(strings.ReplaceAll(strings.ReplaceAll(left, " ,", ","), ", ", ","))
	if !ok || len(fields) < 2 {
		return
	}
	users := members(strings.Join(fields[:len(fields)-1], " "))
	commands := right
	for {
		commands = strings.TrimSpace(commands)
		if strings.HasPrefix(commands, "(") {
			_, commands, _ = strings.Cut(commands, ")")
			continue
		}
		tag, after, found := strings.Cut(commands, ":")
		if found && tag == strings.ToUpper(tag) && !strings.ContainsAny(tag, " /,!(") {
			commands = after
			continue
		}
		break
	}
	s.rules = append(s.rules, sudoRule{users, members(commands)})
}

// members are the members of a list with commas.
func members(text string) (list []string) {
	for member := range strings.SplitSeq(text, ",") {
		if member = strings.Trim(strings.TrimSpace(member), `"`); member != "" {
			list = append(list, member)
		}
	}
	return list
}

// may says whether anything is left that an account may do. Of rules and of members of a list the last counts.
func (s *sudoers) may(a *inventory.Account, groups []string) bool {
	if s.broken {
		return false
	}
	allowed := map[string]bool{}
	for _, r := range s.rules {
		if !s.concerns(r.users, a, groups, 0) {
			continue
		}
		s.allow(allowed, r.commands, true, 0)
	}
	return len(allowed) > 0
}

// concerns says whether the last member of a list that means an account does not exclude it.
func (s *sudoers) concerns(users []string, a *inventory.Account, groups []string, depth int) (yes bool) {
	const mostDepth = 16
	for _, u := range users {
		name := strings.TrimLeft(u, "!")
		wanted := (len(u)-len(name))%2 == 0
		means := name == a.Name || name == "ALL" || name == "#"+strconv.FormatUint(uint64(a.UID), 10)
		if g, ok := strings.CutPrefix(name, "%"); ok {
			means = slices.Contains(groups, g) || g == "#"+strconv.FormatUint(uint64(a.GID), 10)
		} else if list := s.aliases[name]; list != nil && depth < mostDepth {
			means = s.concerns(list, a, groups, depth+1)
		}
		if means {
			yes = wanted
		}
	}
	return yes
}

// allow notes what commands add and take away.
func (s *sudoers) allow(allowed map[string]bool, commands []string, positive bool, depth int) {
	const mostDepth = 16
	for _, c := range commands {
		name := strings.TrimSpace(strings.TrimLeft(c, "!"))
		wanted := positive == (strings.Count(c[:len(c)-len(strings.TrimLeft(c, "!"))], "!")%2 == 0)
		if list := s.aliases[name]; list != nil && depth < mostDepth {
			s.allow(allowed, list, wanted, depth+1)
			continue
		}
		switch {
		case wanted:
			allowed[name] = true
		case name == "ALL":
			clear(allowed)
		default:
			delete(allowed, name)
		}
	}
}
