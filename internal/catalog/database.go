package catalog

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	sqlitedriver "modernc.org/sqlite"
	sqlitelib "modernc.org/sqlite/lib"

	"zygos/internal/plain"
)

//go:embed migrations
var migrations embed.FS

// dialect is all in which one database differs from another. Queries are the same for all; they
// use what both SQLite and PostgreSQL understand, with '?' for an argument.
type dialect struct {
	name     string // folder of its own migrations
	goose    goose.Dialect
	numbered bool   // arguments are $1, $2, …
	alone    string // begins every change, so that one follows another
	lock     bool   // processes that make tables wait for each other by a lock of the database; else of the folder
	now      string // the clock of the database as stamp writes it, whatever time zone a client asks for
}

var (
	// changes begin with BEGIN IMMEDIATE
	sqlite   = dialect{name: "sqlite", goose: goose.DialectSQLite3, now: "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')"}
	postgres = dialect{name: "postgres", goose: goose.DialectPostgres, numbered: true, lock: true,
		alone: "LOCK TABLE builds IN SHARE ROW EXCLUSIVE MODE",
		now:   `to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"')`}
)

const connections = 4 // at most; nothing is remembered that one of them might have seen and another not

// IsAddress says whether a text names a PostgreSQL server, and not a file.
func IsAddress(text string) bool {
	return strings.HasPrefix(text, "postgres://") || strings.HasPrefix(text, "postgresql://")
}

// Open opens the catalog in a file, or in a PostgreSQL database whose address is given. A new one is made; an old one is read as it is,
// see oldestSchema. password is for the server, "" if the address is enough.
func Open(ctx context.Context, where, password string) (*Catalog, error) {
	c, err := connect(where, password)
	if err != nil {
		return nil, err
	}
	return c, c.open(ctx)
}

// OpenReadOnly opens the catalog in a file that cannot be written; every change is refused with ErrFrozen.
func OpenReadOnly(ctx context.Context, file string) (*Catalog, error) {
	options := url.Values{"_pragma": {busy}, "mode": {"ro"}}
	if info, err := os.Stat(file + "-wal"); err != nil || info.Size() == 0 {
		options.Set("immutable", "1") // nobody writes, and there is nothing beside the file
	}
	db, d, err := openFile(file, options)
	if err != nil {
		return nil, err
	}
	c := newCatalog(file, db, d)
	c.frozen = true
	return c, c.open(ctx)
}

// ErrFrozen refuses changes of a catalog that can only be read.
var ErrFrozen = errors.New("this state can only be read: it lies on a read-only file system, or belongs to somebody else")

// connect prepares the use of a catalog, without asking it anything.
func connect(where, password string) (*Catalog, error) {
	var db *sql.DB
	var d *dialect
	var err error
	if IsAddress(where) {
		db, d, err = openServer(where, password)
	} else {
		db, d, err = openFile(where, writable)
	}
	if err != nil {
		return nil, fmt.Errorf("catalog %s: %w", Plain(where), err)
	}
	return newCatalog(where, db, d), nil
}

func newCatalog(where string, db *sql.DB, d *dialect) *Catalog {
	c := &Catalog{where: where, pool: &pool{}}
	db.SetMaxOpenConns(connections)
	c.pool.Store(db)
	c.session = session{conn: c.pool, dialect: d, schema: &atomic.Int32{}}
	return c
}

// open makes sure that the tables can be used; the catalog is closed if they cannot.
func (c *Catalog) open(ctx context.Context) error {
	if err := c.ready(ctx); err != nil {
		c.Close()
		return fmt.Errorf("catalog %s: %w", Plain(c.where), explain(err))
	}
	c.patient = true
	return nil
}

// pool is the connections to a database, which another one may follow: see Catalog.lift.
type pool struct{ atomic.Pointer[sql.DB] }

func (p *pool) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return p.Load().ExecContext(ctx, query, args...)
}

func (p *pool) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return p.Load().QueryContext(ctx, query, args...)
}

func (p *pool) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return p.Load().QueryRowContext(ctx, query, args...)
}

var busy = fmt.Sprintf("busy_timeout(%d)", locked.Milliseconds())

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
		config.ConnectTimeout = 2 * locked
	}
	config.DefaultQueryExecMode = pgx.QueryExecModeExec // one way to the server and back for a query
	for name, value := range map[string]string{"application_name": "zygos", "jit": "off",
		"lock_timeout": fmt.Sprint(locked.Milliseconds()), "idle_in_transaction_session_timeout": fmt.Sprint(outage.Milliseconds())} {
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

// LockedError says that somebody else held a lock of the catalog for too long.
type LockedError struct{ Err error }

const isLocked = "another program holds a lock on the tables of the catalog"

func (e *LockedError) Error() string {
	return isLocked + "; nothing was changed. Run the command again once it is released"
}
func (e *LockedError) Unwrap() error { return e.Err }

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
	case errors.As(err, &refused) && refused.Code == lockNotAvailable || errors.As(err, &broken) &&
		broken.Code()&0xff == sqlitelib.SQLITE_BUSY:
		return &LockedError{err}
	case errors.As(err, &refused):
		return fmt.Errorf("the database refuses: %s", refused.Message)
	case errors.As(err, &unreachable):
		reason := strings.Join(strings.Fields(strings.TrimPrefix(unreachable.Unwrap().Error(), "hostname resolving error: ")), " ")
		return fmt.Errorf("the database cannot be reached: %s; look whether its server runs and the address is right", reason)
	}
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
	schema  *atomic.Int32    // that the tables have
	patient bool             // queries are repeated, see sitOut
	Waiting func(why string) // what queries and changes wait for; may be nil
}

func (s session) exec(ctx context.Context, query string, args ...any) (int64, error) {
	for i, arg := range args { // texts that people wrote were refused earlier; what scripts and systems say may hold anything
		if text, ok := arg.(string); ok {
			args[i] = plain.Fit(text)
		}
	}
	result, err := s.conn.ExecContext(ctx, s.dialect.write(query), args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// rows reads all rows of a query, so that a connection which breaks in between costs the caller nothing.
func (s session) rows(ctx context.Context, query string, args ...any) (*rows, error) {
	read := func() (*rows, error) {
		return readAll(s.conn.QueryContext(ctx, s.dialect.write(query), args...))
	}
	if s.patient {
		return sitOut(ctx, s.Waiting, read)
	}
	return read()
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
	_, err := sitOut(o.ctx, o.Waiting, ask)
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

// now is the time by the database's clock, which all machines share.
func (s session) now(ctx context.Context) (time.Time, error) {
	var text string
	err := s.row(ctx, "SELECT "+s.dialect.now).Scan(&text)
	return unstamp(text), err
}
