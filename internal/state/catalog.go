package state

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/host"
	"zygos/internal/secret"
	"zygos/internal/store"
)

// StrangerError says that a state belongs to another catalog than the one that zygos.toml names.
type StrangerError struct{ State, Had, Now string }

func (e *StrangerError) Error() string {
	move := "zygos import " + e.Had
	if catalog.IsAddress(e.Had) {
		move = "name it in [catalog] again, 'zygos export > FILE', take it out, 'zygos import FILE'"
	}
	return fmt.Sprintf("the state %s belongs to the catalog %s, and zygos.toml leads to %s. To move the catalog there: %s. "+
		"To leave this state as it is and begin another: --state DIR", e.State, e.Had, e.Now, move)
}

// MovedError says that a state that shares a catalog was used elsewhere before.
type MovedError struct {
	State Dir
	Had   string // folder
}

func (e *MovedError) Error() string {
	return fmt.Sprintf("the state %s was used as %s, on this machine or another one. States that share a catalog know each other by their "+
		"identity: two with the same one take each other's builds for dead. If it was moved and nobody uses it there any more: rm %s. "+
		"If this is a copy, make it another state: rm %s %s", e.State, e.Had, e.State.whereabouts(), e.State.whereabouts(), e.State.identity())
}

// checkPlace makes sure that the identity is used where it was first used.
func (s *State) checkPlace() error {
	if s.Frozen {
		return nil // nothing is built
	}
	at, err := filepath.EvalSymlinks(s.Dir.In())
	if err != nil {
		return err
	}
	here := host.ID() + " " + at
	had, err := store.First(s.Dir.whereabouts(), []byte(here))
	if _, folder, _ := strings.Cut(string(had), " "); err == nil && string(had) != here && s.named.URL != "" {
		return &MovedError{s.Dir, folder}
	}
	return err
}

// address is the catalog that zygos.toml names, with its password, or the state's own.
func (s *State) address(ctx context.Context) (where, password string, err error) {
	named := s.named
	if named.Credentials != "" {
		var set bool
		if password, set, err = secret.Read(ctx, named.Credentials, s.root); err != nil || !set {
			return "", "", fmt.Errorf("%s: the credentials of [catalog], %s, give no password: %w", named.Pos, named.Credentials,
				cmp.Or(err, errors.New("it is not set")))
		}
	}
	return cmp.Or(named.URL, s.Dir.CatalogFile()), password, nil
}

// LiftCatalog brings the catalog up to the newest schema, and says which one it had.
func (s *State) LiftCatalog(ctx context.Context) (had int, err error) {
	if err := s.Writable(); err != nil {
		return 0, err
	}
	where, password, err := s.address(ctx)
	if err != nil {
		return 0, err
	}
	return catalog.Lift(ctx, where, password)
}

// Serves refuses definitions that name another catalog than the one that is open.
func (s *State) Serves(named definition.Catalog) error {
	if named.URL == s.named.URL {
		return nil
	}
	return fmt.Errorf("%s: [catalog] names another catalog now than when this process opened the state; start it again", named.Pos)
}

// openCatalog opens the catalog that zygos.toml names, or the state's own.
func (s *State) openCatalog(ctx context.Context, problems definition.Problems) error {
	id, err := store.First(s.Dir.identity(), []byte(rand.Text()))
	if err != nil {
		return err
	}
	s.ID = string(id)
	if err := s.checkPlace(); err != nil {
		return err
	}
	named := s.named
	where, password, err := s.address(ctx)
	if err != nil {
		return err
	}
	if named.URL == "" {
		if err := s.lost(); err != nil {
			return err
		}
	}
	if s.Frozen && named.URL == "" {
		s.Catalog, err = catalog.OpenReadOnly(ctx, where)
	} else {
		s.Catalog, err = catalog.Open(ctx, where, password)
	}
	if broken := (*catalog.BrokenError)(nil); errors.As(err, &broken) {
		return &LostError{where, broken.Error()}
	}
	if err != nil {
		if named.URL != "" {
			err = fmt.Errorf("%s: %w", named.Pos, err)
		}
		return err
	}
	err = s.checkCatalog(ctx, catalog.Plain(where))
	var stranger *StrangerError
	if errors.As(err, &stranger) && problems != nil {
		err = problems // what zygos.toml says of the catalog may not have been understood
	}
	return err
}

// LostError says that the state's own catalog is gone or damaged, and how to get it back.
type LostError struct{ File, What string }

func (e *LostError) Error() string {
	builds := Dir(filepath.Dir(e.File)).Builds()
	return fmt.Sprintf("the catalog %s cannot be used: %s. The versions are not lost with it. Put a copy of the file in its place, or "+
		"read an exported catalog with "+
		"'zygos import FILE'; without either, 'zygos import %s' makes it anew from the records of builds and the indexes of regions", e.File,
		e.What, builds)
}

// lost says what is wrong with the file of a catalog that this state has had, before anything opens it
// and begins a new one.
func (s *State) lost() error {
	text, err := os.ReadFile(s.Dir.CatalogID())
	if _, at, _ := strings.Cut(string(text), " "); err != nil || catalog.IsAddress(at) {
		return nil
	}
	file := s.Dir.CatalogFile()
	head := make([]byte, len(DatabaseMagic))
	f, err := os.Open(file)
	if errors.Is(err, os.ErrNotExist) {
		return &LostError{file, "it is not there"}
	} else if err != nil {
		return err
	}
	defer f.Close()
	switch n, _ := io.ReadFull(f, head); {
	case n == 0:
		return &LostError{file, "it is empty"}
	case string(head) != DatabaseMagic:
		return &LostError{file, "it is no database"}
	}
	return nil
}

// DatabaseMagic begins the file of a catalog (SQLite, "Database File Format", 1.3).
const DatabaseMagic = "SQLite format 3"

// checkCatalog makes sure that the state goes with the catalog: what no version in the catalog
// speaks of would be swept.
func (s *State) checkCatalog(ctx context.Context, where string) error {
	name := s.Dir.CatalogID()
	if _, err := os.Stat(name); errors.Is(err, os.ErrNotExist) && catalog.IsAddress(where) {
		if _, err := os.Stat(s.Dir.CatalogFile()); err == nil { // the state has versions of its own
			own, err := catalog.Open(ctx, s.Dir.CatalogFile(), "")
			if err != nil {
				return err
			}
			id, err := own.ID(ctx)
			own.Close()
			if err != nil {
				return err
			}
			if _, err := store.First(name, []byte(id+" "+s.Dir.CatalogFile())); err != nil {
				return err
			}
		}
	}
	id, err := s.Catalog.ID(ctx)
	if err != nil {
		return err
	}
	text, err := store.First(name, []byte(id+" "+where))
	if err != nil {
		return err
	}
	had, at, _ := strings.Cut(string(text), " ")
	if had != id || catalog.IsAddress(at) != catalog.IsAddress(where) { // in one of both places is an old copy
		return &StrangerError{string(s.Dir), at, where}
	}
	return nil
}

// Where is the catalog that the state uses, without what nobody needs to read.
func (s *State) Where() string {
	if s.named.URL != "" {
		return catalog.Plain(s.named.URL)
	}
	return s.Dir.CatalogFile()
}
