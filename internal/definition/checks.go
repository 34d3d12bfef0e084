package definition

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
)

// Check judges a fresh instance of what was captured: by a script, or by expectations.
type Check struct {
	Name    string
	Pos     Pos
	Shared  string            // file of a contract, "" for one written in the image
	Inputs  []Input           // of the contract
	Given   map[string]string // values for them; may hold ${…} of the image
	Script  *Script           // nil for expectations
	Expect  []Expectation
	Booted  bool // in a machine that was started from a disk
	Warn    bool // a failure is no reason to refuse
	Timeout time.Duration
	Network bool // reach the host's network
	User    string
	Dir     string
	Env     []EnvVar
	Secrets []Input
	Only    []string // variants; empty for all
}

// In says whether the check belongs to a variant.
func (c *Check) In(variant string) bool { return len(c.Only) == 0 || slices.Contains(c.Only, variant) }

// Expectation is something that must hold of a tree.
type Expectation struct {
	Kind     string `json:"kind"`
	Settings any    `json:"-"`    // what the kind has read
	Text     string `json:"text"` // in words
	Pos      Pos    `json:"-"`
}

// ExpectKinds are the kinds of expectations: a kind is the key that names what it is about.
type ExpectKinds struct {
	Names []string
	// Read reads what a definition expects, and says it in words.
	Read func(kind string, v Values) (settings any, text string)
}

// checks reads the checks of an image, or of a contract.
func (r *reader) checks(t *table, user *table, shared string) {
	var given map[string]string
	var only []string
	if user != nil {
		inputs := r.inputs(t)
		given = r.given(user, inputs)
		only = r.only(user)
		user.done()
		r = &reader{root: r.root, image: r.image, problems: r.problems, scope: &Stage{Inputs: inputs}, kinds: r.kinds, checked: r.checked}
	}
	for _, e := range t.tables("check") {
		if use, at := e.text("use"); use != "" {
			if shared != "" {
				r.problems.add(at, "a contract uses no other", "name both in the image")
			} else if r.inside(use, at) && r.isFile(use, at) {
				if contract := r.parse(use, at); contract != nil {
					contract.name = "the contract"
					r.checks(contract, e, use)
				}
			}
			continue
		}
		r.check(e, given, only, shared)
	}
	if user != nil {
		if t.find("check") == nil {
			r.problems.add(t.pos, "the contract has no check", "add [[check]] with a name, and a script or expect")
		}
		t.done()
	}
}

// check reads one.
func (r *reader) check(t *table, given map[string]string, only []string, shared string) {
	c := Check{Pos: t.pos, Shared: shared, Given: given, Only: only}
	if r.scope != nil {
		c.Inputs = r.scope.Inputs
	}
	var at Pos
	if c.Name, at = t.textMust("name", "link is configured"); c.Name != "" {
		switch {
		case strings.ContainsAny(c.Name, "\n\t\x00\x1b") || len(c.Name) > 100:
			r.problems.add(at, "a check's name is one line of 100 bytes at most", "shorten it")
		case r.checked[c.Name]:
			r.problems.add(at, fmt.Sprintf("a second check is called %q in %s", c.Name, r.image.File), "give each check a name of its own")
		}
		r.checked[c.Name] = true
	}
	if shared == "" {
		c.Only = r.only(t)
	}
	script, scriptAt := t.text("script")
	inline, inlineAt := t.text("inline")
	switch {
	case script != "" && inline != "":
		r.problems.add(inlineAt, `a check has either "script" or "inline"`, "take one of them out")
	case script != "":
		if r.inside(script, scriptAt) && r.isFile(script, scriptAt) {
			c.Script = &Script{Path: script, Pos: scriptAt}
		}
	case inline != "":
		c.Script = &Script{Inline: inline, Pos: inlineAt}
	}
	if e := t.ask("expect"); e != nil {
		c.Expect = r.expectations(e)
		if script != "" || inline != "" {
			r.problems.add(e.pos, "a check has either a script or expectations", "make two checks of them")
		}
	} else if script == "" && inline == "" {
		r.problems.add(t.pos, fmt.Sprintf("check %q checks nothing", c.Name), "give it a script, inline or expect")
	}
	if in, at := t.text("in"); in != "" {
		r.problems.oneOf("place of a check", in, at, []string{"sandbox", "vm"}, nil)
		c.Booted = in == "vm"
	}
	if level, at := t.text("level"); level != "" {
		r.problems.oneOf("level", level, at, []string{"must", "warn"}, nil)
		c.Warn = level == "warn"
	}
	if network, at := t.text("network"); network != "" {
		r.problems.oneOf("network", network, at, []string{"none", "host"}, nil)
		c.Network = network == "host"
	}
	c.Timeout = t.duration("timeout")
	c.User, _ = t.text("user")
	if c.Dir, at = t.text("dir"); c.Dir != "" && !path.IsAbs(c.Dir) {
		r.problems.add(at, fmt.Sprintf("working directory %q is not absolute", c.Dir), "start it with '/'; it is a path in the image")
	}
	c.Env = r.env(t)
	s := Stage{Inputs: c.Inputs, Env: c.Env}
	r.secrets(t, &s)
	c.Secrets = s.Secrets
	t.done()
	for _, v := range r.image.VariantNames() {
		if c.Booted && c.In(v) && !slices.ContainsFunc(r.image.Artifacts, func(a Artifact) bool { return a.In(v) && a.Boots() }) {
			r.problems.add(t.pos, strings.TrimSuffix(fmt.Sprintf("check %q judges a machine that was started, and no disk starts of variant %s",
				c.Name, v), " of variant "), `give an artifact boot = "uefi", or take in = "vm" out`)
		}
	}
	r.image.Checks = append(r.image.Checks, c)
}

// expectations reads a list of tables, each of a kind.
func (r *reader) expectations(e *entry) (list []Expectation) {
	known := "one of " + strings.Join(r.kinds.Names, ", ")
	for _, v := range e.list {
		if v.table == nil {
			r.problems.add(v.pos, "an expectation is a table", `write { path = "/etc/hostname", absent = true }`)
			continue
		}
		kind := ""
		for _, name := range r.kinds.Names {
			if v.table.find(name) != nil {
				kind = name
				break
			}
		}
		v.table.name = "an expectation"
		if kind == "" {
			r.problems.add(v.pos, "the expectation does not say what it is about", "name "+known)
			continue
		}
		settings, text := r.kinds.Read(kind, Values{v.table})
		v.table.done()
		list = append(list, Expectation{Kind: kind, Settings: settings, Text: text, Pos: v.pos})
	}
	if len(e.list) == 0 {
		r.problems.add(e.pos, `"expect" must be a list of tables`, `write expect = [{ path = "/etc/hostname", absent = true }]`)
	}
	return list
}
