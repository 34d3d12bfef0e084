package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
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
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
	Why     string    `json:"why"` // what made it necessary
	Error   string    `json:"error,omitempty"`
}

// Version is an immutable version of an image.
type Version struct {
	Image       string            `json:"image"`
	Version     string            `json:"version"`
	Build       string            `json:"build"`
	Created     time.Time         `json:"created"`
	BaseName    string            `json:"base_name"`
	BaseVersion string            `json:"base_version"`
	BaseDigest  string            `json:"base_digest"`
	Fingerprint string            `json:"fingerprint"` // of everything that went into it
	Epoch       int64             `json:"epoch"`       // no time in its tree is later; seconds since 1970
	Trees       []Tree            `json:"trees"`       // one for each variant
	Labels      map[string]string `json:"labels"`
	Artifacts   []Artifact        `json:"artifacts"`
	Tags        []string          `json:"tags"`
	Recall      *Recall           `json:"recall,omitempty"` // in force or planned, its own or an ancestor's
}

// Tree is what a variant of a version consists of.
type Tree struct {
	Variant string            `json:"variant,omitempty"` // "" for an image of one shape
	Layers  []string          `json:"layers"`            // digests, lowest first
	Labels  map[string]string `json:"labels,omitempty"`  // the variant's own
}

// Artifact is a file captured from a build.
type Artifact struct {
	Variant string `json:"variant,omitempty"`
	Format  string `json:"format"`
	Digest  string `json:"digest"` // "sha256:…"
	Bytes   int64  `json:"bytes"`
}

// Tree finds a variant's tree, nil if there is none.
func (v *Version) Tree(variant string) *Tree {
	for i := range v.Trees {
		if v.Trees[i].Variant == variant {
			return &v.Trees[i]
		}
	}
	return nil
}

// Ref is how a user names the version.
func (v *Version) Ref() string { return v.Image + "@" + v.Version }

// TakenError refuses a version number, and proposes one.
type TakenError struct {
	Image, Version, Highest, Free string
	Build                         string // that is making the version, if one is
}

func (e *TakenError) Error() string {
	if e.Build != "" {
		return fmt.Sprintf("%s %s is being made by build %s; the next free number of its series is %s", e.Image, e.Version, e.Build, e.Free)
	}
	if e.Version == e.Highest {
		return fmt.Sprintf("%s %s exists already; versions never change. The next free number of its series is %s", e.Image, e.Version, e.Free)
	}
	return fmt.Sprintf("%s %s is not above %s, the highest of its series; the next free number is %s", e.Image, e.Version, e.Highest, e.Free)
}

// NotFoundError says that a reference means nothing here.
type NotFoundError struct{ What, Do string }

func (e *NotFoundError) Error() string { return e.What + "; " + e.Do }

// NextVersion is the number that the next build of an image gets: the version itself if it is
// free and above the highest of its series (else a *TakenError), or the series' next free number.
// Builds that run hold the numbers they were given; alive says whether one really runs.
func (c *Catalog) NextVersion(ctx context.Context, image, series, version string, alive func(build string) bool) (string, error) {
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
		e := &TakenError{Image: image, Version: version, Highest: fmt.Sprintf("%s.%d", series, patch), Free: fmt.Sprintf("%s.%d", series, patch+1)}
		if v.Patch == patch {
			e.Build = build
		}
		return "", e
	}
	return version, nil
}

// highest is the highest patch number that a series ever had, -1 if it had no version, and the build
// that makes it, if one does. Numbers of versions that were pruned are not given again.
func (c *Catalog) highest(ctx context.Context, image, series string, alive func(build string) bool) (patch int64, build string, err error) {
	major, minor, ok := definition.ParseSeries(series)
	if !ok {
		return 0, "", fmt.Errorf("%q is no series", series)
	}
	type held struct {
		patch        int64
		build, state string
	}
	rows, err := c.db.QueryContext(ctx, `SELECT coalesce(max(patch), -1), '', '' FROM versions WHERE image = ? AND major = ? AND minor = ?
		UNION ALL SELECT CAST(substr(version, ?) AS INTEGER), id, state FROM builds WHERE image = ? AND state IN (?, ?) AND version LIKE ?`,
		image, major, minor, len(series)+2, image, Registered, Running, series+".%")
	list, err := collect(rows, err, func(rows *sql.Rows) (h held, err error) { return h, rows.Scan(&h.patch, &h.build, &h.state) })
	if err != nil {
		return 0, "", err
	}
	patch = -1
	for _, h := range list {
		if h.patch > patch && (h.state != Running || alive(h.build)) {
			if patch, build = h.patch, ""; h.state == Running {
				build = h.build
			}
		}
	}
	return patch, build, nil
}

