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
	Images []*definition.Image // by name; after LoadOrganisation, those that were asked for
	wrong  map[string]bool     // of these, those with problems
}

// NotFoundError says that no zygos.toml was found.
type NotFoundError struct{ From string }

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("no zygos.toml in %s or a folder above it; go to a workspace, name one with --workspace DIR, or make one with 'zygos new DIR'", e.From)
}

// Find looks for a workspace: in dir if it is not empty, else in the current folder and those
// above it. state moves the state away from .zygos; a relative one starts at the current folder.
func Find(dir, state string) (*Workspace, error) {
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
	w := &Workspace{Root: root, State: filepath.Join(root, ".zygos")}
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
	w.Org = definition.ReadOrganisation(w.Root, &problems)
	return problems.Err()
}

// files lists the definitions of images, in order.
func (w *Workspace) files() ([]string, error) {
	files, err := filepath.Glob(filepath.Join(definition.EscapeGlob(w.Root), "images", "*.toml"))
	slices.Sort(files)
	return files, err
}

// Load reads and checks all definitions. The error is definition.Problems if they are wrong.
func (w *Workspace) Load() error {
	var problems definition.Problems
	w.Org = definition.ReadOrganisation(w.Root, &problems)
	files, err := w.files()
	if err != nil {
		return err
	}
	w.Images = nil
	for _, f := range files {
		rel, err := filepath.Rel(w.Root, f)
		if err != nil {
			return err
		}
		w.Images = append(w.Images, definition.ReadImage(w.Root, filepath.ToSlash(rel), &problems))
	}
	definition.Check(w.Org, w.Images, &problems)
	return dedupe(problems).Err()
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
	for _, img := range w.Images {
		if img.Name == name {
			return img, nil
		}
	}
	files, err := w.files()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range files {
		names = append(names, strings.TrimSuffix(filepath.Base(f), ".toml"))
		if names[len(names)-1] == name {
			var problems definition.Problems // are lint's matter
			img := definition.ReadImage(w.Root, "images/"+name+".toml", &problems)
			if w.wrong == nil {
				w.wrong = map[string]bool{}
			}
			w.Images, w.wrong[name] = append(w.Images, img), problems != nil
			return img, nil
		}
	}
	hint := "there is no images/*.toml yet"
	if len(names) > 0 {
		hint = "images are " + strings.Join(names, ", ")
	}
	if guess := definition.Nearest(name, names); guess != "" {
		hint = fmt.Sprintf("did you mean %q?", guess)
	}
	return nil, fmt.Errorf("no image %q: images/%s.toml does not exist; %s", name, name, hint)
}

// Sound says whether an image has a definition without problems of its own.
func (w *Workspace) Sound(name string) bool {
	_, err := w.Image(name)
	return err == nil && !w.wrong[name]
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
