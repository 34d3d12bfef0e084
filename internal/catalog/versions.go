package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// Version is an immutable version of an image.
type Version struct {
	Image       string            `json:"image"`
	Version     string            `json:"version"`
	Build       string            `json:"build"`
	Created     time.Time         `json:"created"`
	BaseName    string            `json:"base_name"`
	BaseVersion string            `json:"base_version"`
	BaseDigest  string            `json:"base_digest"`
	BaseImage   bool              `json:"base_image,omitempty"` // its base is a version of this catalog
	Fingerprint string            `json:"fingerprint"`          // of everything that went into it
	Epoch       int64             `json:"epoch"`                // what the clock of its stages came to; seconds since 1970
	Trees       []Tree            `json:"trees"`                // one for each variant
	Labels      map[string]string `json:"labels"`
	Artifacts   []Artifact        `json:"artifacts"`
	Tags        []string          `json:"tags"`
	Regions     []string          `json:"regions"`           // that hold it
	Recall      *Recall           `json:"recall,omitempty"`  // in force or planned, its own or an ancestor's
	Leaving     bool              `json:"leaving,omitempty"` // prune has begun to remove it
	Judged      *Judgement        `json:"judged,omitempty"`  // last; nil for never
}

// Tree is what a variant of a version consists of.
type Tree struct {
	Variant  string            `json:"variant,omitempty"`  // "" for an image of one shape
	Layers   []string          `json:"layers"`             // digests, lowest first
	Labels   map[string]string `json:"labels,omitempty"`   // the variant's own
	Files    int               `json:"files,omitempty"`    // names in it
	Bytes    int64             `json:"bytes,omitempty"`    // of its files
	Packages int               `json:"packages,omitempty"` // that its package databases speak of
}

// Artifact is a file captured from a build.
type Artifact struct {
	Variant string        `json:"variant,omitempty"`
	Name    string        `json:"name"` // the format's, unless the definition gives another
	Format  string        `json:"format"`
	Digest  digest.Digest `json:"digest"`
	Bytes   int64         `json:"bytes"`
}

// Key tells the artifact from the others of its version.
func (a *Artifact) Key() artifact.Key {
	return artifact.Key{Variant: a.Variant, Name: a.Name, Format: a.Format}
}

