// Package workspace finds a workspace and loads what it defines: zygos.toml and images/*.toml.
// It knows where things lie, and nothing of what is done with them.
package workspace

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/definition"
)

// Workspace is a folder with zygos.toml, and where its state is kept.
type Workspace struct {
	Root   string // absolute
	State  string // absolute; .zygos in Root unless moved
	Org    *definition.Organisation
	Images []*definition.Image            // by name; none after LoadOrganisation
	wrong  map[string]definition.Problems // of these
	kinds  definition.Kinds
}

// NotFoundError says that no zygos.toml was found.
type NotFoundError struct{ From string }

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("no zygos.toml in %s or a folder above it; go to a workspace, name one with --workspace DIR, or make one with "+
		"'zygos new DIR'", e.From)
}

// Find looks for a workspace: in dir if it is not empty, else in the current folder and those
// above it. Its definitions are read with kinds. state moves the state away from .zygos; a relative one starts at the current folder.
func Find(dir, state string, kinds definition.Kinds) (*Workspace, error) {
	from, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	root := from
	for {
		if _, err := os.Stat(filepath.Join(root, "zygos.toml")); err == nil {
			break
		}
		up := filepath.Dir(root)
		if dir != "" || up == root {
			return nil, &NotFoundError{From: from}
		}
		root = up
	}
	w := &Workspace{Root: root, State: filepath.Join(root, ".zygos"), kinds: kinds}
	if state != "" {
		if w.State, err = filepath.Abs(state); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// LoadOrganisation reads zygos.toml alone, which is enough for whoever only looks at what was built.
func (w *Workspace) LoadOrganisation() error {
	var problems definition.Problems
	w.Org = definition.ReadOrganisation(w.Root, w.kinds, &problems)
	return problems.Err()
}

// files lists the definitions of images, in order.
func (w *Workspace) files() ([]string, error) {
	files, err := filepath.Glob(filepath.Join(definition.EscapeGlob(w.Root), "images", "*.toml"))
	slices.Sort(files)
	return files, err
}

// Load reads and checks all definitions. The error is definition.Problems if any of them is wrong.
func (w *Workspace) Load() error {
	problems, err := w.load()
	if err != nil {
		return err
	}
	for _, img := range w.Images {
		problems = append(problems, w.wrong[img.Name]...)
	}
	return dedupe(problems).Err()
}

// LoadEach reads and checks all definitions; an image that is wrong is no error, Wrong tells of it.
func (w *Workspace) LoadEach() error {
	problems, err := w.load()
	if err != nil {
		return err
	}
	return dedupe(problems).Err()
}

// load reads all definitions, and returns the problems that are of no image alone.
func (w *Workspace) load() (problems definition.Problems, err error) {
	w.Org = definition.ReadOrganisation(w.Root, w.kinds, &problems)
	files, err := w.files()
	if err != nil {
		return nil, err
	}
	w.Images, w.wrong = nil, map[string]definition.Problems{}
	byFile := map[string]string{}
	for _, f := range files {
		rel, err := filepath.Rel(w.Root, f)
		if err != nil {
			return nil, err
		}
		var own definition.Problems
		img := definition.ReadImage(w.Root, filepath.ToSlash(rel), w.kinds.Expects, &own)
		w.Images, w.wrong[img.Name], byFile[img.File] = append(w.Images, img), own, img.Name
	}
	var between definition.Problems
	definition.CheckAll(w.Org, w.Images, &between)
	for _, p := range between {
		if image, ok := byFile[p.File]; ok {
			w.wrong[image] = append(w.wrong[image], p)
		} else {
			problems = append(problems, p)
		}
	}
	return problems, nil
}

// Wrong is what is wrong with an image's definition, nil if nothing is.
func (w *Workspace) Wrong(name string) definition.Problems {
	_, wrong, _ := w.read(name) // of an image that is not there nothing is wrong
	if problems := dedupe(wrong); len(problems) > 0 {
		_ = problems.Err() // puts them in order
		return problems
	}
	return nil
}

// dedupe drops repeats: a shared stage is read once for each image that uses it.
func dedupe(problems definition.Problems) definition.Problems {
	var list definition.Problems
	seen := map[definition.Problem]bool{}
	for _, p := range problems {
		if !seen[p] {
			seen[p] = true
			list = append(list, p)
		}
	}
	return list
}

// Image finds an image by name; the error names the nearest.
func (w *Workspace) Image(name string) (*definition.Image, error) {
	img, _, err := w.read(name)
	return img, err
}

// read finds an image by name, as it was loaded or else as its file is now, and what is wrong with it.
func (w *Workspace) read(name string) (*definition.Image, definition.Problems, error) {
	for _, img := range w.Images {
		if img.Name == name {
			return img, w.wrong[name], nil
		}
	}
	files, err := w.files()
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, f := range files {
		names = append(names, strings.TrimSuffix(filepath.Base(f), ".toml"))
		if names[len(names)-1] == name {
			var problems definition.Problems // are lint's matter
			img := definition.ReadImage(w.Root, "images/"+name+".toml", w.kinds.Expects, &problems)
			return img, problems, nil
		}
	}
	hint := "there is no images/*.toml yet"
	if len(names) > 0 {
		hint = "images are " + strings.Join(names, ", ")
	}
	if guess := definition.Nearest(name, names); guess != "" {
		hint = fmt.Sprintf("did you mean %q?", guess)
	}
	return nil, nil, fmt.Errorf("no image %q: images/%s.toml does not exist; %s", name, name, hint)
}

// Definition finds the definition of an image that has no problems; else the error is these.
func (w *Workspace) Definition(name string) (*definition.Image, error) {
	img, err := w.Image(name)
	if err != nil {
		return nil, err
	}
	if wrong := w.Wrong(name); wrong != nil {
		return nil, wrong
	}
	return img, nil
}

// Sound says whether an image has a definition without problems of its own.
func (w *Workspace) Sound(name string) bool {
	_, wrong, err := w.read(name)
	return err == nil && len(wrong) == 0
}

// With is the workspace with another base in the place of the one of its name.
func (w *Workspace) With(b definition.Base) *Workspace {
	org, other := *w.Org, *w
	org.Bases = slices.Clone(org.Bases)
	for i := range org.Bases {
		if org.Bases[i].Name == b.Name {
			org.Bases[i] = b
		}
	}
	other.Org = &org
	return &other
}

// Path is the place of a workspace file.
func (w *Workspace) Path(rel string) string {
	if filepath.IsAbs(rel) {
		return rel
	}
	return filepath.Join(w.Root, rel)
}

// MakeState makes the state folder if it is not there, private to its owner.
func (w *Workspace) MakeState() error {
	err := os.MkdirAll(w.State, 0o700)
	if err == nil && filepath.Dir(w.State) == w.Root {
		ignore := filepath.Join(w.State, ".gitignore")
		if _, e := os.Stat(ignore); errors.Is(e, os.ErrNotExist) {
			err = os.WriteFile(ignore, []byte("*\n"), 0o644)
		}
	}
	return err
}
