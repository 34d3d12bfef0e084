package catalog

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"zygos/internal/flock"
)

// A program reads and writes the tables of the newest schema and of the one before it, so that those who share a catalog need not
// change their programs on one day. Looking lifts no catalog to a newer schema: in a file, the first change does; in a database, Lift.
const (
	newestSchema = 12 // number of the last migration
	oldestSchema = newestSchema - 1
)

// OldError says that a shared catalog must be lifted before this program can use it.
type OldError struct{ Have int }

func (e *OldError) Error() string {
	return fmt.Sprintf("its tables are those of an older Zygos (schema %d, this one uses %d and %d). 'zygos catalog --upgrade' brings them "+
		"up to date; older programs cannot use the catalog from then on", e.Have, oldestSchema, newestSchema)
}

// NewerError says that a catalog, or what was exported of one, is of a newer program.
type NewerError struct{ Have int }

func (e *NewerError) Error() string {
	return fmt.Sprintf("it was written by a newer Zygos (schema %d, this one knows %d); use that one", e.Have, newestSchema)
}

// Newest is the newest schema that this program knows.
const Newest = newestSchema

// Schema is the number of the schema that the catalog's tables had when it was opened, and of the newest that this program knows.
func (c *Catalog) Schema() (have, newest int) { return c.had, newestSchema }

// layered are the migrations of a dialect and, after them, those for all.
type layered struct{ own, all fs.FS }

func (b layered) Open(name string) (fs.File, error) {
	f, err := b.own.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return b.all.Open(name)
	}
	return f, err
}

func (b layered) ReadDir(name string) ([]fs.DirEntry, error) {
	own, err1 := fs.ReadDir(b.own, name)
	all, err2 := fs.ReadDir(b.all, name)
	return append(own, all...), errors.Join(err1, err2)
}

// ready makes the tables of a new catalog, and makes sure that this program can use those of an old one.
func (c *Catalog) ready(ctx context.Context) error {
	have, err := c.readSchema(ctx)
	for range 2 { // a server that is not there is said to be away at once; a line that broke is tried again
		var unreachable *pgconn.ConnectError
		if err == nil || !passes(err) || errors.As(err, &unreachable) || ctx.Err() != nil {
			break
		}
		have, err = c.readSchema(ctx)
	}
	defer func() { c.had = have }()
	if err == nil && have == 0 && !c.frozen {
		err = c.alone(ctx, func() error { // another process may be first
			if have, err = c.readSchema(ctx); err == nil && have == 0 {
				if err = c.migrate(ctx, newestSchema); err == nil {
					have, err = c.readSchema(ctx)
				}
			}
			return err
		})
	}
	if err != nil || have >= oldestSchema {
		return err
	}
	if c.dialect.lock {
		return &OldError{have}
	}
	return c.readCopy(ctx)
}

// readSchema reads the number of the last migration that the database has seen, 0 for one without tables. It learns the identity and
// the clock on the way.
func (c *Catalog) readSchema(ctx context.Context) (have int, err error) {
	var now string
	if err := c.row(ctx, "SELECT max(version_id), coalesce((SELECT value FROM about WHERE name = 'id'), ''), "+c.dialect.now+
		" FROM goose_db_version").Scan(&have, &c.id, &now); err != nil {
		var refused *pgconn.PgError
		if c.dialect.lock && !errors.As(err, &refused) {
			return 0, err
		}
		// A new catalog, or one from before it had an identity; if the tables cannot be read for another reason, that is met again.
		if c.row(ctx, "SELECT max(version_id) FROM goose_db_version").Scan(&have) != nil {
			have = 0
		}
	}
	if have > newestSchema {
		return have, &NewerError{have}
	}
	c.schema.Store(int32(have))
	c.setClock(now)
	return have, nil
}

// alone does something while no other process changes the schema.
func (c *Catalog) alone(ctx context.Context, do func() error) error {
	if !c.dialect.lock { // migrations of a database lock by themselves
		folder, err := os.Open(filepath.Dir(c.where))
		if err != nil {
			return err
		}
		defer folder.Close() // and with it the lock
		if err := flock.Take(ctx, folder); err != nil {
			return err
		}
	}
	return do()
}

