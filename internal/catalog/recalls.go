package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Recall withdraws a version, and with it its descendants if it says so.
type Recall struct {
	Image       string    `json:"image"`
	Version     string    `json:"version"` // that was recalled itself
	Why         string    `json:"why"`
	Who         string    `json:"who"`
	At          time.Time `json:"at"`
	Since       time.Time `json:"since"` // in force from then on
	Descendants bool      `json:"descendants"`

	ahead time.Duration // that the catalog's clock is ahead of this machine's
}

// Word says in a word or two whether a version with this recall, or none if it is nil, is recalled; "" if not.
func (r *Recall) Word() string {
	switch {
	case r == nil:
		return ""
	case r.InForce():
		return "recalled"
	}
	return "recall planned"
}

// InForce says whether the recall holds now, or is planned.
func (r *Recall) InForce() bool {
	return !r.Since.After(time.Now().Add(r.ahead))
}

// RecalledError refuses the use of a version that is recalled.
type RecalledError struct {
	Image, Version string
	Recall         Recall
}

// Short says no more than what is recalled, through what, and why.
func (e *RecalledError) Short() string {
	through := ""
	if e.Recall.Image != e.Image || e.Recall.Version != e.Version {
		through = fmt.Sprintf(" through its ancestor %s@%s", e.Recall.Image, e.Recall.Version)
	}
	return fmt.Sprintf("%s@%s is recalled%s: %s", e.Image, e.Version, through, e.Recall.Why)
}

func (e *RecalledError) Error() string {
	if e.Recall.Who == "" { // known from an index alone
		return fmt.Sprintf("%s (since %s). Use another version", e.Short(), e.Recall.Since.UTC().Format(time.RFC3339))
	}
	return fmt.Sprintf("%s (by %s, %s). Use another version, or undo it: zygos reinstate %s@%s", e.Short(), e.Recall.Who,
		e.Recall.Since.UTC().Format(time.RFC3339), e.Recall.Image, e.Recall.Version)
}

// AlreadyError refuses to recall a version that is recalled.
type AlreadyError struct{ Ref string }

func (e *AlreadyError) Error() string {
	return fmt.Sprintf("%s is recalled already; 'zygos show %s' tells by whom, 'zygos reinstate' undoes it", e.Ref, e.Ref)
}

// LeavingError refuses the use of a version that prune has begun to remove.
type LeavingError struct{ Ref string }

func (e *LeavingError) Error() string {
	return e.Ref + " is being removed by prune; use another version ('zygos prune --yes' ends what it began)"
}

// Usable is a *RecalledError if the version is recalled now, a *LeavingError if it is being removed.
func (v *Version) Usable() error {
	if v.Leaving {
		return &LeavingError{v.Ref()}
	}
	if v.Recall != nil && v.Recall.InForce() {
		return &RecalledError{v.Image, v.Version, *v.Recall}
	}
	return nil
}

// hits begins a query over the versions that recalls concern.
func (s session) hits() string {
	return `WITH RECURSIVE hit (image, version, number, descendants) AS (
	SELECT image, version, number, descendants FROM recalls WHERE ended = ''
	UNION SELECT v.image, v.version, h.number, h.descendants FROM versions v JOIN hit h
		ON v.base_name = h.image AND v.base_version = h.version AND ` + s.ownBase() + ` = 1 WHERE h.descendants = 1) `
}

