package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/digest"
)

// Move is one move of a tag.
type Move struct {
	Image   string    `json:"image,omitempty"`
	Tag     string    `json:"tag"`
	Was     string    `json:"was,omitempty"`     // version it pointed at before
	Version string    `json:"version,omitempty"` // "" if it was removed
	Who     string    `json:"who"`
	Why     string    `json:"why,omitempty"`
	At      time.Time `json:"at"`
}

// Placement is one artifact in one region, verified there.
type Placement struct {
	ID       string        `json:"id"`
	Image    string        `json:"image"`
	Version  string        `json:"version"`
	Region   string        `json:"region"`
	Variant  string        `json:"variant,omitempty"`
	Name     string        `json:"name"` // of the artifact
	Format   string        `json:"format"`
	Artifact digest.Digest `json:"artifact"`
	Bytes    int64         `json:"bytes"`    // of it
	Location string        `json:"location"` // where hosts fetch it
	Verified time.Time     `json:"verified"`
	// VerifiedBy is one of the ways of package artifact; "" for a placement from before that was recorded.
	VerifiedBy string `json:"verified_by,omitempty"`
	Leaving    bool   `json:"-"` // its version is being removed
}

// Read reports whether the content of the placement was verified.
func (p *Placement) Read() bool {
	return p.VerifiedBy == artifact.ByContent || p.VerifiedBy == artifact.ByDigest
}

// notBySize is a condition for placements of which more than the size was verified.
func (s session) notBySize() string {
	if s.schema.Load() < withBases {
		return " AND 1 = 0"
	}
	return " AND verified_by <> 'size' AND verified_by <> ''"
}

// Key tells the artifact from the others of its version.
func (p *Placement) Key() artifact.Key {
	return artifact.Key{Variant: p.Variant, Name: p.Name, Format: p.Format}
}