// migrate changes the tables until they have a schema.
func (c *Catalog) migrate(ctx context.Context, to int64) error {
	own, err1 := fs.Sub(migrations, path.Join("migrations", c.dialect.name))
	all, err2 := fs.Sub(migrations, "migrations/all")
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	var options []goose.ProviderOption
	if c.dialect.lock {
		locker, err := lock.NewPostgresSessionLocker(lock.WithLockTimeout(1, 60))
		if err != nil {
			return err
		}
		options = append(options, goose.WithSessionLocker(locker))
	}
	provider, err := goose.NewProvider(c.dialect.goose, c.pool.Load(), layered{own, all}, options...)
	if err != nil {
		return err
	}
	_, err = provider.UpTo(ctx, to)
	return err
}

// readCopy reads an old file from a copy with the newest tables, until a change is made.
func (c *Catalog) readCopy(ctx context.Context) error {
	under := filepath.Dir(c.where)
	if c.frozen {
		under = "" // the system's folder for such files
	}
	dir, err := os.MkdirTemp(under, TempPrefix)
	if err != nil {
		return err
	}
	c.temp = dir
	name := filepath.Join(dir, "catalog.db")
	if _, err := c.exec(ctx, "VACUUM INTO ?", name); err != nil {
		return err
	}
	db, _, err := openFile(name, writable)
	if err != nil {
		return err
	}
	c.original = c.pool.Swap(db)
	c.copied.Store(true)
	if err := c.migrate(ctx, newestSchema); err != nil {
		return err
	}
	_, err = c.readSchema(ctx)
	return err
}

// TempPrefix begins the names of folders that are swept once no process uses a state.
const TempPrefix = ".new-"

// lift brings a catalog in a file up to the newest schema, before the first change.
func (c *Catalog) lift(ctx context.Context) error {
	if c.dialect.lock || !c.copied.Load() && c.schema.Load() == newestSchema {
		return nil
	}
	c.lifting.Lock()
	defer c.lifting.Unlock()
	if !c.copied.Load() && c.schema.Load() == newestSchema {
		return nil
	}
	if !c.copied.Load() {
		return c.up(ctx)
	}
	file := newCatalog(c.where, c.original, c.dialect)
	file.Lifted = c.Lifted
	if err := file.up(ctx); err != nil {
		return err
	}
	c.original = c.pool.Swap(c.original) // somebody may still read the copy
	c.copied.Store(false)
	return nil
}

// up brings the tables to the newest schema, and says so.
func (c *Catalog) up(ctx context.Context) error {
	return c.alone(ctx, func() error {
		have, err := c.readSchema(ctx)
		if err != nil || have == newestSchema {
			return err
		}
		if err := c.migrate(ctx, newestSchema); err != nil {
			return err
		}
		if c.Lifted != nil {
			c.Lifted(have, newestSchema)
		}
		_, err = c.readSchema(ctx)
		return err
	})
}

// Lift brings a catalog up to the newest schema, and says which one it had.
func Lift(ctx context.Context, where, password string) (had int, err error) {
	c, err := connect(where, password)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	if had, err = c.readSchema(ctx); err == nil {
		err = c.up(ctx)
	}
	if err != nil {
		err = fmt.Errorf("catalog %s: %w", Plain(where), explain(err))
	}
	return had, err
}

// at makes a new catalog in a file with the tables of an older schema, to read what was exported from one.
func at(ctx context.Context, file string, schema int64) (*Catalog, error) {
	db, d, err := openFile(file, writable)
	if err != nil {
		return nil, err
	}
	c := newCatalog(file, db, d)
	if err := c.migrate(ctx, schema); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	_, err = c.readSchema(ctx)
	return c, err
}

var writable = url.Values{"_pragma": {busy, "journal_mode(WAL)", "foreign_keys(1)", "synchronous(FULL)"}, "_txlock": {"immediate"}}
