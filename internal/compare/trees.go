// Package compare says what differs: between the trees of two builds, and between a definition and the
// one that a version was built from.
package compare

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	udiff "github.com/aymanbagabas/go-udiff"

	"zygos/internal/catalog"
	"zygos/internal/inventory"
	"zygos/internal/layer"
	"zygos/internal/record"
	"zygos/internal/session"
)

// Side is a tree that is compared.
type Side struct {
	Name string // as people know it
	layer.Files
}

// Trees is what differs between two trees.
type Trees struct {
	Was       string             `json:"was"`
	Now       string             `json:"now"`
	Bytes     [2]int64           `json:"bytes"` // size of the files, was and now
	Files     []layer.Change     `json:"files"`
	Packages  []inventory.Change `json:"packages"`
	Users     []inventory.Change `json:"users"`
	Groups    []inventory.Change `json:"groups"`
	Services  []inventory.Change `json:"services"`
	Listening []inventory.Change `json:"listening"`
	// Unread is, for was and now, a package database of a kind that cannot be read; "" for none.
	Unread [2]string `json:"-"`
}

// View is the tree of a build to look at: after a stage, or what it captured if stage is "".
func View(ctx context.Context, s *session.Session, id, variant, stage string) (*record.View, error) {
	b, err := s.Catalog.Build(ctx, id)
	if err != nil {
		return nil, err
	}
	s.Settle(b)
	if b.State != catalog.Registered {
		if err := Elsewhere(s, b); err != nil {
			return nil, err
		}
		return record.ViewFailed(ctx, s.Dir, b, variant, stage)
	}
	view, err := record.ViewBuild(s.Dir, id, variant, stage)
	if !errors.Is(err, os.ErrNotExist) {
		return view, err
	}
	where := "in another state"
	if b.Host != "" {
		where += ", on " + b.Host
	}
	return nil, fmt.Errorf("%s@%s was built %s, and its record and layers are only there. Look at it there, or build %s here: zygos build "+
		"%s --force", b.Image, b.Version, where, b.Image, b.Image)
}

// Elsewhere is an error if a build belongs to another state, where what it left is.
func Elsewhere(s *session.Session, b *catalog.Build) error {
	if b.Place == "" || b.Place == s.ID {
		return nil
	}
	return fmt.Errorf("build %s of %s is not from this state but from one on %s; use zygos there", b.ID, b.Image, b.Host)
}

// SideOf is the tree of a build as a side; name is how people know it.
func SideOf(ctx context.Context, s *session.Session, id, name, variant, stage string) (*Side, error) {
	view, err := View(ctx, s, id, variant, stage)
	if err != nil {
		return nil, err
	}
	side := &Side{Name: name, Files: layer.Files{Store: s.Layers, Layers: view.Layers}}
	side.Tree, err = s.Layers.Stack(view.Layers)
	return side, err
}

// TreesOf compares two trees; of the files those below a folder, of all if below is "".
func TreesOf(was, now *Side, below string) *Trees {
	a, b := inventory.Read(was), inventory.Read(now)
	d := &Trees{Was: was.Name, Now: now.Name, Bytes: [2]int64{was.Tree.Size(), now.Tree.Size()}, Files: layer.Diff(was.Tree, now.Tree),
		Packages: inventory.Diff(a.Packages, b.Packages), Users: inventory.Diff(a.Users, b.Users), Groups: inventory.Diff(a.Groups, b.Groups),
		Services: inventory.Diff(a.Services, b.Services), Listening: inventory.Diff(a.Listening, b.Listening),
		Unread: [2]string{a.Unread, b.Unread}}
	if below = strings.Trim(filepath.Clean("/"+below), "/"); below != "" {
		d.Files = slices.DeleteFunc(d.Files, func(c layer.Change) bool { return c.Path != below && !strings.HasPrefix(c.Path, below+"/") })
	}
	return d
}

const longestText = 4 << 20 // bytes of two files that are compared line by line

// File is what differs in one file, as a unified comparison; "" if nothing does.
func File(was, now *Side, path string) (name, text string, err error) {
	name = strings.Trim(filepath.Clean("/"+path), "/")
	a, b := was.Read(name), now.Read(name)
	switch {
	case a == nil && b == nil:
		return name, "", fmt.Errorf("neither %s nor %s has a file /%s", was.Name, now.Name, name)
	case slices.Contains(a, 0) || slices.Contains(b, 0) || len(a)+len(b) > longestText:
		return name, "", fmt.Errorf("/%s is no text that can be compared line by line: %.1f MiB and %.1f MiB", name, float64(len(a))/(1<<20),
			float64(len(b))/(1<<20))
	}
	return name, udiff.Unified(was.Name+" /"+name, now.Name+" /"+name, string(a), string(b)), nil
}
