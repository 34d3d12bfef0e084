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
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	sqlitedriver "modernc.org/sqlite"
	sqlitelib "modernc.org/sqlite/lib"

	"zygos/internal/flock"
)

//go:embed migrations
var migrations embed.FS

const newestSchema = 11 // number of the last migration

// dialect is all in which one database differs from another. Queries are the same for all; they
// use what both SQLite and PostgreSQL understand, with '?' for an argument.
type dialect struct {
	name     string // folder of its own migrations
	goose    goose.Dialect
	numbered bool   // arguments are $1, $2, …
	alone    string // begins every change, so that one follows another
	lock     bool   // processes that make tables wait for each other by a lock of the database; else of the folder
}

var (
	// changes begin with BEGIN IMMEDIATE
	sqlite   = dialect{name: "sqlite", goose: goose.DialectSQLite3}
	postgres = dialect{name: "postgres", goose: goose.DialectPostgres, numbered: true, lock: true,
		alone: "LOCK TABLE builds IN SHARE ROW EXCLUSIVE MODE"}
)

const (
	connections = 4                // at most; nothing is remembered that one of them might have seen and another not
	patience    = 20 * time.Second // for the lock of another process
	outage      = time.Minute      // of the server, that a running command sits out
)

// IsAddress says whether a text names a PostgreSQL server, and not a file.
func IsAddress(text string) bool {
	return strings.HasPrefix(text, "postgres://") || strings.HasPrefix(text, "postgresql://")
}

// Open opens the catalog in a file, or in a PostgreSQL database whose address is given, making it
// or bringing it up to date where needed. password is for the server, "" if the address is enough.
func Open(ctx context.Context, where, password string) (*Catalog, error) {
	if IsAddress(where) {
		return open(ctx, where, func() (*sql.DB, *dialect, error) { return openServer(where, password) }, false)
	}
	return open(ctx, where, func() (*sql.DB, *dialect, error) {
		return openFile(where, url.Values{"_pragma": {busy, "journal_mode(WAL)", "foreign_keys(1)", "synchronous(FULL)"},
			"_txlock": {"immediate"}})
	}, false)
}

// Look opens the catalog in a file that cannot be written; every change is refused with ErrFrozen.
func Look(ctx context.Context, file string) (*Catalog, error) {
	options := url.Values{"_pragma": {busy}, "mode": {"ro"}}
	if info, err := os.Stat(file + "-wal"); err != nil || info.Size() == 0 {
		options.Set("immutable", "1") // nobody writes, and there is nothing beside the file
	}
	return open(ctx, file, func() (*sql.DB, *dialect, error) { return openFile(file, options) }, true)
}

// ErrFrozen refuses changes of a catalog that can only be read.
var ErrFrozen = errors.New("this state can only be read: it lies on a read-only file system, or belongs to somebody else")

func open(ctx context.Context, where string, connect func() (*sql.DB, *dialect, error), frozen bool) (*Catalog, error) {
	db, d, err := connect()
	if err != nil {
		return nil, fmt.Errorf("catalog %s: %w", Plain(where), err)
	}
	db.SetMaxOpenConns(connections)
	c := &Catalog{session: session{conn: db, dialect: d}, db: db, frozen: frozen}
	if err := c.bringUpToDate(ctx, where); err != nil {
		db.Close()
		return nil, fmt.Errorf("catalog %s: %w", Plain(where), explain(err))
	}
	c.patient = true
	return c, nil
}

var busy = fmt.Sprintf("busy_timeout(%d)", patience.Milliseconds())

func openFile(file string, options url.Values) (*sql.DB, *dialect, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, nil, err
	}
	address := url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: options.Encode()}
	db, err := sql.Open("sqlite", address.String())
	return db, &sqlite, err
}

