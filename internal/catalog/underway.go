package catalog

import (
	"cmp"
	"context"
	"time"

	"zygos/internal/artifact"
)

// Underway is a placement that was asked for and is not there yet, or failed.
type Underway struct {
	Image   string    `json:"image"`
	Version string    `json:"version"`
	Region  string    `json:"region"`
	Variant string    `json:"variant,omitempty"`
	Name    string    `json:"name"` // of the artifact
	Format  string    `json:"format"`
	State   string    `json:"state"` // see package region
	Done    int64     `json:"done"`  // bytes that are there
	Bytes   int64     `json:"bytes"`
	Why     string    `json:"why,omitempty"` // it failed
	Host    string    `json:"host"`          // that last worked on it
	Changed time.Time `json:"changed"`
}

// Key tells the artifact from the others of its version.
func (u *Underway) Key() artifact.Key {
	return artifact.Key{Variant: u.Variant, Name: u.Name, Format: u.Format}
}

// SetUnderway records where placements stand. One that is placed has no need of it any more: see Place.
func (c *Catalog) SetUnderway(ctx context.Context, list ...Underway) error {
	if len(list) == 0 {
		return nil
	}
	return c.asOne(ctx, func(tx session) error {
		for _, u := range list {
			if err := stays(ctx, tx, u.Image, u.Version); err != nil {
				return err
			}
			if _, err := tx.exec(ctx, `INSERT INTO underway (image, version, region, variant, name, format, state, done, bytes, why, host, changed)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (image, version, region, variant, name) DO UPDATE SET
				state = excluded.state, done = excluded.done, bytes = excluded.bytes, why = excluded.why, host = excluded.host,
				changed = excluded.changed`, u.Image, u.Version, u.Region, u.Variant, cmp.Or(u.Name, u.Format), u.Format, u.State, u.Done, u.Bytes,
				u.Why, u.Host, stamp(u.Changed)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Underways lists placements on their way: of one image and version, or of a region, or all; "" takes any.
func (c *Catalog) Underways(ctx context.Context, image, version, region string) ([]Underway, error) {
	var w where
	w.is("image", image)
	w.is("version", version)
	w.is("region", region)
	rows, err := c.rows(ctx, `SELECT image, version, region, variant, name, format, state, done, bytes, why, host, changed FROM underway `+
		w.sql()+` ORDER BY region, image, version, variant, name`, w.args...)
	return collect(rows, err, func(rows row) (u Underway, err error) {
		var changed string
		err = rows.Scan(&u.Image, &u.Version, &u.Region, &u.Variant, &u.Name, &u.Format, &u.State, &u.Done, &u.Bytes, &u.Why, &u.Host, &changed)
		u.Changed = unstamp(changed)
		return u, err
	})
}

// arrived forgets that an artifact is on its way to a region.
func arrived(ctx context.Context, tx session, image, version, region, variant, name string) error {
	_, err := tx.exec(ctx, "DELETE FROM underway WHERE image = ? AND version = ? AND region = ? AND variant = ? AND name = ?", image, version,
		region, variant, name)
	return err
}
