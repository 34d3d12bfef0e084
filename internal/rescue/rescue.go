// Package rescue makes a lost catalog anew from what else tells of versions: the records of the builds
// that made them, and the indexes of regions. What only the catalog knew (who moved a tag, builds that
// made nothing) does not come back.
package rescue

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"time"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/region"
	"zygos/internal/state"
)

// Found says what came back, and what could not be read.
type Found struct {
	Versions, Placements, Tags, Recalls int
	Skipped                             []string // in words
}

const by = "rebuilt" // who did what nobody remembers

// Rebuild fills an empty catalog from the records in a state's folder, and from the indexes of regions.
func Rebuild(ctx context.Context, into *catalog.Catalog, from state.Dir, regions map[string]region.Region) (*Found, error) {
	f := &Found{}
	records, err := f.records(from)
	if err != nil {
		return nil, err
	}
	for _, r := range records {
		v := *r.Version
		b := catalog.Build{ID: r.Build, Image: v.Image, Version: v.Version, Base: v.BaseName + "@" + v.BaseVersion, Who: by, Host: r.Host,
			Commit: r.Commit, Started: v.Created.Add(-r.Took), Why: r.Plan.Why}
		if err := into.StartBuild(ctx, b); err != nil {
			f.skip("the record of %s: %v", r.Build, err)
			continue
		}
		if err := into.Register(ctx, v); err != nil {
			return nil, err
		}
		f.Versions++
	}
	for _, name := range slices.Sorted(maps.Keys(regions)) {
		if err := f.region(ctx, into, name, regions[name]); err != nil {
			return nil, err
		}
	}
	return f, nil
}

func (f *Found) skip(form string, args ...any) {
	f.Skipped = append(f.Skipped, fmt.Sprintf(form, args...))
}

// records reads the records of builds that made a version, the oldest first.
func (f *Found) records(from state.Dir) (list []*build.Record, err error) {
	dirs, err := os.ReadDir(from.Builds())
	if err != nil {
		return nil, err
	}
	for _, dir := range dirs { // ids sort by time
		r, err := build.ReadRecord(from, dir.Name())
		switch {
		case errors.Is(err, fs.ErrNotExist): // it made no version
		case err != nil || r.Version == nil || r.Plan == nil:
			f.skip("the record of %s cannot be read", dir.Name())
		default:
			list = append(list, r)
		}
	}
	return list, nil
}

// region adds what a region's index tells: where artifacts are, tags, recalls.
func (f *Found) region(ctx context.Context, into *catalog.Catalog, name string, r region.Region) error {
	text, written, err := r.Read(ctx, publish.IndexName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var x manifest.Index
	if err == nil {
		err = json.Unmarshal(text, &x)
	}
	if err != nil {
		f.skip("the index of %s cannot be read: %v", name, err)
		return nil
	}
	for _, v := range x.Versions {
		ref := v.Image + "@" + v.Version
		known, err := into.Has(ctx, v.Image, v.Version)
		if err != nil {
			return err
		}
		if !known {
			f.skip("%s is in %s, and no record tells what it is", ref, x.Region)
			continue
		}
		for _, a := range v.Artifacts {
			if err := into.Place(ctx, catalog.Placement{ID: a.ID, Image: v.Image, Version: v.Version, Region: x.Region, Variant: a.Variant,
				Name: a.Name, Format: a.Format,
				Artifact: a.Digest, Location: a.Location, Verified: written}); err != nil {
				return err
			}
			f.Placements++
		}
		if err := f.names(ctx, into, &v); err != nil {
			return err
		}
	}
	return nil
}

// names gives a version back its tags and its recall.
func (f *Found) names(ctx context.Context, into *catalog.Catalog, v *manifest.Version) error {
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
		move := []catalog.Move{{Image: v.Image, Tag: tag, Version: v.Version, Who: by, Why: "rebuilt from the index of a region", At: time.Now()}}
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
	return into.Recall(ctx, catalog.Recall{Image: v.Image, Version: v.Version, Why: v.Recall.Why, Who: by, At: time.Now(), Since: since})
}