// MoveTags lets tags of one or several images point at versions, or removes those without one, all
// or none, and keeps the moves. Was of each is filled in. A tag that points there already does not move.
// A version that is recalled or leaving is refused, and so is a move of which may says no: it asks the
// catalog that it is given, so that nothing changes between the answer and the move.
func (c *Catalog) MoveTags(ctx context.Context, moves []Move, may func(context.Context, *Catalog, *Move) error) error {
	return c.asOne(ctx, func(tx session) error {
		within := &Catalog{session: tx, id: c.id, pool: c.pool, ahead: c.ahead}
		for i := range moves {
			m := &moves[i]
			if m.Version != "" {
				if err := mayBeNamed(ctx, tx, m.Image, m.Version); err != nil {
					return err
				}
				if err := may(ctx, within, m); err != nil {
					return err
				}
			}
			m.Was = ""
			err := tx.row(ctx, "SELECT version FROM tags WHERE image = ? AND tag = ?", m.Image, m.Tag).Scan(&m.Was)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if m.Was == m.Version {
				continue
			}
			if m.Version == "" {
				_, err = tx.exec(ctx, "DELETE FROM tags WHERE image = ? AND tag = ?", m.Image, m.Tag)
			} else {
				_, err = tx.exec(ctx, `INSERT INTO tags (image, tag, version) VALUES (?, ?, ?)
					ON CONFLICT (image, tag) DO UPDATE SET version = excluded.version`, m.Image, m.Tag, m.Version)
			}
			if err != nil {
				return err
			}
			if _, err := tx.exec(ctx, `INSERT INTO tag_moves (number, image, tag, was, version, who, why, at)
				VALUES ((SELECT coalesce(max(number), 0) + 1 FROM tag_moves), ?, ?, ?, ?, ?, ?,
					?)`, m.Image, m.Tag, m.Was, m.Version, m.Who, m.Why, stamp(m.At)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Moves lists the moves of an image's tags, newest first.
func (c *Catalog) Moves(ctx context.Context, image string) ([]Move, error) {
	rows, err := c.rows(ctx, "SELECT tag, was, version, who, why, at FROM tag_moves WHERE image = ? ORDER BY number DESC", image)
	return collect(rows, err, func(rows row) (Move, error) {
		var m Move
		var at string
		err := rows.Scan(&m.Tag, &m.Was, &m.Version, cleaned{&m.Who}, cleaned{&m.Why}, &at)
		m.At = unstamp(at)
		return m, err
	})
}

// Tags lists the tags of every version that has any, by reference.
func (c *Catalog) Tags(ctx context.Context) (map[string][]string, error) {
	tags := map[string][]string{}
	rows, err := c.rows(ctx, "SELECT image || '@' || version, tag FROM tags ORDER BY image, tag")
	return tags, each(rows, err, func(rows row) error {
		var ref, tag string
		err := rows.Scan(&ref, &tag)
		tags[ref] = append(tags[ref], tag)
		return err
	})
}

// OnceTagged is every version that a tag ever pointed at, by reference.
func (c *Catalog) OnceTagged(ctx context.Context) (map[string]bool, error) {
	return c.refs(ctx, "SELECT DISTINCT image || '@' || version FROM tag_moves")
}

// Place records a placement that was verified; a repeated one takes the new time, and another of the same artifact in the same region
// takes its place. A weaker way of verifying it than the recorded one leaves that as it is. Of a version that is leaving it is refused
// with a *LeavingError.
func (c *Catalog) Place(ctx context.Context, p Placement) error {
	return c.asOne(ctx, func(tx session) error {
		if err := stays(ctx, tx, p.Image, p.Version); err != nil {
			return err
		}
		p.Name = cmp.Or(p.Name, p.Format)
		if err := p.forget(ctx, tx, " AND id <> ?", p.ID); err != nil {
			return err
		}
		if p.VerifiedBy == artifact.BySize { // what was read before stays read
			var had int
			if err := tx.row(ctx, "SELECT count(*) FROM placements WHERE id = ? AND location = ? AND artifact = ?"+tx.notBySize(), p.ID,
				p.Location, p.Artifact).Scan(&had); err != nil || had > 0 {
				return errors.Join(err, arrived(ctx, tx, p.Image, p.Version, p.Region, p.Variant, p.Name))
			}
		}
		_, err := tx.exec(ctx, `INSERT INTO placements (id, image, version, region, variant, name, format, artifact, location, verified)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET location = excluded.location, verified = excluded.verified`,
			p.ID, p.Image, p.Version, p.Region, p.Variant, p.Name, p.Format, p.Artifact, p.Location, stamp(p.Verified))
		if err == nil && tx.schema.Load() >= withBases {
			_, err = tx.exec(ctx, "UPDATE placements SET verified_by = ? WHERE id = ?", p.VerifiedBy, p.ID)
		}
		if err != nil {
			return err
		}
		return arrived(ctx, tx, p.Image, p.Version, p.Region, p.Variant, p.Name)
	})
}

// Unplace forgets what was recorded of an artifact of a version in a region.
func (c *Catalog) Unplace(ctx context.Context, p Placement) error {
	return c.asOne(ctx, func(tx session) error {
		p.Name = cmp.Or(p.Name, p.Format)
		if err := p.forget(ctx, tx, ""); err != nil {
			return err
		}
		return arrived(ctx, tx, p.Image, p.Version, p.Region, p.Variant, p.Name)
	})
}

// Shared reports whether another placement than this one has its location.
func (c *Catalog) Shared(ctx context.Context, p *Placement) (shared bool, err error) {
	var n int
	err = c.row(ctx, `SELECT count(*) FROM placements WHERE region = ? AND location = ? AND
		NOT (image = ? AND version = ? AND variant = ? AND name = ?)`, p.Region, p.Location, p.Image, p.Version, p.Variant,
		cmp.Or(p.Name, p.Format)).Scan(&n)
	return n > 0, err
}

// forget removes rows of an artifact in a region.
func (p *Placement) forget(ctx context.Context, tx session, and string, args ...any) error {
	_, err := tx.exec(ctx, "DELETE FROM placements WHERE image = ? AND version = ? AND region = ? AND variant = ? AND name = ?"+and,
		append([]any{p.Image, p.Version, p.Region, p.Variant, p.Name}, args...)...)
	return err
}

// Holding is what a region holds.
type Holding struct {
	Versions int   `json:"versions"`
	Files    int   `json:"files"`
	Bytes    int64 `json:"bytes"`
}

// Holdings says what each region holds, by name.
func (c *Catalog) Holdings(ctx context.Context) (map[string]Holding, error) {
	held := map[string]Holding{}
	rows, err := c.rows(ctx, `SELECT p.region, count(DISTINCT p.image || '@' || p.version), count(*), CAST(sum(a.bytes) AS BIGINT) FROM
		placements p
		JOIN artifacts a ON a.image = p.image AND a.version = p.version AND a.variant = p.variant AND a.name = p.name GROUP BY p.region`)
	return held, each(rows, err, func(rows row) error {
		var region string
		var h Holding
		err := rows.Scan(&region, &h.Versions, &h.Files, &h.Bytes)
		held[region] = h
		return err
	})
}

// Placements lists where things are: of one image and version, or of a region, or all; "" takes any.
func (c *Catalog) Placements(ctx context.Context, image, version, region string) ([]Placement, error) {
	var w where
	w.is("p.image", image)
	w.is("p.version", version)
	w.is("p.region", region)
	by := "p.verified_by"
	if c.schema.Load() < withBases {
		by = "''"
	}
	rows, err := c.rows(ctx, `SELECT p.id, p.image, p.version, p.region, p.variant, p.name, p.format, p.artifact, p.location,
		p.verified, `+by+`, v.leaving, coalesce(a.bytes, 0)
		FROM placements p JOIN versions v ON v.image = p.image AND v.version = p.version
		LEFT JOIN artifacts a ON a.image = p.image AND a.version = p.version AND a.variant = p.variant AND a.name = p.name `+w.sql()+`
		ORDER BY p.region, p.image, v.major DESC, v.minor DESC, v.patch DESC, p.variant, p.name`, w.args...)
	return collect(rows, err, func(rows row) (Placement, error) {
		var p Placement
		var verified string
		err := rows.Scan(&p.ID, &p.Image, &p.Version, &p.Region, &p.Variant, &p.Name, &p.Format, &p.Artifact, &p.Location, &verified,
			&p.VerifiedBy, &p.Leaving,
			&p.Bytes)
		p.Verified = unstamp(verified)
		return p, err
	})
}
