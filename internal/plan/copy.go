package plan

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"zygos/internal/definition"
)

// copy describes a step that copies a file, a folder or what matches a pattern.
func (d *describer) copy(f definition.File, to, owner string) (*Step, string, error) {
	step := &Step{Name: "copy " + f.From, Source: f.From, Copy: &Copy{To: to, Owner: owner}}
	mentions := ""
	add := func(source, to string) error {
		return filepath.WalkDir(filepath.Join(d.root, source), func(name string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			rel, err := filepath.Rel(filepath.Join(d.root, source), name)
			if err != nil {
				return err
			}
			item := Item{Source: filepath.ToSlash(filepath.Join(source, rel)), To: path.Join(to, filepath.ToSlash(rel))}
			switch {
			case entry.IsDir():
				item.Dir, item.Mode = true, "0755"
			case entry.Type() == fs.ModeSymlink && rel != ".":
				item.Mode = "0777"
				if item.Link, err = os.Readlink(name); err != nil {
					return err
				}
			case entry.Type().IsRegular() || entry.Type() == fs.ModeSymlink:
				c, err := d.content(item.Source)
				if err != nil {
					return err
				}
				item.Digest, item.Mode = c.digest, mode(f.Mode, c.mode)
				mentions += c.names
				d.addSource(item.Source, c.digest)
			default:
				return fmt.Errorf("%s: %s is no file, folder or link, and cannot be copied", f.Pos, item.Source)
			}
			step.Files = append(step.Files, item)
			return nil
		})
	}
	if !definition.IsPattern(f.From) {
		info, err := os.Stat(filepath.Join(d.root, f.From))
		if err != nil {
			return nil, "", err
		}
		if strings.HasSuffix(to, "/") && !info.IsDir() {
			to = path.Join(to, path.Base(f.From))
		}
		step.To = to
		err = add(f.From, path.Clean(to))
		step.Digest = hashOf(step.Files)
		return step, mentions, err
	}
	found, err := filepath.Glob(filepath.Join(definition.EscapeGlob(d.root), f.From))
	if err != nil {
		return nil, "", err
	}
	for _, name := range found {
		rel, err := filepath.Rel(d.root, name)
		if err != nil {
			return nil, "", err
		}
		if err := add(rel, path.Join(to, filepath.Base(rel))); err != nil {
			return nil, "", err
		}
	}
	step.Digest = hashOf(step.Files)
	return step, mentions, nil
}

func mode(asked int, found fs.FileMode) string {
	switch {
	case asked >= 0:
		return fmt.Sprintf("%04o", asked)
	case found&0o100 != 0:
		return "0755"
	}
	return "0644"
}