// StartBuild records that a build runs, which holds its version's number from then on. If another
// one has or holds that number, it is a *TakenError.
func (c *Catalog) StartBuild(ctx context.Context, b Build) error {
	return c.in(ctx, func(tx *sql.Tx) error {
		var other string
		err := tx.QueryRowContext(ctx, "SELECT build FROM versions WHERE image = ? AND version = ? UNION SELECT id FROM builds WHERE image = ? AND version = ? AND state = ?",
			b.Image, b.Version, b.Image, b.Version, Running).Scan(&other)
		if err == nil {
			return &TakenError{Image: b.Image, Version: b.Version, Highest: b.Version, Free: "a higher one", Build: other}
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO builds (id, image, version, base, state, who, started, why) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
			b.ID, b.Image, b.Version, b.Base, Running, b.Who, stamp(b.Started), b.Why)
		return err
	})
}

// EndBuild records how a build that made no version ended.
func (c *Catalog) EndBuild(ctx context.Context, id, state, reason string, at time.Time) error {
	_, err := c.db.ExecContext(ctx, "UPDATE builds SET state = ?, error = ?, ended = ? WHERE id = ?", state, reason, stamp(at), id)
	return err
}

// Running lists the builds that are called running, oldest first.
func (c *Catalog) Running(ctx context.Context) ([]string, error) {
	rows, err := c.db.QueryContext(ctx, "SELECT id FROM builds WHERE state = ? ORDER BY started, id", Running)
	return collect(rows, err, func(rows *sql.Rows) (id string, err error) { return id, rows.Scan(&id) })
}

// Register records a version with its artifacts and ends its build, all or nothing.
func (c *Catalog) Register(ctx context.Context, v Version) error {
	number, ok := definition.ParseVersion(v.Version)
	if !ok {
		return fmt.Errorf("%q is no version", v.Version)
	}
	trees, err1 := json.Marshal(v.Trees)
	labels, err2 := json.Marshal(v.Labels)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	return c.in(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO versions (image, version, major, minor, patch, build, created,
			base_name, base_version, base_digest, fingerprint, epoch, trees, labels) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			v.Image, v.Version, number.Major, number.Minor, number.Patch, v.Build, stamp(v.Created),
			v.BaseName, v.BaseVersion, v.BaseDigest, v.Fingerprint, v.Epoch, string(trees), string(labels)); err != nil {
			return fmt.Errorf("register %s: %w", v.Ref(), err)
		}
		for _, a := range v.Artifacts {
			if _, err := tx.ExecContext(ctx, "INSERT INTO artifacts (image, version, variant, format, digest, bytes) VALUES (?, ?, ?, ?, ?, ?)",
				v.Image, v.Version, a.Variant, a.Format, a.Digest, a.Bytes); err != nil {
				return err
			}
		}
		for key, value := range v.Labels {
			if _, err := tx.ExecContext(ctx, "INSERT INTO labels (image, version, key, value) VALUES (?, ?, ?, ?)", v.Image, v.Version, key, value); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "UPDATE builds SET state = ?, ended = ? WHERE id = ?", Registered, stamp(v.Created), v.Build)
		return err
	})
}

// ArtifactDigests lists the digests of all artifacts of all versions.
func (c *Catalog) ArtifactDigests(ctx context.Context) ([]string, error) {
	rows, err := c.db.QueryContext(ctx, "SELECT DISTINCT digest FROM artifacts")
	return collect(rows, err, func(rows *sql.Rows) (digest string, err error) { return digest, rows.Scan(&digest) })
}

