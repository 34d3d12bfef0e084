package app

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zygos/demo"
	"zygos/internal/compare"
	"zygos/internal/definition"
	"zygos/internal/feed"
	"zygos/internal/plan"
	"zygos/internal/state"
	"zygos/internal/supply"
	"zygos/internal/workspace"
)

// Base is a base and how far it has come.
type Base struct {
	Name    string       `json:"name"`
	Release string       `json:"release"`
	State   string       `json:"state"`
	From    string       `json:"from"`
	Digest  string       `json:"digest"`
	Used    []string     `json:"used_by"`
	Found   *plan.Origin `json:"found,omitempty"`
}

// Bases lists bases, those named or all; with fetch, each is brought to hand and verified first.
func (a *Session) Bases(ctx context.Context, names []string, fetch bool) (list []Base, err error) {
	bases, err := a.bases(names)
	if err != nil {
		return nil, err
	}
	importer := supply.Importer(a.Session, "", a.Progress)
	for _, b := range bases {
		if fetch && !b.SHA256.IsZero() {
			if err := supply.Fetch(ctx, a.Session, b, a.Progress); err != nil {
				return nil, err
			}
		}
		line := Base{Name: b.Name, Release: b.Release, Used: []string{}, Found: plan.FoundBy(b)}
		if !b.SHA256.IsZero() {
			line.Digest = b.SHA256.String()
		}
		line.State, line.From = importer.State(b)
		for _, img := range a.Images {
			if img.Base == b.Name {
				line.Used = append(line.Used, img.Name)
			}
		}
		list = append(list, line)
	}
	return list, nil
}

// bases finds those named, or all.
func (a *Session) bases(names []string) (list []*definition.Base, err error) {
	for _, name := range names {
		if a.Org.Base(name) == nil {
			return nil, state.Ask("no base %q in zygos.toml; 'zygos bases' lists them", name)
		}
	}
	for i := range a.Org.Bases {
		if b := &a.Org.Bases[i]; len(names) == 0 || slices.Contains(names, b.Name) {
			list = append(list, b)
		}
	}
	return list, nil
}

// Refresh asks the feeds of bases, those named or all that have one. accept takes what was listed otherwise before.
func (a *Session) Refresh(ctx context.Context, names []string, accept bool) (list []feed.Answer, err error) {
	bases, err := a.bases(names)
	if err == nil {
		err = a.Writable()
	}
	var failed []error
	for _, b := range bases {
		if b.Feed == nil || err != nil {
			continue
		}
		a.Progress("ask the feed of base "+b.Name, 0, 0)
		answer, wrong := feed.Ask(ctx, a.Session, b, accept)
		if ctx.Err() != nil {
			return list, ctx.Err()
		}
		if wrong != nil {
			failed = append(failed, wrong)
			a.unheard[b.Name] = wrong
			continue
		}
		delete(a.unheard, b.Name)
		list = append(list, *answer)
	}
	return list, errors.Join(append(failed, err)...)
}

// Feeds names the bases of images, those named or all, that are found by a feed: a build begins with Refresh of these, and what goes wrong
// there is told again when its turn comes.
func (a *Session) Feeds(images []string) (bases []string) {
	for _, img := range a.Images {
		if b := a.Org.Base(img.Base); b != nil && b.Feed != nil && !slices.Contains(bases, b.Name) &&
			(len(images) == 0 || slices.Contains(images, img.Name)) {
			bases = append(bases, b.Name)
		}
	}
	return bases
}

// Preview is the plan of an image, made without running or changing anything.
func (a *Session) Preview(ctx context.Context, image string, o plan.Options) (*plan.Plan, error) {
	if _, err := a.Definition(image); err != nil {
		return nil, err
	}
	o.Preview = true
	made, err := a.Plan(ctx, image, a.Session.Previewer(), o)
	a.noteBehind(made)
	return made, err
}

// noteBehind says of a plan that makes a version of a lower series what else that means.
func (a *Session) noteBehind(p *plan.Plan) {
	if p != nil && p.Behind != "" {
		a.Note(fmt.Sprintf("the series of %s is below %s, which %q still means, and what is built on %q does not follow; raise the series, "+
			"or recall %s@%s", p.Image, p.Behind, p.Image, p.Image, p.Image, p.Behind))
	}
}

// Against is what differs between an image's definition and the one that a version was built from; the
// version's image if image is "".
func (a *Session) Against(ctx context.Context, ref, image string, o plan.Options) (*compare.Definitions, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err != nil {
		return nil, err
	}
	if image == "" {
		image = v.Image
	}
	now, err := a.Preview(ctx, image, o)
	if err != nil {
		return nil, err
	}
	return compare.DefinitionsOf(a.Session, v, now)
}

// NewImage copies the definition of an image, and returns the file of the new one.
func NewImage(w *workspace.Workspace, name, from string) (file string, err error) {
	if !definition.IsName(name) {
		return "", state.Ask("%q is no name for an image; use lower-case letters, digits, '-' and '.'", name)
	}
	other, err := w.Image(from)
	if err != nil {
		return "", err
	}
	text, err := os.ReadFile(w.Path(other.File))
	if err != nil {
		return "", err
	}
	file = "images/" + name + ".toml"
	f, err := os.OpenFile(w.Path(file), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, os.ErrExist) {
		return "", fmt.Errorf("%s exists already; choose another name or edit it", file)
	}
	if err != nil {
		return "", err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Close()); err != nil {
		return "", errors.Join(err, os.Remove(f.Name()))
	}
	return file, nil
}

// NewWorkspace lays out a small workspace in a new folder.
func NewWorkspace(dir string) error {
	if err := lay(demo.Files, "starter", dir); err != nil {
		return err
	}
	return lay(demo.Files, "workspace/bases", filepath.Join(dir, "bases"))
}

// NewDemo lays out the workspace of the worked example in a new folder.
func NewDemo(dir string) error {
	if err := lay(demo.Files, "workspace", dir); err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0") // an address that the simulated cloud can have
	if err != nil {
		return err
	}
	defer l.Close()
	file := filepath.Join(dir, "zygos.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return os.WriteFile(file, bytes.Replace(text, []byte("127.0.0.1:8440"), []byte(l.Addr().String()), 1), 0o644)
}

// lay writes an embedded folder into a new one, all or nothing.
func lay(files fs.FS, from, to string) error {
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty; name a folder that is new", to)
	}
	_, before := os.Stat(to)
	err := fs.WalkDir(files, from, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		if d.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		text, err := fs.ReadFile(files, p)
		if err != nil {
			return err
		}
		mode := os.FileMode(0o644)
		if strings.HasSuffix(p, ".sh") {
			mode = 0o755
		}
		return os.WriteFile(target, text, mode)
	})
	if err != nil && errors.Is(before, fs.ErrNotExist) {
		err = errors.Join(err, os.RemoveAll(to))
	}
	return err
}
