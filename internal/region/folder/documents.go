package folder

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"zygos/internal/definition"
	"zygos/internal/region"
	"zygos/internal/store"
)

func (f folder) Document(_ context.Context, name string, content []byte) (string, error) {
	if err := f.ready(); err != nil {
		return "", err
	}
	full := filepath.Join(f.dir, name)
	if err := makeDirs(filepath.Dir(full), 0o755); err != nil {
		return "", err
	}
	return full, store.WriteFile(full, content)
}

func (f folder) Read(_ context.Context, name string) ([]byte, time.Time, error) {
	if err := f.ready(); err != nil {
		return nil, time.Time{}, err
	}
	full := filepath.Join(f.dir, name)
	info, err := os.Stat(full)
	if err != nil {
		return nil, time.Time{}, err
	}
	content, err := os.ReadFile(full)
	return content, info.ModTime(), err
}

func (f folder) Documents(_ context.Context, below string) (names []string, err error) {
	if err := f.ready(); err != nil {
		return nil, err
	}
	all, err := filepath.Glob(filepath.Join(definition.EscapeGlob(f.dir), cmp.Or(below, "*/*"), "*.json"))
	for _, name := range all {
		name, err := filepath.Rel(f.dir, name)
		if _, _, _, ok := region.DocumentOf(filepath.ToSlash(name)); err == nil && ok {
			names = append(names, filepath.ToSlash(name))
		}
	}
	return names, err
}

func (f folder) Withdraw(_ context.Context, name string) error {
	if err := f.ready(); err != nil {
		return err
	}
	if !filepath.IsLocal(name) {
		return fmt.Errorf("%q is no document of region %s", name, f.name)
	}
	full := filepath.Join(f.dir, name)
	if err := os.Remove(full); err != nil {
		if errors.Is(err, os.ErrNotExist) {
			err = nil
		}
		return err
	}
	dir := filepath.Dir(full)
	if err := store.SyncDir(dir); err != nil {
		return err
	}
	if dir != filepath.Clean(f.dir) && os.Remove(dir) == nil { // if nothing else is in it
		return store.SyncDir(filepath.Dir(dir))
	}
	return nil
}
