// Package catalog records what exists: builds, versions with their artifacts, tags and their
// moves, placements. It holds the rules about them, in one place: which number a version gets,
// what a reference means. It knows no files: a row is written after the bytes it speaks of are safe.
package catalog

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database
)

//go:embed migrations/*.sql
var migrations embed.FS

const newestSchema = 4 // user_version that the last migration sets

// Catalog is the database of one workspace state.
type Catalog struct {
	db *sql.DB

	mu       sync.Mutex
	recalled map[string]*Recall // as of the database's data version below; nil when this process changed something
	version  int64
}

// Open opens the catalog in a file, making it or bringing it up to date where needed.
func Open(ctx context.Context, file string) (*Catalog, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, err
	}
	address := url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: url.Values{"_pragma": {
		"busy_timeout(20000)", "journal_mode(WAL)", "foreign_keys(1)", "synchronous(FULL)"}, "_txlock": {"immediate"}}.Encode()}
	db, err := sql.Open("sqlite", address.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	c := &Catalog{db: db}
	if err := c.migrate(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("catalog %s: %w", file, err)
	}
	return c, nil
}

// Close ends the use of the catalog.
func (c *Catalog) Close() error { return c.db.Close() }

func (c *Catalog) migrate(ctx context.Context) error {
	var have int
	if err := c.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	if have == newestSchema {
		return nil
	}
	if have > newestSchema {
		return fmt.Errorf("it was written by a newer Zygos (schema %d, this one knows %d); use that one", have, newestSchema)
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, c.db, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// in runs changes as one transaction.
func (c *Catalog) in(ctx context.Context, change func(*sql.Tx) error) error {
	tx, err := c.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer c.changed()
	if err := change(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// changed forgets what was remembered of the database.
func (c *Catalog) changed() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.recalled = nil
}

// timeForm is how times are kept: UTC, sortable as text.
const timeForm = "2006-01-02T15:04:05.000Z"

func stamp(t time.Time) string { return t.UTC().Format(timeForm) }

func unstamp(s string) time.Time {
	t, err := time.Parse(timeForm, s)
	if err != nil {
		return time.Time{}
	}
	return t
}

// collect reads all rows of a query.
func collect[T any](rows *sql.Rows, err error, read func(*sql.Rows) (T, error)) ([]T, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []T
	for rows.Next() {
		item, err := read(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, item)
	}
	return list, rows.Err()
}
