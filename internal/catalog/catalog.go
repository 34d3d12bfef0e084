// Package catalog records what exists: builds, versions with their artifacts, tags and their
// moves, placements. It holds the rules about them, in one place: which number a version gets,
// what a reference means. It knows no files: a row is written after the bytes it speaks of are safe.
package catalog

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"time"

	"zygos/internal/plain"
)

// Catalog is the database of one workspace state, or of several that share it.
type Catalog struct {
	session
	db     *sql.DB
	id     string // "" for one that had none when it was opened
	frozen bool   // it can only be read
}

// Close ends the use of the catalog.
func (c *Catalog) Close() error { return c.db.Close() }

// ID identifies the catalog; it stays the same when the catalog is exported and imported elsewhere.
func (c *Catalog) ID(ctx context.Context) (id string, err error) {
	if c.id != "" {
		return c.id, nil
	}
	return c.first(ctx, "id", func() (string, error) { return rand.Text(), nil })
}

// SecretKey is the key of the marks of secrets for all states that share the catalog; the first one
// to ask gives it; without give, it is "" as long as there is none. It is not exported.
func (c *Catalog) SecretKey(ctx context.Context, give func() (string, error)) (key string, err error) {
	return c.first(ctx, secretKey, give)
}

const secretKey = "secret-key"

func noRows(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// first is what the catalog keeps under a name; if it keeps nothing, what it is given, or "" without give.
func (c *Catalog) first(ctx context.Context, name string, give func() (string, error)) (value string, err error) {
	const query = "SELECT value FROM about WHERE name = ?"
	if err = c.row(ctx, query, name).Scan(&value); !errors.Is(err, sql.ErrNoRows) || give == nil {
		return value, noRows(err)
	}
	given, err := give()
	if err != nil {
		return "", err
	}
	err = c.asOne(ctx, func(tx session) error {
		if _, err := tx.exec(ctx, "INSERT INTO about (name, value) VALUES (?, ?) ON CONFLICT (name) DO NOTHING", name, given); err != nil {
			return err
		}
		return tx.row(ctx, query, name).Scan(&value)
	})
	return value, err
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

// cleaned reads a text that somebody typed, maybe on another machine: what a terminal would obey is written out.
type cleaned struct{ to *string }

func (c cleaned) Scan(value any) error {
	var text sql.NullString
	err := text.Scan(value)
	*c.to = plain.Text(text.String)
	return err
}

// each reads all rows of a query.
func each(rows *sql.Rows, err error, read func(*sql.Rows) error) error {
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := read(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// collect lists all rows of a query.
func collect[T any](rows *sql.Rows, err error, read func(*sql.Rows) (T, error)) (list []T, _ error) {
	err = each(rows, err, func(rows *sql.Rows) error {
		item, err := read(rows)
		list = append(list, item)
		return err
	})
	if err != nil {
		return nil, err
	}
	return list, nil
}
