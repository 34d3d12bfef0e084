package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"zygos/internal/definition"
)

// States of a build.
const (
	Running     = "running"
	Registered  = "registered" // it made a version
	Failed      = "failed"
	Cancelled   = "cancelled"   // somebody stopped it
	Interrupted = "interrupted" // its process ended without a word
)

// Build is one run of a definition.
type Build struct {
	ID      string    `json:"id"`
	Image   string    `json:"image"`
	Version string    `json:"version"` // the number it was to get
	Base    string    `json:"base"`
	State   string    `json:"state"`
	Who     string    `json:"who"`
	Host    string    `json:"host,omitempty"`
	Place   string    `json:"-"`                // identity of the state that runs it, "" for an old build
	Commit  string    `json:"commit,omitempty"` // of the repository around the workspace
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
	Why     string    `json:"why"` // what made it necessary
	Error   string    `json:"error,omitempty"`
	// Quiet is for how long nothing was heard of a build that is called running, by the database's clock.
	Quiet time.Duration `json:"-"`
}

// TakenError refuses a version number, and proposes one.
type TakenError struct {
	Image, Version, Highest, Free string
	Build                         string // that is making the version, if one is
	Lost                          bool   // another build was given the number while nothing was heard of this one
}

func (e *TakenError) Error() string {
	if e.Lost {
		return fmt.Sprintf("%s %s was given to build %s while nothing was heard of this one; build again: the next free number is %s",
			e.Image, e.Version, e.Build, e.Free)
	}
	if e.Build != "" {
		return fmt.Sprintf("%s %s is being made by build %s; the next free number of its series is %s", e.Image, e.Version, e.Build, e.Free)
	}
	if e.Version == e.Highest {
		return fmt.Sprintf("%s %s exists already; versions never change. The next free number of its series is %s", e.Image, e.Version, e.Free)
	}
	return fmt.Sprintf("%s %s is not above %s, the highest of its series; the next free number is %s", e.Image, e.Version, e.Highest, e.Free)
}

// taken refuses a number that another build was given while nothing was heard of this one, and says which is free.
func (s session) taken(ctx context.Context, v *Version, number definition.Version, by string) error {
	patch := number.Patch
	err := s.row(ctx, "SELECT coalesce(max(patch), 0) FROM versions WHERE image = ? AND major = ? AND minor = ?", v.Image, number.Major,
		number.Minor).Scan(&patch)
	e := &TakenError{Image: v.Image, Version: v.Version, Free: fmt.Sprintf("%d.%d.%d", number.Major, number.Minor, max(patch, number.Patch)+1),
		Build: by, Lost: true}
	return errors.Join(e, err)
}

// NextVersion is the number that the next build of an image gets: the version itself if it is
// free and above the highest of its series (else a *TakenError), or the series' next free number.
// Builds that run hold the numbers they were given; alive says whether one really runs.
func (c *Catalog) NextVersion(ctx context.Context, image, series, version string, alive func(*Build) bool) (string, error) {
	if version == "" {
		patch, _, err := c.highest(ctx, image, series, alive)
		return fmt.Sprintf("%s.%d", series, patch+1), err
	}
	v, ok := definition.ParseVersion(version)
	if !ok {
		return "", fmt.Errorf("%q is no version", version)
	}
	series = fmt.Sprintf("%d.%d", v.Major, v.Minor)
	patch, build, err := c.highest(ctx, image, series, alive)
	if err != nil {
		return "", err
	}
	if v.Patch <= patch {
		e := &TakenError{Image: image, Version: version, Highest: fmt.Sprintf("%s.%d", series, patch),
			Free: fmt.Sprintf("%s.%d", series, patch+1)}
		if v.Patch == patch {
			e.Build = build
		}
		return "", e
	}
	return version, nil
}

// highest is the highest patch number that a series ever had, -1 if it had no version, and the build
// that makes it, if one does. Numbers of versions that were pruned are not given again.
func (c *Catalog) highest(ctx context.Context, image, series string, alive func(*Build) bool) (patch int64, build string, err error) {
	major, minor, ok := definition.ParseSeries(series)
	if !ok {
		return 0, "", fmt.Errorf("%q is no series", series)
	}
	err = c.row(ctx, `SELECT max(patch) FROM (SELECT coalesce(max(patch), -1) AS patch FROM versions WHERE image = ? AND major = ? AND
		minor = ?
		UNION ALL SELECT CAST(substr(version, ?) AS INTEGER) FROM builds WHERE image = ? AND state = ? AND version LIKE ?) AS had`,
		image, major, minor, len(series)+2, image, Registered, series+".%").Scan(&patch)
	if err != nil {
		return 0, "", err
	}
	running, err := c.Running(ctx)
	for i := range running {
		v, ok := definition.ParseVersion(running[i].Version)
		if ok && running[i].Image == image && v.Major == major && v.Minor == minor && v.Patch > patch && alive(&running[i]) {
			patch, build = v.Patch, running[i].ID
		}
	}
	return patch, build, err
}

