package catalog

import (
	"bufio"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"zygos/internal/bounded"
)

// tables in the order in which they refer to each other.
var tables = []string{"about", "builds", "versions", "labels", "artifacts", "tags", "tag_moves", "placements", "recalls", "judgements"}

// transferSchema names the document that Export writes: a line with schema and version of the
// tables, then a line for each row, {"table": …, "row": {column: value}}.
const transferSchema = "zygos.catalog/1"

type transferHead struct {
	Schema  string `json:"schema"`
	Version int    `json:"version"`
}

type transferRow struct {
	Table string         `json:"table"`
	Row   map[string]any `json:"row"`
}

// Export writes the whole catalog as JSON lines, as it is at one moment, and returns how many rows.
func (c *Catalog) Export(ctx context.Context, w io.Writer) (count int, err error) {
	out := bufio.NewWriter(w)
	enc := json.NewEncoder(out)
	if err := enc.Encode(transferHead{transferSchema, int(c.schema.Load())}); err != nil {
		return 0, err
	}
	tx, err := c.pool.Load().BeginTx(ctx, &sql.TxOptions{ReadOnly: true, Isolation: sql.LevelRepeatableRead}) // one moment for all tables
	if err != nil {
		return 0, err
	}
	err = func() error {
		for _, table := range tables {
			query := "SELECT * FROM " + table
			if table == "about" {
				query += " WHERE name <> '" + secretKey + "'"
			}
			rows, err := tx.QueryContext(ctx, query)
			if err != nil {
				return err
			}
			columns, err := rows.Columns()
			if err != nil {
				return errors.Join(err, rows.Close())
			}
			values, into := make([]any, len(columns)), make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			for err == nil && rows.Next() {
				if err = rows.Scan(into...); err == nil {
					row := map[string]any{}
					for i, name := range columns {
						row[name] = values[i]
					}
					count++
					err = enc.Encode(transferRow{table, row})
				}
			}
			if err = errors.Join(err, rows.Err(), rows.Close()); err != nil {
				return fmt.Errorf("export %s: %w", table, err)
			}
		}
		return nil
	}()
	return count, errors.Join(err, tx.Rollback(), out.Flush())
}

// Import reads what Export wrote, of this schema or an older one, into an empty catalog, all or nothing, and returns how many rows and
// the identity that the catalog has from then on. If only is not "", it must be that one. temp is a folder for what lies in between.
func (c *Catalog) Import(ctx context.Context, r io.Reader, only, temp string) (count int, id string, err error) {
	lines := bounded.NewReader(ctx, bufio.NewReaderSize(r, 1<<16), "a row", mostRow)
	in := json.NewDecoder(lines)
	in.UseNumber()
	var head transferHead
	if err := in.Decode(&head); err != nil || head.Schema != transferSchema {
		return 0, "", fmt.Errorf("this is no exported catalog: its first line must have the schema %q", transferSchema)
	}
	if head.Version > newestSchema {
		return 0, "", &NewerError{head.Version}
	}
	if err := empty(ctx, c.session); err != nil {
		return 0, "", err
	}
	if err := c.up(ctx); err != nil { // nobody uses it yet
		return 0, "", err
	}
	if head.Version < newestSchema {
		return c.importOld(ctx, in, lines, head.Version, only, temp)
	}
	if count, id, err = c.load(ctx, in, lines, only); err == nil {
		c.id = id
	}
	return count, id, err
}

// importOld reads what was exported with the tables of an older schema: through a catalog that has these, and is lifted.
func (c *Catalog) importOld(ctx context.Context, in *json.Decoder, lines *bounded.Reader, schema int, only, temp string) (int, string,
	error) {
	if schema < 1 {
		return 0, "", fmt.Errorf("this is no exported catalog: its tables have the version %d", schema)
	}
	old, err := at(ctx, filepath.Join(temp, "import.db"), int64(schema))
	if err != nil {
		return 0, "", err
	}
	defer old.Close()
	if _, _, err := old.load(ctx, in, lines, ""); err != nil {
		return 0, "", err
	}
	if err := old.up(ctx); err != nil {
		return 0, "", err
	}
	r, w := io.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, err := old.Export(ctx, w)
		w.CloseWithError(err)
	}()
	defer func() { r.Close(); <-ended }()
	return c.Import(ctx, r, only, temp)
}

