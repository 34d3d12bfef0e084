package catalog

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"
)

// Lease is the right to change something, which one process holds of all that share the catalog.
type Lease struct {
	Name   string // of what is changed
	Holder string // a random word, different for each process and time
	Place  string // identity of the holder's state
	Who    string
	Host   string
	Doing  string // in words, such as "publish"
	// Quiet is for how long nothing was heard of the holder, by the database's clock.
	Quiet time.Duration
}

// TakeLeases takes leases, all or none. If others hold some of them, it returns these; a holder of whom dead says so loses its lease.
func (c *Catalog) TakeLeases(ctx context.Context, list []Lease, dead func(*Lease) bool) (held []Lease, err error) {
	list = slices.SortedFunc(slices.Values(list), func(a, b Lease) int { return strings.Compare(a.Name, b.Name) })
	err = c.asOne(ctx, func(tx session) error {
		held = nil
		now, err := tx.now(ctx)
		if err != nil {
			return err
		}
		for _, l := range list {
			var other Lease
			var beat string
			err := tx.row(ctx, "SELECT name, holder, place, who, host, doing, beat FROM leases WHERE name = ?", l.Name).
				Scan(&other.Name, &other.Holder, &other.Place, &other.Who, &other.Host, &other.Doing, &beat)
			if errors.Is(err, sql.ErrNoRows) {
				continue
			}
			if err != nil {
				return err
			}
			if other.Quiet = now.Sub(unstamp(beat)); other.Holder != l.Holder && !dead(&other) {
				held = append(held, other)
			}
		}
		if len(held) > 0 {
			return nil
		}
		for _, l := range list {
			if _, err := tx.exec(ctx, `INSERT INTO leases (name, holder, place, who, host, doing, beat) VALUES (?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT (name) DO UPDATE SET holder = excluded.holder, place = excluded.place, who = excluded.who, host = excluded.host,
				doing = excluded.doing, beat = excluded.beat`, l.Name, l.Holder, l.Place, l.Who, l.Host, l.Doing, stamp(now)); err != nil {
				return err
			}
		}
		return nil
	})
	return held, err
}

// BeatLeases says that a holder is alive. It returns how many leases it still holds.
func (c *Catalog) BeatLeases(ctx context.Context, holder string) (n int64, err error) {
	err = c.asOne(ctx, func(tx session) error {
		now, err := tx.now(ctx)
		if err != nil {
			return err
		}
		n, err = tx.exec(ctx, "UPDATE leases SET beat = ? WHERE holder = ?", stamp(now), holder)
		return err
	})
	return n, err
}

// DropLeases gives up all leases of a holder.
func (c *Catalog) DropLeases(ctx context.Context, holder string) error {
	return c.asOne(ctx, func(tx session) error {
		_, err := tx.exec(ctx, "DELETE FROM leases WHERE holder = ?", holder)
		return err
	})
}