// Keys are those of the version's artifacts.
func (v *Version) Keys() []artifact.Key {
	keys := make([]artifact.Key, len(v.Artifacts))
	for i := range v.Artifacts {
		keys[i] = v.Artifacts[i].Key()
	}
	return keys
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

// NotFoundError says that a reference means nothing here.
type NotFoundError struct{ What, Do string }

func (e *NotFoundError) Error() string { return e.What + "; " + e.Do }

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
	return c.asOne(ctx, func(tx session) error {
		var other string
		err := tx.row(ctx, "SELECT id FROM builds WHERE image = ? AND version = ? AND state = ? AND id <> ?", v.Image, v.Version, Running,
			v.Build).Scan(&other)
		if err == nil { // it was given the number while nothing was heard of this one
			return tx.taken(ctx, &v, number, other)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		err = tx.row(ctx, "SELECT build FROM versions WHERE image = ? AND version = ?", v.Image, v.Version).Scan(&other)
		switch {
		case err == nil && other == v.Build:
			return fmt.Errorf("register %s: its build did so already", v.Ref())
		case err == nil:
			return tx.taken(ctx, &v, number, other)
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		if _, err := tx.exec(ctx, `INSERT INTO versions (image, version, major, minor, patch, build, created,
			base_name, base_version, base_digest, fingerprint, epoch, trees, labels) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			v.Image, v.Version, number.Major, number.Minor, number.Patch, v.Build, stamp(v.Created),
			v.BaseName, v.BaseVersion, v.BaseDigest, v.Fingerprint, v.Epoch, string(trees), string(labels)); err != nil {
			return fmt.Errorf("register %s: %w", v.Ref(), err)
		}
		if v.BaseImage && tx.schema.Load() >= withBases {
			if _, err := tx.exec(ctx, "UPDATE versions SET base_image = 1 WHERE image = ? AND version = ?", v.Image, v.Version); err != nil {
				return err
			}
		}
		for _, a := range v.Artifacts {
			if err := a.add(ctx, tx, v.Image, v.Version); err != nil {
				return err
			}
		}
		for key, value := range v.Labels {
			if _, err := tx.exec(ctx, "INSERT INTO labels (image, version, key, value) VALUES (?, ?, ?, ?)", v.Image, v.Version, key,
				value); err != nil {
				return err
			}
		}
		if v.Judged != nil {
			if err := v.Judged.add(ctx, tx); err != nil {
				return err
			}
		}
		_, err = tx.exec(ctx, "UPDATE builds SET state = ?, error = '', ended = ? WHERE id = ?", Registered, stamp(v.Created), v.Build)
		return err
	})
}

// AddArtifact records one more artifact of a version, which must be there and neither recalled nor leaving.
func (c *Catalog) AddArtifact(ctx context.Context, image, version string, a Artifact) error {
	return c.asOne(ctx, func(tx session) error {
		if err := mayBeNamed(ctx, tx, image, version); err != nil {
			return err
		}
		var had int
		name := cmp.Or(a.Name, a.Format)
		if err := tx.row(ctx, "SELECT count(*) FROM artifacts WHERE image = ? AND version = ? AND variant = ? AND name = ?", image, version,
			a.Variant, name).Scan(&had); err != nil {
			return err
		}
		if had > 0 {
			return fmt.Errorf("%s@%s has an artifact %q already, which somebody else captured just now; give this one another name with --name",
				image, version, name)
		}
		return a.add(ctx, tx, image, version)
	})
}

func (a Artifact) add(ctx context.Context, tx session, image, version string) error {
	_, err := tx.exec(ctx, "INSERT INTO artifacts (image, version, variant, name, format, digest, bytes) VALUES (?, ?, ?, ?, ?, ?, ?)",
		image, version, a.Variant, cmp.Or(a.Name, a.Format), a.Format, a.Digest, a.Bytes)
	if err == nil {
		_, err = tx.exec(ctx, "UPDATE versions SET bytes = bytes + ? WHERE image = ? AND version = ?", a.Bytes, image, version)
	}
	return err
}

// Has says whether a version is there.
func (c *Catalog) Has(ctx context.Context, image, version string) (has bool, err error) {
	err = c.row(ctx, "SELECT count(*) > 0 FROM versions WHERE image = ? AND version = ?", image, version).Scan(&has)
	return has, err
}

// Refs is the references of all versions.
func (c *Catalog) Refs(ctx context.Context) (map[string]bool, error) {
	return c.refs(ctx, "SELECT image || '@' || version FROM versions")
}

func (c *Catalog) refs(ctx context.Context, query string) (map[string]bool, error) {
	refs := map[string]bool{}
	rows, err := c.rows(ctx, query)
	return refs, each(rows, err, func(rows row) error {
		var ref string
		err := rows.Scan(&ref)
		refs[ref] = true
		return err
	})
}

// Digests tells of each artifact of every version, by reference.
func (c *Catalog) Digests(ctx context.Context, take func(ref string, d digest.Digest)) error {
	rows, err := c.rows(ctx, "SELECT image || '@' || version, digest FROM artifacts")
	return each(rows, err, func(rows row) error {
		var ref string
		var d digest.Digest
		err := rows.Scan(&ref, &d)
		take(ref, d)
		return err
	})
}

// Trees tells of the trees of every version, by reference.
func (c *Catalog) Trees(ctx context.Context, take func(ref string, trees []Tree)) error {
	rows, err := c.rows(ctx, "SELECT image || '@' || version, trees FROM versions")
	return each(rows, err, func(rows row) error {
		var ref, text string
		var trees []Tree
		err := rows.Scan(&ref, &text)
		if err == nil {
			err = json.Unmarshal([]byte(text), &trees)
		}
		take(ref, trees)
		return err
	})
}

const versionColumns = `SELECT v.image, v.version, v.build, v.created, v.base_name, v.base_version, v.base_digest, v.fingerprint,
	v.epoch, v.trees, v.labels, v.leaving, `

// withBases is the schema from which versions say whether their base is one of this catalog.
const withBases = 12

// ownBase is a column that says whether the base of a version is one of this catalog.
func (s session) ownBase() string {
	if s.schema.Load() >= withBases {
		return "v.base_image"
	}
	return `(CASE WHEN EXISTS (SELECT 1 FROM versions p WHERE p.image = v.base_name AND p.version = v.base_version AND p.created <= v.created)
		THEN 1 ELSE 0 END)` // as the migration tells it
}

// scan reads a version, without what belongs to it.
func (v *Version) scan(rows row) error {
	var created, trees, labels string
	err := rows.Scan(&v.Image, &v.Version, &v.Build, &created, &v.BaseName, &v.BaseVersion, &v.BaseDigest, &v.Fingerprint, &v.Epoch,
		&trees, &labels, &v.Leaving, &v.BaseImage)
	v.Created, v.Artifacts, v.Regions, v.Tags = unstamp(created), []Artifact{}, []string{}, []string{}
	return errors.Join(err, json.Unmarshal([]byte(trees), &v.Trees), json.Unmarshal([]byte(labels), &v.Labels))
}

// Versions lists the versions of an image, newest first; of all images, by name, if image is "".
func (c *Catalog) Versions(ctx context.Context, image string) ([]Version, error) {
	const order = "ORDER BY v.image, v.major DESC, v.minor DESC, v.patch DESC"
	if image == "" {
		return c.versions(ctx, order)
	}
	return c.versions(ctx, "WHERE v.image = ? "+order, image)
}

// group is how many values a query is given at once; every database takes as many.
const group = 500

// complete reads what belongs to versions: for some by their names, for very many all there is.
func (c *Catalog) complete(ctx context.Context, list []Version) error {
	recalled, err := c.Recalled(ctx)
	if err != nil {
		return err
	}
	at := make(map[[2]string]*Version, len(list))
	for i := range list {
		at[[2]string{list[i].Image, list[i].Version}] = &list[i]
		list[i].Recall = recalled[list[i].Ref()]
	}
	if len(list) > 20*group {
		return c.parts(ctx, at, "")
	}
	for some := range slices.Chunk(list, group/2) { // two values each
		var args []any
		for i := range some {
			args = append(args, some[i].Image, some[i].Version)
		}
		if err := c.parts(ctx, at, " WHERE (image, version) IN (VALUES (?, ?)"+strings.Repeat(", (?, ?)", len(some)-1)+")", args...); err != nil {
			return err
		}
	}
	return nil
}

// parts reads artifacts, tags and regions into versions, by image and number; where limits it.
func (c *Catalog) parts(ctx context.Context, into map[[2]string]*Version, where string, args ...any) error {
	var a Artifact
	var j Judgement
	var word string
	soon := c.Now().Add(Skew)
	return errors.Join(
		c.part(ctx, into, "image, version, variant, name, format, digest, bytes FROM artifacts"+where+" ORDER BY image, version, variant, name",
			[]any{&a.Variant, &a.Name, &a.Format, &a.Digest, &a.Bytes}, func(v *Version) { v.Artifacts = append(v.Artifacts, a) }, args...),
		c.part(ctx, into, "image, version, tag FROM tags"+where+" ORDER BY tag",
			[]any{&word}, func(v *Version) { v.Tags = append(v.Tags, word) }, args...),
		c.part(ctx, into, "DISTINCT image, version, region FROM placements"+where+" ORDER BY image, version, region",
			[]any{&word}, func(v *Version) { v.Regions = append(v.Regions, word) }, args...),
		c.part(ctx, into, "image, version, at, who, host, how, passed, failed, warned, skipped, digest FROM (SELECT * FROM judgements"+
			" WHERE how <> 'repeat') j"+where+" ORDER BY image, version, at",
			[]any{&word, &j.Who, &j.Host, &j.How, &j.Passed, &j.Failed, &j.Warned, &j.Skipped, &j.Digest},
			func(v *Version) {
				last := j
				last.Image, last.Version, last.At = v.Image, v.Version, unstamp(word)
				if v.Judged == nil || !last.At.After(soon) { // one from the future, by a wrong clock, is last only if it is the only one
					v.Judged = &last
				}
			}, args...))
}

// part reads rows that begin with image and number of a version; columns takes what follows in each.
func (c *Catalog) part(ctx context.Context, into map[[2]string]*Version, query string, columns []any, take func(*Version),
	args ...any) error {
	rows, err := c.rows(ctx, "SELECT "+query, args...)
	var key [2]string
	columns = append([]any{&key[0], &key[1]}, columns...)
	return each(rows, err, func(rows row) error {
		err := rows.Scan(columns...)
		if v := into[key]; v != nil { // else registered just now, or not asked for
			take(v)
		}
		return err
	})
}

// Query says which versions to list; what is not set does not matter.
type Query struct {
	Image, Tag, Region string
	Base               string // NAME or NAME@VERSION
	Labels             map[string]string
	Youngest           time.Duration // registered less than so long ago
	State              string        // "usable", "recalled" or "planned"
	Sort               string        // "age", youngest first, or "size", largest first; "" for by image, newest first
	Skip               int           // so many; only with Most
	Most               int           // at most so many; 0 for all
}

// Everything says whether the query leaves out no version of its image, or of all.
func (q *Query) Everything() bool {
	return q.Tag == "" && q.Region == "" && q.Base == "" && len(q.Labels) == 0 && q.Youngest == 0 && q.State == ""
}

// List lists versions, and says whether there are more.
func (c *Catalog) List(ctx context.Context, q Query) (list []Version, more bool, err error) {
	w := q.where(c)
	end := " ORDER BY " + map[string]string{"age": "v.created DESC, ", "size": "v.bytes DESC, "}[q.Sort] +
		"v.image, v.major DESC, v.minor DESC, v.patch DESC"
	if q.Most > 0 {
		end += fmt.Sprintf(" LIMIT %d OFFSET %d", q.Most+1, q.Skip)
	}
	if list, err = c.versions(ctx, w.sql()+end, w.args...); q.Most > 0 && len(list) > q.Most {
		return list[:q.Most], true, err
	}
	return list, false, err
}

// Count is how many versions a query would list, were it not for Skip and Most.
func (c *Catalog) Count(ctx context.Context, q Query) (n int, err error) {
	w := q.where(c)
	err = c.row(ctx, "SELECT count(*) FROM versions v "+w.sql(), w.args...).Scan(&n)
	return n, err
}

func (q *Query) where(c *Catalog) (w where) {
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
	if q.Youngest > 0 {
		w.add("v.created > ?", stamp(c.Now().Add(-q.Youngest)))
	}
	recalled := "(" + c.hits() + "SELECT h.image, h.version FROM hit h JOIN recalls r ON r.number = h.number WHERE r.since <= ?)"
	switch now := stamp(c.Now()); q.State {
	case "usable":
		w.add("(v.image, v.version) NOT IN "+recalled, now)
	case "recalled":
		w.add("(v.image, v.version) IN "+recalled, now)
	case "planned":
		w.add("(v.image, v.version) IN (" + c.hits() + "SELECT image, version FROM hit)")
		w.add("(v.image, v.version) NOT IN "+recalled, now)
	}
	return w
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
	rows, err := c.rows(ctx, versionColumns+c.ownBase()+" FROM versions v "+where, args...)
	list, err := collect(rows, err, func(rows row) (v Version, err error) { return v, v.scan(rows) })
	if err == nil && len(list) > 0 {
		err = c.complete(ctx, list)
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