func openServer(address, password string) (*sql.DB, *dialect, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		reason := err.Error()
		var wrong *pgconn.ParseConfigError
		if errors.As(err, &wrong) && wrong.Unwrap() != nil {
			reason = wrong.Unwrap().Error()
		}
		return nil, nil, fmt.Errorf("it is no address of a PostgreSQL database: %s; write postgres://USER@HOST/DATABASE", reason)
	}
	if password != "" {
		config.Password = password
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = patience / 2
	}
	config.DefaultQueryExecMode = pgx.QueryExecModeExec // one way to the server and back for a query
	for name, value := range map[string]string{"application_name": "zygos", "timezone": "UTC", "jit": "off",
		"lock_timeout": fmt.Sprint(patience.Milliseconds()), "idle_in_transaction_session_timeout": fmt.Sprint(outage.Milliseconds())} {
		if _, set := config.RuntimeParams[name]; !set {
			config.RuntimeParams[name] = value
		}
	}
	const never = 24 * time.Hour // was the connection used before
	ping := func(_ context.Context, p stdlib.ShouldPingParams) bool {
		return p.IdleDuration > time.Second && p.IdleDuration < never
	}
	return stdlib.OpenDB(*config, stdlib.OptionShouldPing(ping)), &postgres, nil
}

// Plain is the name of a catalog without what nobody needs to read.
func Plain(where string) string {
	if u, err := url.Parse(where); err == nil && IsAddress(where) {
		u.RawQuery = ""
		return u.Redacted()
	}
	return where
}

// BrokenError says that a catalog's file is damaged.
type BrokenError struct{ Reason string }

func (e *BrokenError) Error() string { return "the file is damaged: " + e.Reason }

// FullError says that the disk of a catalog's file is full. Nothing was changed.
type FullError struct{ Err error }

func (e *FullError) Error() string {
	return "the disk of the catalog is full, and nothing was changed in it"
}
func (e *FullError) Unwrap() error { return e.Err }

// isFull says whether SQLite had no room for a change, which it then takes back.
func isFull(err error) bool {
	var full *sqlitedriver.Error
	if !errors.As(err, &full) {
		return false
	}
	code := full.Code()
	return code&0xff == sqlitelib.SQLITE_FULL || code == sqlitelib.SQLITE_IOERR_SHMSIZE || code == sqlitelib.SQLITE_IOERR_WRITE
}

// explain says of an error of a server what is wrong, in one line and without its address.
func explain(err error) error {
	var unreachable *pgconn.ConnectError
	var refused *pgconn.PgError
	var broken *sqlitedriver.Error
	switch {
	case isFull(err):
		return &FullError{err}
	case errors.As(err, &broken) && (broken.Code()&0xff == sqlitelib.SQLITE_CORRUPT || broken.Code()&0xff == sqlitelib.SQLITE_NOTADB):
		return &BrokenError{err.Error()}
	case errors.As(err, &refused):
		return fmt.Errorf("the database refuses: %s", refused.Message)
	case errors.As(err, &unreachable):
		reason := strings.Join(strings.Fields(strings.TrimPrefix(unreachable.Unwrap().Error(), "hostname resolving error: ")), " ")
		return fmt.Errorf("the database cannot be reached: %s; look whether its server runs and the address is right", reason)
	}
	return err
}

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

// bringUpToDate makes the tables what this program needs, one process at a time.
func (c *Catalog) bringUpToDate(ctx context.Context, where string) error {
	have, err := c.schema(ctx)
	if err != nil || have == newestSchema {
		return err
	}
	if c.frozen {
		return fmt.Errorf("its tables are those of another Zygos (version %d, this one has %d), and %w", have, newestSchema, ErrFrozen)
	}
	if !c.dialect.lock {
		folder, err := os.Open(filepath.Dir(where))
		if err != nil {
			return err
		}
		defer folder.Close() // and with it the lock
		if err := flock.Take(ctx, folder); err != nil {
			return err
		}
	}
	if have, err = c.schema(ctx); err != nil || have == newestSchema { // another process was first
		return err
	}
	return c.migrate(ctx)
}

// schema is the number of the last migration that the database has seen. It learns the identity on the way.
func (c *Catalog) schema(ctx context.Context) (have int, err error) {
	if err := c.row(ctx, "SELECT max(version_id), coalesce((SELECT value FROM about WHERE name = 'id'), '') FROM "+
		"goose_db_version").Scan(&have, &c.id); err != nil {
		var refused *pgconn.PgError
		if c.dialect.lock && !errors.As(err, &refused) {
			return 0, err
		}
		return 0, nil // a new catalog or an old one; if the tables cannot be read for another reason, that is met again
	}
	if have > newestSchema {
		return have, fmt.Errorf("it was written by a newer Zygos (schema %d, this one knows %d); use that one", have, newestSchema)
	}
	return have, nil
}

