package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Candidates lists all versions, by image, newest first, with what decides whether they may go: without
// labels, layers, regions and the names of artifacts.
func (c *Catalog) Candidates(ctx context.Context) ([]Version, error) {
	recalled, err := c.Recalled(ctx)
	if err != nil {
		return nil, err
	}
	texts := map[string]string{}
	once := func(text string) string { // most come very often
		if have, ok := texts[text]; ok {
			return have
		}
		texts[text] = text
		return text
	}
	rows, err := c.rows(ctx, `SELECT image, version, created, base_name, base_version, leaving, `+c.ownBase()+` FROM versions v
		ORDER BY image, major DESC, minor DESC, patch DESC`)
	list, err := collect(rows, err, func(rows row) (v Version, err error) {
		var created string
		err = rows.Scan(&v.Image, &v.Version, &created, &v.BaseName, &v.BaseVersion, &v.Leaving, &v.BaseImage)
		v.Image, v.Version, v.BaseName, v.BaseVersion = once(v.Image), once(v.Version), once(v.BaseName), once(v.BaseVersion)
		v.Created = unstamp(created)
		return v, err
	})
	if err != nil {
		return nil, err
	}
	at := make(map[[2]string]*Version, len(list))
	for i := range list {
		v := &list[i]
		at[[2]string{v.Image, v.Version}] = v
		if len(recalled) > 0 {
			v.Recall = recalled[v.Ref()]
		}
	}
	var a Artifact
	return list, errors.Join(
		c.part(ctx, at, "image, version, digest, bytes FROM artifacts", []any{&a.Digest, &a.Bytes},
			func(v *Version) { v.Artifacts = append(v.Artifacts, a) }),
		c.part(ctx, at, "image, version, tag FROM tags ORDER BY tag", []any{&a.Name}, func(v *Version) { v.Tags = append(v.Tags, a.Name) }))
}

// Whole reads all of versions of which a part is known; those that are gone are left out.
func (c *Catalog) Whole(ctx context.Context, known []Version) (list []Version, err error) {
	for some := range slices.Chunk(known, group/2) {
		var args []any
		for i := range some {
			args = append(args, some[i].Image, some[i].Version)
		}
		more, err := c.versions(ctx, "WHERE (v.image, v.version) IN (VALUES (?, ?)"+strings.Repeat(", (?, ?)", len(some)-1)+")", args...)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	return list, nil
}

// Held says that a region holds something of a version.
type Held struct{ Region, Image, Version string }

// Held lists what versions regions hold.
func (c *Catalog) Held(ctx context.Context) ([]Held, error) {
	rows, err := c.rows(ctx, "SELECT region, image, version FROM placements")
	var last Held
	return collect(rows, err, func(rows row) (h Held, err error) {
		if err = rows.Scan(&h.Region, &h.Image, &h.Version); h.Region == last.Region {
			h.Region = last.Region // one text for many
		}
		if h.Image == last.Image {
			h.Image = last.Image
		}
		last = h
		return h, err
	})
}

// Leave marks versions that are to be removed, so that nothing comes to need them while that goes on,
// and returns those that may go: children before what they were built on. A version that somebody
// came to need since it was judged stays, with all that it was built on. alive says whether a build that
// is called running does.
func (c *Catalog) Leave(ctx context.Context, versions []Version, alive func(*Build) bool) (goes []Version, err error) {
	running, err := c.Running(ctx)
	if err != nil {
		return nil, err
	}
	dead := map[string]bool{}
	for i := range running {
		dead[running[i].ID] = !alive(&running[i])
	}
	list := childrenFirst(versions)
	err = c.asOne(ctx, func(tx session) error {
		goes = nil
		leaves := map[string]bool{}
		for i := range list {
			v := &list[i]
			needed, err := tx.needed(ctx, v, func(ref string) bool { return leaves[ref] || dead[ref] })
			if err != nil {
				return err
			}
			if needed {
				continue
			}
			n, err := tx.exec(ctx, "UPDATE versions SET leaving = 1 WHERE image = ? AND version = ?", v.Image, v.Version)
			if err != nil {
				return err
			}
			if leaves[v.Ref()] = true; n > 0 { // else another process was faster
				goes = append(goes, *v)
			}
		}
		return nil
	})
	return goes, err
}

// needed says whether a tag points at a version, or a build or another version is built on it that does
// not go itself.
func (s session) needed(ctx context.Context, v *Version, goes func(name string) bool) (needed bool, err error) {
	rows, err := s.rows(ctx, `SELECT 'tag ' || tag FROM tags WHERE image = ? AND version = ?
		UNION SELECT id FROM builds WHERE state = ? AND base = ?
		UNION SELECT image || '@' || version FROM versions v WHERE base_name = ? AND base_version = ? AND `+s.ownBase()+` = 1`,
		v.Image, v.Version, Running, v.Ref(), v.Image, v.Version)
	err = each(rows, err, func(rows row) error {
		var name string
		err := rows.Scan(&name)
		needed = needed || !goes(name)
		return err
	})
	return needed, err
}

// childrenFirst sorts versions so that each comes before what it was built on.
func childrenFirst(versions []Version) []Version {
	at := map[string]*Version{}
	for i := range versions {
		at[versions[i].Ref()] = &versions[i]
	}
	depth := map[string]int{}
	deep := func(v *Version) (n int) {
		for p := v; p != nil && n <= len(versions); p = at[p.BaseName+"@"+p.BaseVersion] {
			n++
		}
		return n
	}
	for i := range versions {
		depth[versions[i].Ref()] = deep(&versions[i])
	}
	list := slices.Clone(versions)
	slices.SortStableFunc(list, func(a, b Version) int { return depth[b.Ref()] - depth[a.Ref()] })
	return list
}

// Forget removes a version's rows: its placements, recalls and artifacts with it. Its build stays in
// the history, as do the moves of tags. A version that something is built on, or that a tag points
// at, stays with an error.
func (c *Catalog) Forget(ctx context.Context, image, version string) error {
	return c.asOne(ctx, func(tx session) error {
		var user string
		err := tx.row(ctx, "SELECT 'build ' || id FROM builds WHERE state = ? AND base = ? UNION SELECT image || '@' || version FROM "+
			"versions v WHERE base_name = ? AND base_version = ? AND "+tx.ownBase()+" = 1 LIMIT 1",
			Running, image+"@"+version, image, version).Scan(&user)
		if err == nil {
			return fmt.Errorf("%s@%s cannot go: %s is built on it", image, version, user)
		} else if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		for _, table := range []string{"underway", "judgements", "placements", "recalls", "labels", "artifacts", "versions"} {
			if _, err := tx.exec(ctx, "DELETE FROM "+table+" WHERE image = ? AND version = ?", image, version); err != nil {
				return fmt.Errorf("forget %s@%s: %w", image, version, err)
			}
		}
		return nil
	})
}