// Recalled lists every version that is recalled or will be, itself or through an ancestor, by
// reference; of several recalls, the one that holds first counts.
func (c *Catalog) Recalled(ctx context.Context) (map[string]*Recall, error) {
	type pair struct {
		ref    string
		recall Recall
	}
	rows, err := c.rows(ctx, c.hits()+`SELECT h.image, h.version, r.image, r.version, r.why, r.who, r.at, r.since, r.descendants FROM hit h
		JOIN recalls r ON r.number = h.number ORDER BY r.since, r.number`)
	list, err := collect(rows, err, func(rows row) (pair, error) {
		var p pair
		var image, version, at, since string
		err := rows.Scan(&image, &version, &p.recall.Image, &p.recall.Version,
			cleaned{&p.recall.Why}, cleaned{&p.recall.Who}, &at, &since, &p.recall.Descendants)
		p.ref, p.recall.At, p.recall.Since, p.recall.ahead = image+"@"+version, unstamp(at), unstamp(since), c.ahead
		return p, err
	})
	if err != nil {
		return nil, err
	}
	hit := map[string]*Recall{}
	for i := range list {
		if hit[list[i].ref] == nil {
			hit[list[i].ref] = &list[i].recall
		}
	}
	return hit, nil
}

// mayBeNamed makes sure, within a change, that a version is there and neither recalled nor leaving.
func mayBeNamed(ctx context.Context, tx session, image, version string) error {
	if err := stays(ctx, tx, image, version); err != nil {
		return err
	}
	now, err := tx.now(ctx)
	if err != nil {
		return err
	}
	rows, err := tx.rows(ctx, tx.hits()+`SELECT r.image, r.version, r.why, r.who, r.since FROM hit h JOIN recalls r ON r.number = h.number
		WHERE h.image = ? AND h.version = ? AND r.since <= ? ORDER BY r.since, r.number LIMIT 1`, image, version, stamp(now))
	return each(rows, err, func(rows row) error {
		e := &RecalledError{Image: image, Version: version}
		var since string
		if err := rows.Scan(&e.Recall.Image, &e.Recall.Version, cleaned{&e.Recall.Why}, cleaned{&e.Recall.Who}, &since); err != nil {
			return err
		}
		e.Recall.Since = unstamp(since)
		return e
	})
}

// stays makes sure, within a change, that a version is there and not leaving.
func stays(ctx context.Context, tx session, image, version string) error {
	var leaving bool
	err := tx.row(ctx, "SELECT leaving FROM versions WHERE image = ? AND version = ?", image, version).Scan(&leaving)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return &NotFoundError{fmt.Sprintf("%s@%s is not there any more", image, version), "'zygos list " + image + "' shows what is"}
	case err == nil && leaving:
		return &LeavingError{image + "@" + version}
	}
	return err
}

// Recall withdraws a version. A version that is recalled itself already keeps that recall.
func (c *Catalog) Recall(ctx context.Context, r Recall) error {
	return c.asOne(ctx, func(tx session) error {
		var n int
		if err := tx.row(ctx, "SELECT count(*) FROM recalls WHERE image = ? AND version = ? AND ended = ''", r.Image,
			r.Version).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return &AlreadyError{r.Image + "@" + r.Version}
		}
		descendants := 0
		if r.Descendants {
			descendants = 1
		}
		_, err := tx.exec(ctx, `INSERT INTO recalls (number, image, version, why, who, at, since, descendants)
			VALUES ((SELECT coalesce(max(number), 0) + 1 FROM recalls), ?, ?, ?, ?, ?, ?, ?)`,
			r.Image, r.Version, r.Why, r.Who, stamp(r.At), stamp(r.Since), descendants)
		return err
	})
}

