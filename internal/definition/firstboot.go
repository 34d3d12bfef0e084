package definition

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// FirstBoot is a script that runs once on the first start of each clone.
type FirstBoot struct {
	Name    string
	Script  Script
	Env     map[string]string
	Network bool // it, or one that it comes after, waits for the network
	Trial   bool // it runs also where a disk is started to see whether it works
	Pos     Pos
	after   string
	afterAt Pos
}

const afterNetwork = "network"

// firstBoots reads the scripts of first boot, and puts them in the order in which they run.
func (r *reader) firstBoots(t *table) {
	var list []FirstBoot
	for _, e := range t.tables("first_boot") {
		f := FirstBoot{Pos: e.pos, Env: map[string]string{}}
		name, at := e.textMust("name", "enrol")
		if name != "" {
			r.problems.name("a script of first boot", name, at)
		}
		if f.Name = name; name == afterNetwork || slices.ContainsFunc(list, func(o FirstBoot) bool { return o.Name == name }) {
			r.problems.add(at, fmt.Sprintf("%q is taken", name), "choose another name")
		}
		script, scriptAt := e.text("script")
		inline, inlineAt := e.text("inline")
		switch {
		case script != "" && inline != "":
			r.problems.add(inlineAt, `a script of first boot has either "script" or "inline"`, "take one of them out")
		case script == "" && inline == "":
			r.problems.add(e.pos, fmt.Sprintf("first boot %q does nothing", name), "give it script or inline")
		case script != "":
			if r.inside(script, scriptAt) {
				r.isFile(script, scriptAt)
			}
		}
		f.Script = Script{Path: script, Inline: inline, Pos: cmp.Or(scriptAt, inlineAt)}
		for _, v := range e.textMap("env") {
			if !envForm().MatchString(v.name) {
				r.problems.add(v.pos, fmt.Sprintf("%q is no name of a variable", v.name), "use letters, digits and '_'")
			}
			if strings.Contains(v.text, "\n") {
				r.problems.add(v.pos, v.name+" has more than one line", "write it into a file that the script reads")
			}
			f.Env[v.name] = r.expandable(v.text, v.pos)
		}
		f.after, f.afterAt = e.text("after")
		f.Trial = e.flag("trial")
		e.done()
		list = append(list, f)
	}
	r.image.FirstBoots = r.inOrder(list)
}

// inOrder sorts scripts of first boot: each after the one that it names; else as they are written.
func (r *reader) inOrder(list []FirstBoot) (sorted []FirstBoot) {
	for len(list) > 0 {
		i := slices.IndexFunc(list, func(f FirstBoot) bool {
			return f.after == "" || f.after == afterNetwork || slices.ContainsFunc(sorted, func(o FirstBoot) bool { return o.Name == f.after })
		})
		if i < 0 {
			for _, f := range list {
				do := "name another one of [[first_boot]], or \"network\""
				if slices.ContainsFunc(list, func(o FirstBoot) bool { return o.Name == f.after }) {
					do = "break the circle"
				}
				r.problems.add(f.afterAt, fmt.Sprintf("first boot %q comes after %q, which never ends before it", f.Name, f.after), do)
			}
			return sorted
		}
		f := list[i]
		f.Network = f.after == afterNetwork || slices.ContainsFunc(sorted, func(o FirstBoot) bool { return o.Name == f.after && o.Network })
		sorted, list = append(sorted, f), slices.Delete(list, i, i+1)
	}
	// Those that do not wait for the network run before it is there.
	slices.SortStableFunc(sorted, func(a, b FirstBoot) int {
		return cmp.Compare(map[bool]int{true: 1}[a.Network], map[bool]int{true: 1}[b.Network])
	})
	return sorted
}