func (c *Catalog) migrate(ctx context.Context) error {
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
	provider, err := goose.NewProvider(c.dialect.goose, c.db, layered{own, all}, options...)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// session is where queries go: the database, or a change under way.
type session struct {
	conn interface {
		ExecContext(context.Context, string, ...any) (sql.Result, error)
		QueryContext(context.Context, string, ...any) (*sql.Rows, error)
		QueryRowContext(context.Context, string, ...any) *sql.Row
	}
	dialect *dialect
	patient bool // queries sit out a server that is away
}

// sitOut does something again as long as the server is away, for a while.
func sitOut[T any](ctx context.Context, do func() (T, error)) (T, error) {
	return backoff.Retry(ctx, func() (T, error) {
		v, err := do()
		if err != nil && !away(err) {
			err = backoff.Permanent(err)
		}
		return v, err
	}, backoff.WithMaxElapsedTime(outage))
}

func (s session) exec(ctx context.Context, query string, args ...any) (int64, error) {
	result, err := s.conn.ExecContext(ctx, s.dialect.write(query), args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

func (s session) rows(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	ask := func() (*sql.Rows, error) { return s.conn.QueryContext(ctx, s.dialect.write(query), args...) }
	if s.patient {
		return sitOut(ctx, ask)
	}
	return ask()
}

// one is a query for one row.
type one struct {
	session
	ctx   context.Context
	query string
	args  []any
}

func (s session) row(ctx context.Context, query string, args ...any) one {
	return one{s, ctx, query, args}
}

// Scan asks, and reads the row.
func (o one) Scan(into ...any) error {
	ask := func() (struct{}, error) {
		return struct{}{}, o.conn.QueryRowContext(o.ctx, o.dialect.write(o.query), o.args...).Scan(into...)
	}
	if !o.patient {
		_, err := ask()
		return err
	}
	_, err := sitOut(o.ctx, ask)
	return err
}

// write is a query as the database wants it. No query has a '?' that is no argument.
func (d *dialect) write(query string) string {
	if !d.numbered {
		return query
	}
	var b strings.Builder
	for i, part := range strings.Split(query, "?") {
		if i > 0 {
			b.WriteString("$" + strconv.Itoa(i))
		}
		b.WriteString(part)
	}
	return b.String()
}

// asOne makes changes as one, after those of others. While the server is away it waits a while.
func (c *Catalog) asOne(ctx context.Context, change func(session) error) error {
	if c.frozen {
		return ErrFrozen
	}
	_, err := sitOut(ctx, func() (struct{}, error) { return struct{}{}, c.change(ctx, change) })
	if isFull(err) {
		err = &FullError{err}
	}
	return err
}

func (c *Catalog) change(ctx context.Context, change func(session) error) error {
	tx, err := c.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if c.dialect.alone != "" {
		_, err = tx.ExecContext(ctx, c.dialect.alone)
	}
	if err == nil {
		err = change(session{conn: tx, dialect: c.dialect})
	}
	if err != nil {
		return errors.Join(err, tx.Rollback())
	}
	if err := tx.Commit(); isFull(err) {
		return err
	} else if err != nil {
		return fmt.Errorf("%v (it may have been written all the same)", err) // not to be tried again
	}
	return nil
}

// away says whether an error means that the server is not there at the moment, and did nothing.
func away(err error) bool {
	var unreachable *pgconn.ConnectError
	var refused *pgconn.PgError
	switch {
	case errors.As(err, &refused): // class 57: operator intervention; PostgreSQL, appendix A
		return refused.Code == "57P01" || refused.Code == "57P02" || refused.Code == "57P03"
	case errors.As(err, &unreachable):
		return true
	}
	return pgconn.SafeToRetry(err)
}

// now is the time by the database's clock, which all machines share; to the second.
func (s session) now(ctx context.Context) (time.Time, error) {
	var text string
	if err := s.row(ctx, "SELECT substr(CAST(CURRENT_TIMESTAMP AS TEXT), 1, 19)").Scan(&text); err != nil {
		return time.Time{}, err
	}
	return time.Parse(time.DateTime, text)
}