// RecalledSince finds the last recall that is like another one, and was made after its time; nil if there is none. A like without a
// version is one of any version of the image.
func (c *Catalog) RecalledSince(ctx context.Context, like Recall) (*Recall, error) {
	var w where
	w.add("ended = '' AND at > ? AND descendants = ?", stamp(like.At), map[bool]int{true: 1}[like.Descendants])
	w.is("image", like.Image)
	w.is("version", like.Version)
	w.is("why", like.Why)
	w.is("who", like.Who)
	rows, err := c.rows(ctx, "SELECT image, version, why, who, at, since, descendants FROM recalls "+w.sql()+
		" ORDER BY number DESC LIMIT 1", w.args...)
	list, err := collect(rows, err, func(rows row) (Recall, error) {
		r := Recall{ahead: c.ahead}
		var at, since string
		err := rows.Scan(&r.Image, &r.Version, cleaned{&r.Why}, cleaned{&r.Who}, &at, &since, &r.Descendants)
		r.At, r.Since = unstamp(at), unstamp(since)
		return r, err
	})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Reinstate ends the recall of a version and says whether there was one.
func (c *Catalog) Reinstate(ctx context.Context, image, version, who string, at time.Time) (was bool, err error) {
	err = c.asOne(ctx, func(tx session) error {
		n, err := tx.exec(ctx, "UPDATE recalls SET ended = ?, ended_by = ? WHERE image = ? AND version = ? AND ended = ''", stamp(at), who,
			image, version)
		was = n > 0
		return err
	})
	return was, err
}

// EndedRecall is one that was undone.
type EndedRecall struct {
	Recall
	Ended   time.Time `json:"ended"`
	EndedBy string    `json:"ended_by"`
}

// EndedRecalls lists the recalls of a version itself that were undone, the last first.
func (c *Catalog) EndedRecalls(ctx context.Context, image, version string) ([]EndedRecall, error) {
	rows, err := c.rows(ctx, `SELECT image, version, why, who, at, since, descendants, ended, ended_by FROM recalls
		WHERE image = ? AND version = ? AND ended <> '' ORDER BY number DESC`, image, version)
	return collect(rows, err, func(rows row) (EndedRecall, error) {
		var r EndedRecall
		var at, since, ended string
		err := rows.Scan(&r.Image, &r.Version, cleaned{&r.Why}, cleaned{&r.Who}, &at, &since, &r.Descendants, &ended, &r.EndedBy)
		r.At, r.Since, r.Ended = unstamp(at), unstamp(since), unstamp(ended)
		return r, err
	})
}

// Relative is a version in a family tree.
type Relative struct {
	Image       string    `json:"image"`
	Version     string    `json:"version"`
	BaseName    string    `json:"base_name"`
	BaseVersion string    `json:"base_version"`
	Created     time.Time `json:"created"`
	Depth       int       `json:"depth"` // 0 for the version itself, negative for ancestors
}

// Ref is how a user names the version.
func (r *Relative) Ref() string { return r.Image + "@" + r.Version }

// Family lists a version with its ancestors, oldest first, and its descendants, at most depth
// generations away; 0 for all.
func (c *Catalog) Family(ctx context.Context, image, version string, depth int) ([]Relative, error) {
	if depth == 0 {
		depth = 1 << 20
	}
	own := c.ownBase()
	rows, err := c.rows(ctx, `WITH RECURSIVE
		up (image, version, base_name, base_version, created, own, depth) AS (
			SELECT image, version, base_name, base_version, created, `+own+`, 0 FROM versions v WHERE image = ? AND version = ?
			UNION SELECT v.image, v.version, v.base_name, v.base_version, v.created, `+own+`, u.depth - 1
				FROM up u JOIN versions v ON v.image = u.base_name AND v.version = u.base_version WHERE u.own = 1 AND u.depth > ?),
		down (image, version, base_name, base_version, created, depth) AS (
			SELECT image, version, base_name, base_version, created, 0 FROM versions WHERE image = ? AND version = ?
			UNION SELECT v.image, v.version, v.base_name, v.base_version, v.created, d.depth + 1
				FROM down d JOIN versions v ON v.base_name = d.image AND v.base_version = d.version AND `+own+` = 1 WHERE d.depth < ?)
		SELECT image, version, base_name, base_version, created, depth FROM up
		UNION SELECT image, version, base_name, base_version, created, depth FROM down
		ORDER BY depth, image, created`, image, version, -depth, image, version, depth)
	return collect(rows, err, func(rows row) (Relative, error) {
		var r Relative
		var created string
		err := rows.Scan(&r.Image, &r.Version, &r.BaseName, &r.BaseVersion, &created, &r.Depth)
		r.Created = unstamp(created)
		return r, err
	})
}