const versionColumns = `SELECT v.image, v.version, v.build, v.created, v.base_name, v.base_version, v.base_digest, v.fingerprint, v.epoch, v.trees, v.labels,
	(SELECT json_group_array(json_object('variant', a.variant, 'format', a.format, 'digest', a.digest, 'bytes', a.bytes))
		FROM (SELECT * FROM artifacts a WHERE a.image = v.image AND a.version = v.version ORDER BY a.variant, a.format) a),
	(SELECT json_group_array(t.tag) FROM (SELECT tag FROM tags t WHERE t.image = v.image AND t.version = v.version ORDER BY tag) t)
	FROM versions v `

func readVersion(rows *sql.Rows) (Version, error) {
	var v Version
	var created, trees, labels, artifacts, tags string
	err := rows.Scan(&v.Image, &v.Version, &v.Build, &created, &v.BaseName, &v.BaseVersion, &v.BaseDigest, &v.Fingerprint, &v.Epoch, &trees, &labels, &artifacts, &tags)
	v.Created = unstamp(created)
	return v, errors.Join(err, json.Unmarshal([]byte(trees), &v.Trees), json.Unmarshal([]byte(labels), &v.Labels),
		json.Unmarshal([]byte(artifacts), &v.Artifacts), json.Unmarshal([]byte(tags), &v.Tags))
}

// Versions lists the versions of an image, newest first; of all images, by name, if image is "".
func (c *Catalog) Versions(ctx context.Context, image string) ([]Version, error) {
	where, args := "", []any{}
	if image != "" {
		where, args = "WHERE v.image = ? ", []any{image}
	}
	return c.versions(ctx, where+"ORDER BY v.image, v.major DESC, v.minor DESC, v.patch DESC", args...)
}

// Query says which versions to list; what is not set does not matter.
type Query struct {
	Image, Tag, Region string
	Base               string // NAME or NAME@VERSION
	Labels             map[string]string
	Since              time.Time // registered after it
	State              string    // "usable", "recalled" or "planned"
	Most               int       // at most so many; 0 for all
}