// StartBuild records that a build runs, which holds its version's number from then on. If another
// one has or holds that number, it is a *TakenError.
func (c *Catalog) StartBuild(ctx context.Context, b Build) error {
	return c.asOne(ctx, func(tx session) error {
		var other string
		err := tx.row(ctx, "SELECT build FROM versions WHERE image = ? AND version = ? UNION SELECT id FROM builds WHERE image = ? AND "+
			"version = ? AND state = ?",
			b.Image, b.Version, b.Image, b.Version, Running).Scan(&other)
		if err == nil {
			return &TakenError{Image: b.Image, Version: b.Version, Highest: b.Version, Free: "a higher one", Build: other}
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if image, version, ok := strings.Cut(b.Base, "@"); ok {
			var leaving *LeavingError
			if err := stays(ctx, tx, image, version); errors.As(err, &leaving) {
				return err
			}
		}
		now, err := tx.now(ctx)
		if err != nil {
			return err
		}
		_, err = tx.exec(ctx, "INSERT INTO builds (id, image, version, base, state, who, host, place, revision, seen, started, why) VALUES "+
			"(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			b.ID, b.Image, b.Version, b.Base, Running, b.Who, b.Host, b.Place, b.Commit, stamp(now), stamp(b.Started), b.Why)
		return err
	})
}

// Beat says that a build still runs, also if another state held it for dead.
func (c *Catalog) Beat(ctx context.Context, id string) error {
	return c.asOne(ctx, func(tx session) error {
		now, err := tx.now(ctx)
		if err != nil {
			return err
		}
		_, err = tx.exec(ctx, "UPDATE builds SET seen = ?, state = ?, error = '', ended = '' WHERE id = ? AND state IN (?, ?)", stamp(now),
			Running, id, Running, Interrupted)
		return err
	})
}

// EndBuild records how a build that made no version ended. One that registered a version meanwhile stays as it is.
func (c *Catalog) EndBuild(ctx context.Context, id, state, reason string, at time.Time) error {
	return c.asOne(ctx, func(tx session) error {
		_, err := tx.exec(ctx, "UPDATE builds SET state = ?, error = ?, ended = ? WHERE id = ? AND state IN (?, ?)", state, reason, stamp(at),
			id, Running, Interrupted)
		return err
	})
}

// Running lists the builds that are called running, oldest first.
func (c *Catalog) Running(ctx context.Context) ([]Build, error) {
	return c.builds(ctx, "WHERE state = ? ORDER BY started, id", Running)
}

// Builds lists builds, newest first, at most so many, 0 for all; of all images if image is "". It
// says how many there are in all.
func (c *Catalog) Builds(ctx context.Context, image string, most int) (list []Build, total int, err error) {
	var w where
	w.is("image", image)
	if err := c.row(ctx, "SELECT count(*) FROM builds "+w.sql(), w.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	end := " ORDER BY started DESC, id DESC"
	if most > 0 {
		end += fmt.Sprintf(" LIMIT %d", most)
	}
	list, err = c.builds(ctx, w.sql()+end, w.args...)
	return list, total, err
}

// Build is the build with an id or, if word is an image's name, the newest of that image; else a
// *NotFoundError.
func (c *Catalog) Build(ctx context.Context, word string) (*Build, error) {
	list, err := c.builds(ctx, "WHERE id = ?", word)
	if err == nil && len(list) == 0 {
		list, _, err = c.Builds(ctx, word, 1)
	}
	if err == nil && len(list) == 0 {
		err = &NotFoundError{fmt.Sprintf("no build and no image with builds is named %q", word), "'zygos builds' lists them"}
	}
	if err != nil {
		return nil, err
	}
	return &list[0], nil
}

// Unfinished lists the builds of an image, or of all if image is "", that were begun since its newest
// version and made none: by image, the last first.
func (c *Catalog) Unfinished(ctx context.Context, image string) ([]Build, error) {
	var w where
	w.add("state IN (?, ?, ?, ?)", Running, Failed, Cancelled, Interrupted)
	w.add("started > coalesce((SELECT v.created FROM versions v WHERE v.image = builds.image ORDER BY v.major DESC, v.minor DESC, v.patch " +
		"DESC LIMIT 1), '')")
	w.is("image", image)
	return c.builds(ctx, w.sql()+" ORDER BY image, started DESC, id DESC", w.args...)
}

func (c *Catalog) builds(ctx context.Context, where string, args ...any) ([]Build, error) {
	rows, err := c.rows(ctx, "SELECT id, image, version, base, state, who, host, place, revision, seen, started, ended, error, why FROM "+
		"builds "+where, args...)
	seen := map[string]time.Time{}
	list, err := collect(rows, err, func(rows row) (Build, error) {
		var b Build
		var heard, started, ended string
		err := rows.Scan(&b.ID, &b.Image, &b.Version, &b.Base, &b.State, &b.Who, &b.Host, &b.Place, &b.Commit, &heard, &started, &ended,
			&b.Error, &b.Why)
		b.Started, b.Ended = unstamp(started), unstamp(ended)
		if b.State == Running {
			seen[b.ID] = unstamp(heard)
		}
		return b, err
	})
	if err != nil || len(seen) == 0 {
		return list, err
	}
	now, err := c.now(ctx)
	for i := range list {
		if at, ok := seen[list[i].ID]; ok {
			list[i].Quiet = now.Sub(at)
		}
	}
	return list, err
}
