// Package rescue makes a lost catalog anew from what else tells of versions: the records of the builds
// that made them, and the indexes of regions. What only the catalog knew (who moved a tag, builds that
// made nothing) does not come back.
package rescue

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/region"
	"zygos/internal/state"
)

// Result says what came back, and what could not be read.
type Result struct {
	Versions, Placements, Tags, Recalls int
	Skipped                             []string // in words
}

const by = "rebuilt" // who did what nobody remembers

// Rebuild fills an empty catalog from the records in a state's folder, and from the indexes of regions.
func Rebuild(ctx context.Context, into *catalog.Catalog, from state.Dir, regions map[string]region.Region) (*Result, error) {
	f := &Result{}
	records, err := f.records(ctx, from)
	if err != nil {
		return nil, err
	}
	id, err := f.identity(ctx, records, regions)
	if err == nil && id != "" {
		err = into.Become(ctx, id)
	}
	if err != nil {
		return nil, err
	}
	for _, r := range records {
		v := *r.Version
		v.BaseImage = r.Plan.Base.Image
		b := catalog.Build{ID: r.Build, Image: v.Image, Version: v.Version, Base: v.BaseName + "@" + v.BaseVersion, Who: by, Host: r.Host,
			Commit: r.Commit, Started: v.Created.Add(-r.Took), Why: r.Plan.Why}
		if err := into.StartBuild(ctx, b); err != nil {
			f.skip("the record of %s: %v", r.Build, err)
			continue
		}
		if err := into.Register(ctx, v); err != nil {
			f.skip("the record of %s: %v", r.Build, err)
			continue
		}
		f.Versions++
	}
	for _, name := range slices.Sorted(maps.Keys(regions)) {
		if o, err := publish.ReadOwner(ctx, regions[name]); err == nil && id != "" && o.Catalog != id {
			f.skip("the region %s belongs to the catalog %s, and this one is %s", name, o.Catalog, id)
			continue
		}
		if err := f.region(ctx, into, name, regions[name]); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// identity is that of the lost catalog, as the last record tells that does, or the regions; "" if nothing tells.
func (f *Result) identity(ctx context.Context, records []*record.Record, regions map[string]region.Region) (string, error) {
	for _, r := range slices.Backward(records) {
		if r.Catalog != "" {
			return r.Catalog, nil
		}
	}
	for _, name := range slices.Sorted(maps.Keys(regions)) {
		if o, err := publish.ReadOwner(ctx, regions[name]); err == nil {
			return o.Catalog, nil
		}
	}
	return "", ctx.Err()
}

func (f *Result) skip(form string, args ...any) {
	f.Skipped = append(f.Skipped, fmt.Sprintf(form, args...))
}

// records reads the records of builds that made a version, the oldest first. Only what was registered counts, and of several records
// of one number none does: nobody but the lost catalog knows which of them it was.
func (f *Result) records(ctx context.Context, from state.Dir) (list []*record.Record, err error) {
	dirs, err := os.ReadDir(from.Builds())
	if err != nil {
		return nil, err
	}
	same := map[string][]string{} // builds by reference
	for _, dir := range dirs {    // ids sort by time
		id := dir.Name()
		if record.Pending(from, id) {
			f.skip("build %s is not known to have been registered: its process ended before it heard so", id)
			continue
		}
		r, err := record.Read(from, id)
		switch {
		case errors.Is(err, fs.ErrNotExist): // it made no version
			continue
		case err != nil || r.Version == nil || r.Plan == nil || r.Build != id || r.Version.Build != id:
			f.skip("the record of %s cannot be read", id)
			continue
		}
		if err := r.Version.Check(); err != nil {
			f.skip("the record of %s: %v", id, err)
			continue
		}
		made, known := record.Made(ctx, from, id)
		if r.Schema != record.Schema && known && !made {
			f.skip("build %s was not registered: its log ends before that", id)
			continue
		}
		list = append(list, r)
		same[r.Version.Ref()] = append(same[r.Version.Ref()], id)
	}
	for _, ref := range slices.Sorted(maps.Keys(same)) {
		if len(same[ref]) > 1 {
			f.skip("%s has several records, of %s, and which of them was registered is not known: move the folders of all but that "+
				"one out of %s, and import again", ref, strings.Join(same[ref], " and "), from.Builds())
		}
	}
	return slices.DeleteFunc(list, func(r *record.Record) bool { return len(same[r.Version.Ref()]) > 1 }), nil
}

// region adds what a region's index tells: where artifacts are, tags, recalls.
func (f *Result) region(ctx context.Context, into *catalog.Catalog, name string, r region.Region) error {
	text, written, err := r.Read(ctx, region.IndexName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var versions []*manifest.Version
	said := ""
	if err == nil {
		take := func(v *manifest.Version) { versions = append(versions, v) }
		said, err = manifest.ReadIndex(ctx, bytes.NewReader(text), region.IndexName, take)
	}
	if err == nil && said != name {
		err = fmt.Errorf("it is that of a region called %s", said)
	}
	if err != nil {
		f.skip("the index of %s cannot be read: %v", name, err)
		return nil
	}
	for _, v := range versions {
		ref := v.Image + "@" + v.Version
		has, err := into.Has(ctx, v.Image, v.Version)
		if err != nil {
			return err
		}
		if !has {
			f.skip("%s is in %s, and no record tells what it is", ref, name)
			continue
		}
		own, err := into.Resolve(ctx, definition.Ref{Image: v.Image, Selector: v.Version})
		if err != nil {
			return err
		}
		for _, a := range v.Artifacts {
			if !slices.ContainsFunc(own.Artifacts, func(o catalog.Artifact) bool { return o.Digest == a.Digest && o.Format == a.Format }) {
				f.skip("%s in %s, %s, is no artifact of %s as its record has it", a.ID, name, a.Digest, ref)
				continue
			}
			if err := into.Place(ctx, catalog.Placement{ID: a.ID, Image: v.Image, Version: v.Version, Region: name, Variant: a.Variant,
				Name: a.Name, Format: a.Format, Artifact: a.Digest, Location: a.Location, Verified: written}); err != nil {
				return err
			}
			f.Placements++
		}
		if err := f.names(ctx, into, v); err != nil {
			return err
		}
	}
	return nil
}

// names gives a version back its tags and its recall.
func (f *Result) names(ctx context.Context, into *catalog.Catalog, v *manifest.Version) error {
	have, err := into.Tags(ctx)
	if err != nil {
		return err
	}
	ref := v.Image + "@" + v.Version
	for _, tag := range v.Tags {
		if slices.Contains(have[ref], tag) {
			continue
		}
		yes := func(context.Context, *catalog.Catalog, *catalog.Move) error { return nil }
		move := []catalog.Move{{Image: v.Image, Tag: tag, Version: v.Version, Who: by, Why: "rebuilt from the index of a region", At: into.Now()}}
		if err := into.MoveTags(ctx, move, yes); err != nil {
			f.skip("the tag %s of %s: %v", tag, ref, err)
			continue
		}
		f.Tags++
	}
	if v.Recall == nil {
		return nil
	}
	recalled, err := into.Recalled(ctx)
	if err != nil || recalled[ref] != nil {
		return err
	}
	since, err := time.Parse(time.RFC3339, v.Recall.Since)
	if err != nil {
		f.skip("the recall of %s: %v", ref, err)
		return nil
	}
	// Whether it was recalled itself or through an ancestor: from now on, itself.
	f.Recalls++
	return into.Recall(ctx, catalog.Recall{Image: v.Image, Version: v.Version, Why: v.Recall.Why, Who: by, At: into.Now(), Since: since})
}