// List lists versions by image, newest first, and says how many there are in all.
func (c *Catalog) List(ctx context.Context, q Query) (list []Version, total int, err error) {
	var w where
	w.is("v.image", q.Image)
	name, version, _ := strings.Cut(q.Base, "@")
	w.is("v.base_name", name)
	w.is("v.base_version", version)
	for key, value := range q.Labels {
		w.add("(v.image, v.version) IN (SELECT image, version FROM labels WHERE key = ? AND value = ?)", key, value)
	}
	if q.Tag != "" {
		w.add("(v.image, v.version) IN (SELECT image, version FROM tags WHERE tag = ?)", q.Tag)
	}
	if q.Region != "" {
		w.add("(v.image, v.version) IN (SELECT image, version FROM placements WHERE region = ?)", q.Region)
	}
	if !q.Since.IsZero() {
		w.add("v.created > ?", stamp(q.Since))
	}
	if q.State != "" {
		recalled, err := c.Recalled(ctx)
		if err != nil {
			return nil, 0, err
		}
		var refs []any
		for ref, r := range recalled {
			if q.State == "usable" && r.InForce() {
				refs = append(refs, ref)
			} else if q.State != "usable" && r.InForce() == (q.State == "recalled") {
				image, version, _ := strings.Cut(ref, "@")
				refs = append(refs, image, version)
			}
		}
		if q.State == "usable" {
			w.add("v.image || '@' || v.version NOT IN ("+strings.TrimPrefix(strings.Repeat(", ?", len(refs)), ", ")+")", refs...)
		} else {
			w.add("(v.image, v.version) IN (VALUES ('', '')"+strings.Repeat(", (?, ?)", len(refs)/2)+")", refs...)
		}
	}
	if err := c.db.QueryRowContext(ctx, "SELECT count(*) FROM versions v "+w.sql(), w.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	end := " ORDER BY v.image, v.major DESC, v.minor DESC, v.patch DESC"
	if q.Most > 0 {
		end += fmt.Sprintf(" LIMIT %d", q.Most)
	}
	list, err = c.versions(ctx, w.sql()+end, w.args...)
	return list, total, err
}

// where gathers conditions.
type where struct {
	conditions []string
	args       []any
}

func (w *where) add(condition string, args ...any) {
	w.conditions, w.args = append(w.conditions, condition), append(w.args, args...)
}

// is asks for a column's value, unless it is "".
func (w *where) is(column, value string) {
	if value != "" {
		w.add(column+" = ?", value)
	}
}

func (w *where) sql() string {
	if len(w.conditions) == 0 {
		return ""
	}
	return "WHERE " + strings.Join(w.conditions, " AND ")
}

// versions reads versions with their recalls.
func (c *Catalog) versions(ctx context.Context, where string, args ...any) ([]Version, error) {
	rows, err := c.db.QueryContext(ctx, versionColumns+where, args...)
	list, err := collect(rows, err, readVersion)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	recalled, err := c.Recalled(ctx)
	for i := range list {
		list[i].Recall = recalled[list[i].Ref()]
	}
	return list, err
}

// Resolve finds the version that a reference means; else a *NotFoundError. Where the reference
// leaves the choice, it is the newest version that is not recalled, and a *RecalledError if all are.
func (c *Catalog) Resolve(ctx context.Context, ref definition.Ref) (*Version, error) {
	where, args := "WHERE v.image = ?", []any{ref.Image}
	free := ref.Selector == "" || ref.IsSeries()
	switch {
	case ref.Selector == "":
	case ref.IsVersion():
		where, args = where+" AND v.version = ?", append(args, ref.Selector)
	case ref.IsSeries():
		major, minor, _ := definition.ParseSeries(ref.Selector)
		where, args = where+" AND v.major = ? AND v.minor = ?", append(args, major, minor)
	default:
		where, args = where+" AND v.version = (SELECT version FROM tags WHERE image = v.image AND tag = ?)", append(args, ref.Selector)
	}
	where += " ORDER BY v.major DESC, v.minor DESC, v.patch DESC"
	list, err := c.versions(ctx, where+" LIMIT 1", args...)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, c.notFound(ctx, ref)
	}
	if !free || list[0].Usable() == nil {
		return &list[0], nil
	}
	first := list[0].Usable()
	if list, err = c.versions(ctx, where, args...); err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Usable() == nil {
			return &list[i], nil
		}
	}
	return nil, first
}

// notFound explains why a reference means nothing.
func (c *Catalog) notFound(ctx context.Context, ref definition.Ref) error {
	versions, err := c.Versions(ctx, ref.Image)
	if err != nil {
		return err
	}
	if len(versions) == 0 {
		return &NotFoundError{fmt.Sprintf("%s has no version yet", ref.Image), fmt.Sprintf("build it first: zygos build %s", ref.Image)}
	}
	known := []string{}
	for i, v := range versions {
		if i < 5 {
			known = append(known, v.Version)
		}
		known = append(known, v.Tags...)
	}
	do := "there are " + strings.Join(known, ", ")
	if guess := definition.Nearest(ref.Selector, known); guess != "" && !ref.IsVersion() {
		do = fmt.Sprintf("did you mean %s@%s?", ref.Image, guess)
	}
	return &NotFoundError{fmt.Sprintf("%s has no version or tag %q", ref.Image, ref.Selector), do}
}

// Builds lists builds, newest first; of all images if image is "".
func (c *Catalog) Builds(ctx context.Context, image string) ([]Build, error) {
	var w where
	w.is("image", image)
	rows, err := c.db.QueryContext(ctx, "SELECT id, image, version, base, state, who, started, ended, error, why FROM builds "+w.sql()+" ORDER BY started DESC, id DESC", w.args...)
	return collect(rows, err, func(rows *sql.Rows) (Build, error) {
		var b Build
		var started, ended string
		err := rows.Scan(&b.ID, &b.Image, &b.Version, &b.Base, &b.State, &b.Who, &started, &ended, &b.Error, &b.Why)
		b.Started, b.Ended = unstamp(started), unstamp(ended)
		return b, err
	})
}
