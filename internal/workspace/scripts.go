package workspace

import (
	"bufio"
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/definition"
)

// Script is a file of the script library.
type Script struct {
	Path    string   `json:"path"`
	Summary string   `json:"summary"` // its first line of comment
	Needs   []string `json:"needs"`   // what it says it needs, on a line "# needs: WORD, WORD"
	Runs    string   `json:"runs"`    // its #! line, "" for none
	Users   []User   `json:"users"`
}

// User is what uses a script: a stage, or a script of first boot or a check, whose name then stands in its place.
type User struct {
	Image string `json:"image"`
	Stage string `json:"stage"`
}

// Scripts lists every file below scripts/, and every script that a stage names elsewhere, by path.
func (w *Workspace) Scripts() ([]Script, error) {
	users := map[string][]User{}
	var names []string
	use := func(path, image, by string) {
		if path != "" {
			name := filepath.ToSlash(filepath.Clean(path))
			users[name] = append(users[name], User{image, by})
		}
	}
	for _, img := range w.Images {
		for _, s := range img.Stages {
			for _, script := range s.Scripts {
				use(script.Path, img.Name, s.Name)
				if name := filepath.ToSlash(filepath.Clean(script.Path)); script.Path != "" && !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
		for _, f := range img.FirstBoots {
			use(f.Script.Path, img.Name, "first boot "+f.Name)
		}
		for _, c := range img.Checks {
			if c.Script != nil {
				use(c.Script.Path, img.Name, "check "+c.Name)
			}
		}
	}
	err := filepath.WalkDir(w.Path("scripts"), func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || strings.HasPrefix(d.Name(), ".") {
			return err
		}
		rel, err := filepath.Rel(w.Root, name)
		if rel = filepath.ToSlash(rel); err == nil && !slices.Contains(names, rel) {
			names = append(names, rel)
		}
		return err
	})
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	slices.Sort(names)
	list := []Script{}
	for _, name := range names {
		text, err := os.ReadFile(w.Path(name))
		if err != nil {
			return nil, err
		}
		s := readScript(text)
		s.Path, s.Users = name, append([]User{}, users[name]...)
		list = append(list, s)
	}
	return list, nil
}

// readScript reads the comment at a script's head.
func readScript(text []byte) Script {
	s := Script{Needs: []string{}}
	for in, first := bufio.NewScanner(bytes.NewReader(text)), true; in.Scan(); first = false {
		line := strings.TrimSpace(in.Text())
		if first && strings.HasPrefix(line, "#!") {
			s.Runs = strings.TrimSpace(line[2:])
			continue
		}
		if line == "" {
			continue
		}
		comment, ok := strings.CutPrefix(line, "#")
		if !ok {
			break
		}
		comment = strings.TrimSpace(comment)
		if needs, ok := strings.CutPrefix(comment, "needs:"); ok {
			s.Needs = append(s.Needs, strings.FieldsFunc(needs, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' })...)
		} else if s.Summary == "" {
			s.Summary = comment
		}
	}
	return s
}

// Matches says whether every word occurs in what is known of a script.
func (s *Script) Matches(words []string) bool {
	text := strings.ToLower(strings.Join(append([]string{s.Path, s.Summary, s.Runs}, s.Needs...), " "))
	for _, u := range s.Users {
		text += " " + u.Image + " " + u.Stage
	}
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
}

const largeDisk = 64 << 30 // bytes

// Warnings are what is not wrong but hardly meant: scripts that nobody uses, or that do not say
// what they do or what runs them; disks that take minutes to hash.
func (w *Workspace) Warnings() (definition.Problems, error) {
	scripts, err := w.Scripts()
	if err != nil {
		return nil, err
	}
	var list definition.Problems
	for _, img := range w.Images {
		for _, a := range img.Artifacts {
			if a.Format == "raw" && a.Size > largeDisk {
				list = append(list, definition.Problem{Pos: a.At,
					What: fmt.Sprintf("a raw disk of %d GiB is hashed from end to end, holes too, which takes a minute for about 60 GiB", a.Size>>30),
					Do:   "make it smaller: a clone can grow its disk"})
			}
		}
	}
	for _, s := range scripts {
		warn := func(what, do string) {
			list = append(list, definition.Problem{Pos: definition.Pos{File: s.Path, Line: 1, Column: 1}, What: what, Do: do})
		}
		if len(s.Users) == 0 {
			warn("no definition uses this script", "name it in a stage's scripts, or delete it")
		}
		if s.Runs == "" {
			warn("no #! line says what runs it, so /bin/sh -e does", "begin it with a line like #!/bin/sh -eu")
		}
		if s.Summary == "" {
			warn("no comment at its head says what it does", "write one line of comment below the #! line")
		}
	}
	return list, nil
}
