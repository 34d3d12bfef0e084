package catalog

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/jackc/pgx/v5/pgconn"
	sqlitedriver "modernc.org/sqlite"
	sqlitelib "modernc.org/sqlite/lib"
)

const (
	outage = time.Minute     // that a running command sits out: a server that is away, a lock of another client
	locked = 5 * time.Second // that one statement waits for a lock, before it is tried again with a word
)

// sitOut repeats what another try may bring to an end, for a minute, and says what it waits for.
func sitOut[T any](ctx context.Context, waiting func(why string), do func() (T, error)) (T, error) {
	said := time.Now()
	v, err := backoff.Retry(ctx, func() (T, error) {
		v, err := do()
		if err != nil && !passes(err) {
			err = backoff.Permanent(err)
		}
		return v, err
	}, backoff.WithMaxElapsedTime(outage), backoff.WithNotify(func(err error, _ time.Duration) {
		if waiting == nil || time.Since(said) < time.Second {
			return
		}
		var locked *LockedError
		if err = explain(err); errors.As(err, &locked) {
			waiting(isLocked)
		} else {
			waiting(err.Error())
		}
	}))
	if err != nil && ctx.Err() == nil {
		err = explain(err)
	}
	return v, err
}

// errUndone says that a transaction whose commit got no answer changed nothing.
var errUndone = errors.New("the connection to the database broke, and nothing was changed")

// passes says whether an error may be gone at the next try, which does no harm: nothing was changed.
func passes(err error) bool {
	var unreachable *pgconn.ConnectError
	var refused *pgconn.PgError
	var file *sqlitedriver.Error
	var network net.Error
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return false
	case errors.As(err, &refused): // PostgreSQL, appendix A: admin_shutdown, crash_shutdown, cannot_connect_now, lock_not_available,
		switch refused.Code { // serialization_failure, deadlock_detected, too_many_connections
		case "57P01", "57P02", "57P03", lockNotAvailable, "40001", "40P01", "53300":
			return true
		}
		return false
	case errors.As(err, &file):
		return file.Code()&0xff == sqlitelib.SQLITE_BUSY
	case errors.As(err, &unreachable), errors.As(err, &network), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, net.ErrClosed), errors.Is(err, driver.ErrBadConn), errors.Is(err, errUndone):
		return true
	}
	return pgconn.SafeToRetry(err)
}

const lockNotAvailable = "55P03"

// UnknownError says that it could not be learned whether a change was made.
type UnknownError struct{ Err error }

func (e *UnknownError) Error() string {
	return fmt.Sprintf("the database did not answer whether it made the change, and could not be asked since: %v. "+
		"Look with 'zygos builds' and 'zygos show' before you run the command again", e.Err)
}
func (e *UnknownError) Unwrap() error { return e.Err }

// asOne makes changes as one, after those of others. A change may be begun again: it must not rely on what an earlier try found.
func (c *Catalog) asOne(ctx context.Context, change func(session) error) error {
	if c.frozen {
		return ErrFrozen
	}
	if err := c.lift(ctx); err != nil {
		return err
	}
	_, err := sitOut(ctx, c.Waiting, func() (struct{}, error) { return struct{}{}, c.change(ctx, change) })
	return err
}

func (c *Catalog) change(ctx context.Context, change func(session) error) error {
	tx, err := c.pool.Load().BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	within := session{conn: tx, dialect: c.dialect, schema: c.schema}
	id := "" // of the transaction
	if c.dialect.alone != "" {
		if _, err = within.exec(ctx, c.dialect.alone); err == nil {
			err = within.row(ctx, "SELECT CAST(txid_current() AS TEXT)").Scan(&id)
		}
	}
	if err == nil {
		err = change(within)
	}
	if err != nil {
		_ = tx.Rollback() // a transaction that is not committed changes nothing
		return err
	}
	if err = tx.Commit(); err != nil && id != "" {
		err = c.outcome(ctx, id, err)
	}
	return err
}

// outcome asks what became of a transaction whose commit failed or got no answer: nil if it was committed, errUndone if not.
// A command that is cancelled asks too, for a short while. (PostgreSQL, 9.27.8, "Transaction ID and Snapshot Information".)
func (c *Catalog) outcome(ctx context.Context, id string, failed error) error {
	if ctx.Err() != nil {
		aside, cancel := context.WithTimeout(context.WithoutCancel(ctx), locked)
		defer cancel()
		ctx = aside
	}
	errOpen := fmt.Errorf("%w: its end is not known yet", driver.ErrBadConn) // the server may not have met the broken connection
	status, err := sitOut(ctx, c.Waiting, func() (string, error) {
		var status sql.NullString
		err := c.pool.Load().QueryRowContext(ctx, "SELECT txid_status(CAST($1 AS BIGINT))", id).Scan(&status)
		if err == nil && status.String == "in progress" {
			err = errOpen
		}
		return status.String, err
	})
	switch {
	case err == nil && status == "committed":
		return nil
	case err == nil && status == "aborted":
		return errUndone
	}
	return &UnknownError{errors.Join(failed, err)}
}
