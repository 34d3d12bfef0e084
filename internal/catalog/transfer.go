package catalog

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// tables in the order in which they refer to each other.
var tables = []string{"builds", "versions", "labels", "artifacts", "tags", "tag_moves", "placements", "recalls"}

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
	if err := enc.Encode(transferHead{transferSchema, newestSchema}); err != nil {
		return 0, err
	}
	err = c.in(ctx, func(tx *sql.Tx) error {
		for _, table := range tables {
			rows, err := tx.QueryContext(ctx, "SELECT * FROM "+table)
			if err != nil {
				return err
			}
			columns, err := rows.Columns()
			if err != nil {
				return errors.Join(err, rows.Close())
			}
			_, err = collect(rows, nil, func(rows *sql.Rows) (struct{}, error) {
				values, into := make([]any, len(columns)), make([]any, len(columns))
				for i := range values {
					into[i] = &values[i]
				}
				if err := rows.Scan(into...); err != nil {
					return struct{}{}, err
				}
				row := map[string]any{}
				for i, name := range columns {
					row[name] = values[i]
				}
				count++
				return struct{}{}, enc.Encode(transferRow{table, row})
			})
			if err != nil {
				return fmt.Errorf("export %s: %w", table, err)
			}
		}
		return nil
	})
	return count, errors.Join(err, out.Flush())
}

// Import reads what Export wrote into an empty catalog, all or nothing, and returns how many rows.
func (c *Catalog) Import(ctx context.Context, r io.Reader) (count int, err error) {
	in := json.NewDecoder(bufio.NewReaderSize(r, 1<<16))
	in.UseNumber()
	var head transferHead
	if err := in.Decode(&head); err != nil || head.Schema != transferSchema {
		return 0, fmt.Errorf("this is no exported catalog: its first line must have the schema %q", transferSchema)
	}
	if head.Version != newestSchema {
		return 0, fmt.Errorf("it was exported with tables of version %d, and this Zygos has %d; export it again with this one", head.Version, newestSchema)
	}
	return count, c.in(ctx, func(tx *sql.Tx) error {
		var have int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM builds").Scan(&have); err != nil {
			return err
		}
		if have > 0 {
			return errors.New("the catalog is not empty; import into a new state, with --state DIR")
		}
		statements := map[string]*sql.Stmt{}
		for {
			var line transferRow
			if err := in.Decode(&line); errors.Is(err, io.EOF) {
				return nil
			} else if err != nil {
				return fmt.Errorf("row %d: %w", count+1, err)
			}
			if err := insert(ctx, tx, statements, &line); err != nil {
				return fmt.Errorf("row %d, of %s: %w", count+1, line.Table, err)
			}
			count++
		}
	})
}

func insert(ctx context.Context, tx *sql.Tx, statements map[string]*sql.Stmt, line *transferRow) error {
	if !slices.Contains(tables, line.Table) {
		return errors.New("there is no such table")
	}
	var names []string
	for name := range line.Row {
		if strings.Trim(name, "abcdefghijklmnopqrstuvwxyz_") != "" {
			return fmt.Errorf("%q is no column", name)
		}
		names = append(names, name)
	}
	slices.Sort(names)
	values := make([]any, len(names))
	for i, name := range names {
		values[i] = line.Row[name]
		if n, ok := values[i].(json.Number); ok {
			whole, err := n.Int64()
			if err != nil {
				return err
			}
			values[i] = whole
		}
	}
	key := line.Table + " " + strings.Join(names, " ")
	if statements[key] == nil {
		var err error
		if statements[key], err = tx.PrepareContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", line.Table, strings.Join(names, ", "),
			strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", "))); err != nil {
			return err
		}
	}
	_, err := statements[key].ExecContext(ctx, values...)
	return err
}