// empty makes sure that nothing was ever built.
func empty(ctx context.Context, s session) error {
	var have int
	if err := s.row(ctx, "SELECT count(*) FROM builds").Scan(&have); err != nil || have == 0 {
		return err
	}
	return errors.New("the catalog is not empty; import into a new state, with --state DIR")
}

// withIdentity is the schema from which a catalog has an identity.
const withIdentity = 5

// load reads rows of the catalog's own schema.
func (c *Catalog) load(ctx context.Context, in *json.Decoder, lines *bounded.Reader, only string) (count int, id string, err error) {
	err = c.change(ctx, func(tx session) error {
		if err := empty(ctx, tx); err != nil { // another process may have begun to use it
			return err
		}
		known := tx.schema.Load() >= withIdentity
		if known { // it becomes the catalog that was exported
			if _, err := tx.exec(ctx, "DELETE FROM about WHERE name = 'id'"); err != nil {
				return err
			}
		}
		some := &batch{tx: tx}
		for {
			var line transferRow
			lines.Allow(mostRow)
			err := in.Decode(&line)
			if errors.Is(err, io.EOF) {
				if err = some.write(ctx); err != nil {
					return err
				}
				break
			} else if err == nil {
				count++
				if err = some.add(ctx, &line); err == nil {
					continue
				}
			} else {
				err = fmt.Errorf("row %d: %w", count+1, err)
			}
			return err
		}
		if !known {
			return nil
		}
		if err := tx.row(ctx, "SELECT coalesce(max(value), '') FROM about WHERE name = 'id'").Scan(&id); err != nil {
			return err
		}
		if id == "" && only == "" { // one from before catalogs had any
			id = rand.Text()
			if _, err := tx.exec(ctx, "INSERT INTO about (name, value) VALUES ('id', ?)", id); err != nil {
				return err
			}
		}
		if only != "" && id != only {
			return errors.New("it is another catalog than the one that this state belongs to; import it into a new state, with --state DIR")
		}
		_, err := tx.exec(ctx, "ANALYZE") // so that the database knows what it has got
		return err
	})
	return count, id, err
}

const mostRow = 64 << 20 // bytes of one, such as a judgement with all that checks printed

const batchSize = 25 // rows that are written at once

// batch is rows with the same columns of the same table.
type batch struct {
	tx     session
	table  string
	names  []string
	values []any
	rows   int
}

// add takes a row, and writes those before it if there are enough of them or they differ in kind.
func (b *batch) add(ctx context.Context, line *transferRow) error {
	if !slices.Contains(tables, line.Table) {
		return fmt.Errorf("there is no table %q", line.Table)
	}
	names := slices.Sorted(maps.Keys(line.Row))
	for _, name := range names {
		if strings.Trim(name, "abcdefghijklmnopqrstuvwxyz_") != "" {
			return fmt.Errorf("%s: %q is no column", line.Table, name)
		}
	}
	if b.rows == batchSize || b.table != line.Table || !slices.Equal(b.names, names) {
		if err := b.write(ctx); err != nil {
			return err
		}
		b.table, b.names = line.Table, names
	}
	for _, name := range names {
		value := line.Row[name]
		if n, ok := value.(json.Number); ok {
			whole, err := n.Int64()
			if err != nil {
				return fmt.Errorf("%s, %s: %w", line.Table, name, err)
			}
			value = whole
		}
		b.values = append(b.values, value)
	}
	b.rows++
	return nil
}

func (b *batch) write(ctx context.Context) error {
	if b.rows == 0 {
		return nil
	}
	row := ", (" + strings.TrimPrefix(strings.Repeat(", ?", len(b.names)), ", ") + ")"
	_, err := b.tx.exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES %s", b.table, strings.Join(b.names, ", "),
		strings.TrimPrefix(strings.Repeat(row, b.rows), ", ")), b.values...)
	if err != nil {
		return fmt.Errorf("rows of %s: %w", b.table, err)
	}
	b.values, b.rows = nil, 0
	return nil
}
