package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Move is one move of a tag.
type Move struct {
	Tag     string    `json:"tag"`
	Was     string    `json:"was,omitempty"` // version it pointed at before
	Version string    `json:"version"`
	Who     string    `json:"who"`
	At      time.Time `json:"at"`
}

// Placement is one artifact in one region, verified there.
type Placement struct {
	ID       string    `json:"id"`
	Image    string    `json:"image"`
	Version  string    `json:"version"`
	Region   string    `json:"region"`
	Variant  string    `json:"variant,omitempty"`
	Format   string    `json:"format"`
	Artifact string    `json:"artifact"` // digest
	Location string    `json:"location"` // where hosts fetch it
	Verified time.Time `json:"verified"`
}

// SetTags lets tags point at a version, all or none, and keeps the moves. A tag that points
// there already does not move.
func (c *Catalog) SetTags(ctx context.Context, image, version string, tags []string, who string, at time.Time) ([]Move, error) {
	var moves []Move
	err := c.in(ctx, func(tx *sql.Tx) error {
		for _, tag := range tags {
			m := Move{Tag: tag, Version: version, Who: who, At: at}
			err := tx.QueryRowContext(ctx, "SELECT version FROM tags WHERE image = ? AND tag = ?", image, tag).Scan(&m.Was)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			moves = append(moves, m)
			if m.Was == version {
				continue
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO tags (image, tag, version) VALUES (?, ?, ?)
				ON CONFLICT (image, tag) DO UPDATE SET version = excluded.version`, image, tag, version); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO tag_moves (image, tag, was, version, who, at) VALUES (?, ?, ?, ?, ?, ?)",
				image, tag, m.Was, version, who, stamp(at)); err != nil {
				return err
			}
		}
		return nil
	})
	return moves, err
}

// Moves lists the moves of an image's tags, newest first.
func (c *Catalog) Moves(ctx context.Context, image string) ([]Move, error) {
	rows, err := c.db.QueryContext(ctx, "SELECT tag, was, version, who, at FROM tag_moves WHERE image = ? ORDER BY number DESC", image)
	return collect(rows, err, func(rows *sql.Rows) (Move, error) {
		var m Move
		var at string
		err := rows.Scan(&m.Tag, &m.Was, &m.Version, &m.Who, &at)
		m.At = unstamp(at)
		return m, err
	})
}

// Place records a placement that was verified; a repeated one takes the new time.
func (c *Catalog) Place(ctx context.Context, p Placement) error {
	_, err := c.db.ExecContext(ctx, `INSERT INTO placements (id, image, version, region, variant, format, artifact, location, verified)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET location = excluded.location, verified = excluded.verified`,
		p.ID, p.Image, p.Version, p.Region, p.Variant, p.Format, p.Artifact, p.Location, stamp(p.Verified))
	return err
}

// Unplace forgets a placement that no longer holds.
func (c *Catalog) Unplace(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, "DELETE FROM placements WHERE id = ?", id)
	return err
}

// Placements lists where things are: of one image and version, or of a region, or all; "" takes any.
func (c *Catalog) Placements(ctx context.Context, image, version, region string) ([]Placement, error) {
	rows, err := c.db.QueryContext(ctx, `SELECT p.id, p.image, p.version, p.region, p.variant, p.format, p.artifact, p.location, p.verified
		FROM placements p JOIN versions v ON v.image = p.image AND v.version = p.version
		WHERE ? IN ('', p.image) AND ? IN ('', p.version) AND ? IN ('', p.region)
		ORDER BY p.region, p.image, v.major DESC, v.minor DESC, v.patch DESC, p.variant, p.format`, image, version, region)
	return collect(rows, err, func(rows *sql.Rows) (Placement, error) {
		var p Placement
		var verified string
		err := rows.Scan(&p.ID, &p.Image, &p.Version, &p.Region, &p.Variant, &p.Format, &p.Artifact, &p.Location, &verified)
		p.Verified = unstamp(verified)
		return p, err
	})
}
