// Package catalog records what exists: builds, versions with their artifacts, tags and their
// moves, placements. It holds the rules about them, in one place: which number a version gets,
// what a reference means. It knows no files: a row is written after the bytes it speaks of are safe.
package catalog

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"zygos/internal/plain"
)

// Catalog is the database of one workspace state, or of several that share it.
type Catalog struct {
	session
	pool   *pool
	where  string
	had    int           // schema of the tables when they were opened
	id     string        // "" for one that had none when it was opened
	frozen bool          // it can only be read
	ahead  time.Duration // that the catalog's clock is ahead of this machine's
	// Lifted hears that the first change brought the tables from one schema to another; may be nil.
	Lifted func(from, to int)

	lifting  sync.Mutex
	copied   atomic.Bool // a copy is read, until the first change
	original *sql.DB     // the file of which a copy was made, nil if none was; the copy once the file is read again
	temp     string      // folder of the copy
}

// Close ends the use of the catalog.
func (c *Catalog) Close() error {
	c.lifting.Lock()
	defer c.lifting.Unlock()
	err := c.pool.Load().Close()
	if c.original != nil {
		err = errors.Join(err, c.original.Close())
	}
	if c.temp != "" {
		err = errors.Join(err, os.RemoveAll(c.temp)) // what stays is swept
	}
	return err
}

// Now is the time by the catalog's clock. For a database it is the server's, as it was ahead of or behind this machine's when the
// catalog was opened: so machines whose clocks differ agree on the age of things.
func (c *Catalog) Now() time.Time { return time.Now().Add(c.ahead) }

// Skew is how far a recorded time may lie ahead of the catalog's clock and still be believed.
const Skew = time.Minute

// setClock learns how far the clock of a database is ahead.
func (c *Catalog) setClock(now string) {
	const answer = time.Second // that the question may have taken
	if at := unstamp(now); c.dialect.lock && !at.IsZero() {
		if c.ahead = time.Until(at); c.ahead.Abs() < answer {
			c.ahead = 0
		}
	}
}

// ID identifies the catalog; it stays the same when the catalog is exported and imported elsewhere.
func (c *Catalog) ID(ctx context.Context) (id string, err error) {
	if c.id != "" {
		return c.id, nil
	}
	return c.first(ctx, "id", func() (string, error) { return rand.Text(), nil })
}

// Become gives a catalog that has none the identity of one that was lost.
func (c *Catalog) Become(ctx context.Context, id string) error {
	_, err := c.first(ctx, "id", func() (string, error) { return id, nil })
	return err
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

// rows are the rows of a query, all read.
type rows struct {
	width  int
	values []any
}

func readAll(from *sql.Rows, err error) (*rows, error) {
	if err != nil {
		return nil, err
	}
	defer from.Close()
	columns, err := from.Columns()
	if err != nil {
		return nil, err
	}
	list, into := &rows{width: len(columns)}, make([]any, len(columns))
	for from.Next() {
		at := len(list.values)
		list.values = append(list.values, make([]any, len(columns))...)
		for i := range into {
			into[i] = &list.values[at+i]
		}
		if err := from.Scan(into...); err != nil {
			return nil, err
		}
	}
	return list, from.Err()
}

// row is one of rows.
type row []any

// Scan reads the columns into variables of the types that the catalog uses.
func (r row) Scan(into ...any) error {
	if len(into) != len(r) {
		return fmt.Errorf("%d columns, and %d to read", len(r), len(into))
	}
	for i, value := range r {
		if bytes, ok := value.([]byte); ok {
			value = string(bytes)
		}
		var ok bool
		switch to := into[i].(type) {
		case *string:
			*to, ok = value.(string)
		case *int64:
			*to, ok = value.(int64)
		case *int:
			var n int64
			n, ok = value.(int64)
			*to = int(n)
		case *bool:
			var n int64
			n, ok = value.(int64)
			*to = n != 0
		case sql.Scanner:
			if err := to.Scan(value); err != nil {
				return err
			}
			ok = true
		}
		if !ok {
			return fmt.Errorf("column %d: a %T was not expected", i+1, value)
		}
	}
	return nil
}

// each goes through the rows of a query.
func each(list *rows, err error, read func(row) error) error {
	if err != nil {
		return err
	}
	for at := 0; at < len(list.values); at += list.width {
		if err := read(row(list.values[at : at+list.width])); err != nil {
			return err
		}
	}
	return nil
}

// collect lists what is read of the rows of a query.
func collect[T any](from *rows, err error, read func(row) (T, error)) (list []T, _ error) {
	if err == nil {
		list = make([]T, 0, len(from.values)/max(from.width, 1))
	}
	err = each(from, err, func(r row) error {
		item, err := read(r)
		list = append(list, item)
		return err
	})
	if err != nil {
		return nil, err
	}
	return list, nil
}
