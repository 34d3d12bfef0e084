package definition

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Stage is a named, ordered group of steps: first the files, then the scripts.
type Stage struct {
	Name    string
	Pos     Pos
	Shared  string            // file of a shared stage, "" for one written in the image
	Inputs  []Input           // of a shared stage, its own
	Given   map[string]string // values for them; may hold ${…} of the image
	Files   []File
	Scripts []Script
	Env     []EnvVar
	Secrets []Input
	User    string
	Dir     string
	Timeout time.Duration
	Retries int
	Refresh time.Duration // older snapshots are not reused; 0 for any age
	Network bool          // reach the host's network
	Restart bool          // the machine restarts after the scripts
	Only    []string      // variants; empty for all
	Bring   []string      // paths in the image that are brought out after the stage
}

// In says whether the stage belongs to a variant.
func (s *Stage) In(variant string) bool { return len(s.Only) == 0 || slices.Contains(s.Only, variant) }

// File is a file, a folder or a group of files that a stage copies into the image.
type File struct {
	From  string // relative to the workspace: a file, a folder or a pattern
	To    string // absolute path in the image; of a folder or a pattern, the folder there
	Mode  int    // of files, -1 to take 0755 for executable ones and else 0644
	Owner string
	Pos   Pos
}

// IsPattern says whether a path names files by a pattern.
func IsPattern(from string) bool { return strings.ContainsAny(from, "*?[") }

// Script is run in the image: a file of the workspace, or a text written in the definition.
type Script struct {
	Path   string // relative to the workspace, "" for an inline script
	Inline string
	Pos    Pos
}

// EnvVar is a variable of a stage's scripts; Value may hold ${…}.
type EnvVar struct{ Name, Value string }

// only reads the variants that a stage or an artifact belongs to.
func (r *reader) only(t *table) (list []string) {
	known := r.image.VariantNames()
	for _, v := range t.texts("only") {
		switch {
		case len(r.image.Variants) == 0:
			r.problems.add(v.pos, fmt.Sprintf("%s has no variants", r.image.File), "add [variant."+v.text+"], or take only out")
		case !slices.Contains(known, v.text):
			r.problems.add(v.pos, fmt.Sprintf("there is no variant %q", v.text), suggest(v.text, known, "variants are "+strings.Join(known, ", ")))
		}
		list = append(list, v.text)
	}
	return list
}

// stage reads one [[stage]]: a shared one, or one written out.
func (r *reader) stage(t *table) {
	use, at := t.text("use")
	if use == "" {
		r.addStage(t, nil, "")
		return
	}
	for _, e := range t.entries {
		switch e.name {
		case "use", "name", "inputs", "only":
		default:
			e.read = true
			r.problems.add(e.pos, fmt.Sprintf("%q beside \"use\": of a shared stage only name, inputs and only may be said here", e.name),
				"take it out, or write the stage here without use")
		}
	}
	if !r.inside(use, at) || !r.isFile(use, at) {
		t.ask("name")
		t.ask("inputs")
		t.ask("only")
		t.done()
		return
	}
	if shared := r.parse(use, at); shared != nil {
		shared.name = "[stage]"
		r.addStage(shared, t, use)
	}
}

var envForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`) })

// addStage reads a stage; of a shared one, user is the table that says use.
func (r *reader) addStage(t, user *table, shared string) {
	s := Stage{Pos: t.pos, Shared: shared, Network: true}
	var at Pos
	s.Name, at = t.textMust("name", "setup")
	if shared != "" {
		s.Pos = user.pos
		s.Inputs = r.inputs(t)
		s.Given = r.given(user, s.Inputs)
		s.Only = r.only(user)
		if name, nameAt := user.text("name"); name != "" {
			s.Name, at = name, nameAt
		}
		user.done()
		t.ask("use")
		if e := t.find("only"); e != nil {
			t.ask("only")
			r.problems.add(e.pos, "a shared stage knows no variants", "write only beside use, in the image")
		}
		// What the shared file says is about its own inputs.
		r = &reader{root: r.root, image: r.image, problems: r.problems, scope: &s, stages: r.stages}
	} else {
		s.Only = r.only(t)
	}
	if s.Name != "" {
		r.problems.name("a stage", s.Name, at)
		if r.stages[s.Name] {
			r.problems.add(at, fmt.Sprintf("a second stage is named %q in %s", s.Name, r.image.File), "give each stage a name of its own")
		}
		r.stages[s.Name] = true
	}
	for _, f := range t.tables("files") {
		r.file(&s, f)
	}
	for _, script := range t.texts("scripts") {
		if r.inside(script.text, script.pos) && r.isFile(script.text, script.pos) {
			s.Scripts = append(s.Scripts, Script{Path: script.text, Pos: script.pos})
		}
	}
	if inline, at := t.text("inline"); inline != "" {
		s.Scripts = append(s.Scripts, Script{Inline: inline, Pos: at})
		if t.find("scripts") != nil {
			r.problems.add(at, `a stage has either "scripts" or "inline"`, "move the inline text into a script file, or into a stage of its own")
		}
	}
	if t.find("files") == nil && t.find("scripts") == nil && t.find("inline") == nil {
		r.problems.add(t.pos, fmt.Sprintf("stage %q does nothing", s.Name), "give it files, scripts or inline")
	}
	s.Env = r.env(t)
	s.User, _ = t.text("user")
	if s.Dir, at = t.text("dir"); s.Dir != "" && !path.IsAbs(s.Dir) {
		r.problems.add(at, fmt.Sprintf("working directory %q is not absolute", s.Dir), "start it with '/'; it is a path in the image")
	}
	s.Timeout = t.duration("timeout")
	if network, at := t.text("network"); network != "" {
		r.problems.oneOf("network", network, at, []string{"none", "host"}, nil)
		s.Network = network != "none"
	}
	s.Retries = int(min(t.count("retries", 0), 1000))
	s.Refresh = t.duration("refresh")
	s.Restart = t.flag("restart")
	r.secrets(t, &s)
	for _, b := range t.texts("bring") {
		p := path.Clean(b.text)
		if !path.IsAbs(b.text) || p == "/" {
			r.problems.add(b.pos, fmt.Sprintf("%q is no file or folder in the image", b.text), "write its whole path, from '/'")
		} else if top, _, _ := strings.Cut(p[1:], "/"); slices.Contains([]string{"tmp", "run", "proc", "dev"}, top) {
			r.problems.add(b.pos, fmt.Sprintf("%q is gone when the stage ends", b.text), "write it to another folder of the image")
		}
		s.Bring = append(s.Bring, p)
	}
	t.done()
	r.image.Stages = append(r.image.Stages, s)
}

// env reads variables of scripts.
func (r *reader) env(t *table) (list []EnvVar) {
	for _, v := range t.textMap("env") {
		if !envForm().MatchString(v.name) || strings.HasPrefix(v.name, "ZYGOS_") {
			r.problems.add(v.pos, fmt.Sprintf("%q cannot be set as a variable", v.name),
				"use letters, digits and '_', and no ZYGOS_ in front, which Zygos sets itself")
		}
		list = append(list, EnvVar{v.name, r.expandable(v.text, v.pos)})
	}
	return list
}

// secrets reads which secrets a stage gets: its own, or the image's.
func (r *reader) secrets(t *table, s *Stage) {
	known := slices.Concat(r.image.Inputs, s.Inputs)
	for _, name := range t.texts("secrets") {
		in := findInput(s.Inputs, name.text)
		if in == nil {
			in = findInput(r.image.Inputs, name.text)
		}
		switch {
		case in == nil:
			r.problems.add(name.pos, fmt.Sprintf("there is no secret %q", name.text),
				suggest(name.text, inputNames(known), fmt.Sprintf(`add [input.%s] with secret = true and from = "env:NAME"`, name.text)))
		case !in.Secret:
			r.problems.add(name.pos, fmt.Sprintf("input %q is no secret", name.text),
				fmt.Sprintf("add secret = true to [input.%s], or pass it by env", name.text))
		case slices.ContainsFunc(s.Env, func(v EnvVar) bool { return v.Name == in.Variable() }):
			r.problems.add(name.pos, fmt.Sprintf("the secret %q arrives in the variable %s, which env sets too", name.text, in.Variable()),
				"rename one of them")
		default:
			s.Secrets = append(s.Secrets, *in)
		}
	}
}

func (r *reader) file(s *Stage, t *table) {
	from, at := t.textMust("from", "files/NAME")
	to, toAt := t.textMust("to", "/path/in/the/image")
	f := File{From: from, To: r.expandable(to, toAt), Mode: -1, Pos: at}
	if to != "" && !path.IsAbs(to) {
		r.problems.add(toAt, fmt.Sprintf("%q is no path in the image", to), "write the whole path, from '/'")
	}
	owner, ownerAt := t.text("owner")
	if owner == "" {
		owner = "root:root"
	}
	f.Owner = r.expandable(owner, ownerAt)
	if mode, modeAt := t.text("mode"); mode != "" {
		n, err := strconv.ParseUint(mode, 8, 32)
		if err != nil || n > 0o7777 {
			r.problems.add(modeAt, fmt.Sprintf("%q is no mode", mode), `write octal digits, for instance "0640"`)
		}
		f.Mode = int(n)
	}
	t.done()
	if from == "" || !r.inside(from, at) {
		return
	}
	if IsPattern(from) {
		found, err := filepath.Glob(filepath.Join(EscapeGlob(r.root), from))
		if err != nil {
			r.problems.add(at, fmt.Sprintf("%q is no pattern: %v", from, err), "write for instance \"files/*.conf\"")
		} else if len(found) == 0 {
			r.problems.add(at, fmt.Sprintf("no file matches %q", from), "correct the pattern, which is relative to the folder of zygos.toml")
		}
	} else if info, err := os.Stat(filepath.Join(r.root, from)); (err != nil || !info.IsDir()) && !r.isFile(from, at) {
		return
	}
	s.Files = append(s.Files, f)
}

// EscapeGlob makes a path a pattern (path/filepath.Match) that matches nothing else.
func EscapeGlob(p string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(p)
}
