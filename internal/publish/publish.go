// Package publish places artifacts in regions, and writes the documents that tell what belongs there.
package publish

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/state"
	"zygos/internal/supply"
)

// IncompleteError says that some regions did not get what they should.
type IncompleteError struct{ Text string }

func (e *IncompleteError) Error() string { return e.Text }

// Incomplete is an *IncompleteError that says which regions did not get a version, and why; nil if all did.
func Incomplete(v *catalog.Version, done []Placed) error {
	var failed, why []string
	whole := false
	for _, d := range done {
		if d.Error == "" {
			whole = true
			continue
		}
		if !slices.Contains(failed, d.Region) {
			failed = append(failed, d.Region)
		}
		why = append(why, fmt.Sprintf("  %s %s: %s", d.Region, d.Key().String(), d.Error))
	}
	if len(failed) == 0 {
		return nil
	}
	rest := ""
	if whole {
		rest = "; what else was placed stays, and the manifest names only what was verified"
	}
	return &IncompleteError{fmt.Sprintf("%s is not complete in %s%s\n%s\nRun the command again once the cause is mended; what is there is "+
		"not copied again. An artifact that is missing or damaged in the store is made anew by 'zygos build %s --force'",
		v.Ref(), strings.Join(failed, ", "), rest, strings.Join(why, "\n"), v.Image)}
}

// Placed is what happened to one artifact in one region.
type Placed struct {
	Region   string        `json:"region"`
	Variant  string        `json:"variant,omitempty"`
	Name     string        `json:"name,omitempty"`
	Format   string        `json:"format,omitempty"`
	ID       string        `json:"id,omitempty"`
	Location string        `json:"location,omitempty"`
	Copied   bool          `json:"copied"`
	Bytes    int64         `json:"bytes,omitempty"`
	Took     time.Duration `json:"took_ns"`
	Error    string        `json:"error,omitempty"`
}

// Key tells the artifact from the others of its version.
func (p *Placed) Key() artifact.Key {
	return artifact.Key{Variant: p.Variant, Name: p.Name, Format: p.Format}
}

// Regions lists the regions a version goes to: those named, or those of its image.
func Regions(s *state.State, v *catalog.Version, names []string) ([]*definition.Region, error) {
	if len(names) == 0 {
		img, err := s.Image(v.Image)
		if err != nil {
			return nil, err
		}
		if names = img.Regions; len(names) == 0 {
			return nil, fmt.Errorf("%s names no regions; add [publish] regions = […], or name one with --region", img.File)
		}
	}
	var list []*definition.Region
	for _, name := range names {
		r, err := s.Region(name)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, nil
}

// Publication places a version.
type Publication struct {
	*state.State
	Version *catalog.Version
	Regions []*definition.Region
	// Progress is told what is fetched, There how many bytes of how many are in a region, Each what happened to an artifact.
	Progress supply.Tell
	There    func(region, doing string, done, total int64)
	Each     func(Placed)
}

// mostAtOnce is how many regions are served at once.
const mostAtOnce = 4

// Place brings the artifacts to all regions at once. An error of one is in what happened there.
func (p *Publication) Place(ctx context.Context) []Placed {
	var mu sync.Mutex
	var list []Placed
	var group errgroup.Group
	group.SetLimit(mostAtOnce)
	for _, r := range p.Regions {
		group.Go(func() error {
			for _, result := range p.placeIn(ctx, r) {
				mu.Lock()
				list = append(list, result)
				mu.Unlock()
				p.Each(result)
			}
			return nil
		})
	}
	_ = group.Wait() // errors are in the results
	slices.SortFunc(list, func(a, b Placed) int {
		return strings.Compare(a.Region+" "+a.Key().String(), b.Region+" "+b.Key().String())
	})
	return list
}

// placeIn places the artifacts in one region.
func (p *Publication) placeIn(ctx context.Context, r *definition.Region) []Placed {
	v := p.Version
	var list []Placed
	var done atomic.Int64
	total := int64(0)
	for _, a := range v.Artifacts {
		if r.Takes(a.Format) {
			total += a.Bytes
		}
	}
	told := func(n int64) { p.There(r.Name, v.Ref(), min(done.Add(n), total), total) }
	defer func() { p.There(r.Name, v.Ref(), total, total) }()
	target, err := kinds.Open(r, p.Path)
	if err != nil {
		return []Placed{{Region: r.Name, Error: err.Error()}}
	}
	for _, a := range v.Artifacts {
		if !r.Takes(a.Format) {
			continue
		}
		began := time.Now()
		result := Placed{Region: r.Name, Variant: a.Variant, Name: a.Name, Format: a.Format, Bytes: a.Bytes}
		item := region.Item{Organisation: p.Org.Name, Image: v.Image, Version: v.Version, Key: a.Key(), Digest: a.Digest, Bytes: a.Bytes,
			Labels: labels(v, a.Variant),
			Source: func(ctx context.Context) (string, error) { return supply.Artifact(ctx, p.State, v, a, p.Progress) }}
		var err error
		item.File, err = a.Key().File(v.Image, v.Version)
		var placed region.Placed
		if err == nil {
			placed, err = place(ctx, target, item, told)
		}
		if errors.Is(err, region.ErrAbsent) && ctx.Err() == nil {
			// What an earlier publication placed is not there as it was; no manifest names it from now on.
			err = errors.Join(err, p.Catalog.Unplace(ctx, target.ID(item)))
		} else if err == nil {
			err = p.Catalog.Place(ctx, catalog.Placement{ID: placed.ID, Image: v.Image, Version: v.Version, Region: r.Name, Variant: a.Variant,
				Name: a.Name, Format: a.Format,
				Artifact: a.Digest, Location: placed.Location, Verified: time.Now()})
			if leaves(err) { // prune began meanwhile, and does not know of this copy
				err = errors.Join(err, target.Remove(ctx, placed.Location))
			}
		}
		result.ID, result.Location, result.Copied, result.Took = placed.ID, placed.Location, placed.Copied, time.Since(began)
		if err != nil {
			result.ID, result.Location, result.Error = "", "", err.Error()
		}
		list = append(list, result)
	}
	if len(list) == 0 {
		list = append(list, Placed{Region: r.Name,
			Error: fmt.Sprintf("takes only %s, and %s has no such artifact", strings.Join(r.Formats, ", "), v.Ref())})
	}
	return list
}

// labels are a version's, with its variant's own.
func labels(v *catalog.Version, variant string) map[string]string {
	list := maps.Clone(v.Labels)
	if tree := v.Tree(variant); tree != nil && len(tree.Labels) > 0 {
		if list == nil {
			list = map[string]string{}
		}
		maps.Copy(list, tree.Labels)
	}
	return list
}

// leaves says whether a version is refused since prune removes it, or has.
func leaves(err error) bool {
	var leaving *catalog.LeavingError
	var gone *catalog.NotFoundError
	return errors.As(err, &leaving) || errors.As(err, &gone)
}

// tries is how often an item is placed before a region that may yet take it is given up.
const tries = 4

// place brings an item to a region, again where that may help.
func place(ctx context.Context, to region.Region, item region.Item, told func(int64)) (region.Placed, error) {
	return region.Retry(ctx, tries, func() (region.Placed, error) { return to.Place(ctx, item, told) })
}
