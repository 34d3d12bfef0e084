package publish

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
)

// Planned is what a publication would do with an artifact in a region.
type Planned struct {
	Region  string `json:"region"`
	Variant string `json:"variant,omitempty"`
	Name    string `json:"name,omitempty"`
	Format  string `json:"format,omitempty"`
	Bytes   int64  `json:"bytes"`
	Does    string `json:"does"` // "copy", "verify", or "fail"
	Why     string `json:"why"`
}

// Key tells the artifact from the others of its version.
func (p *Planned) Key() artifact.Key {
	return artifact.Key{Variant: p.Variant, Name: p.Name, Format: p.Format}
}

// Plan says what Place would do, from what is recorded and a quick look at the regions.
func (p *Publication) Plan(ctx context.Context) (list []Planned, err error) {
	held, err := p.Catalog.Placements(ctx, p.Version.Image, p.Version.Version, "")
	if err != nil {
		return nil, err
	}
	for _, r := range p.Regions {
		at, err := kinds.Open(r, p.Path)
		if err != nil {
			return nil, err
		}
		before := len(list)
		for _, a := range p.Version.Artifacts {
			if !r.Takes(a.Format) {
				continue
			}
			one := Planned{Region: r.Name, Variant: a.Variant, Name: a.Name, Format: a.Format, Bytes: a.Bytes, Does: "copy",
				Why: "it was not placed there yet"}
			i := slices.IndexFunc(held, func(pl catalog.Placement) bool {
				return pl.Region == r.Name && pl.Key() == a.Key() && pl.Artifact == a.Digest
			})
			if i >= 0 {
				size, digest, err := at.Stat(ctx, held[i].Location)
				switch {
				case errors.Is(err, region.ErrAbsent):
					one.Why = "it is not there any more: " + err.Error()
				case err != nil:
					one.Does, one.Why = "fail", err.Error()
				case size != a.Bytes || digest != "" && digest != a.Digest:
					one.Why = "what lies there is something else"
				default:
					one.Does, one.Why = "verify", "it is there, as "+held[i].ID
				}
			}
			list = append(list, one)
		}
		if len(list) == before {
			list = append(list, Planned{Region: r.Name, Does: "fail", Why: fmt.Sprintf("it takes none of the artifacts of %s", p.Version.Ref())})
		}
	}
	return list, ctx.Err()
}

// Remove takes a version out of regions: first no document names it any more, then its bytes go.
func (p *Publication) Remove(ctx context.Context) (list []Placed, err error) {
	held, err := p.Catalog.Placements(ctx, p.Version.Image, p.Version.Version, "")
	if err != nil {
		return nil, err
	}
	held = slices.DeleteFunc(held, func(pl catalog.Placement) bool {
		return !slices.ContainsFunc(p.Regions, func(r *definition.Region) bool { return r.Name == pl.Region })
	})
	for _, pl := range held {
		if err := p.Catalog.Unplace(ctx, pl.ID); err != nil {
			return nil, err
		}
	}
	err = errors.Join(WriteManifest(ctx, p.State, p.Version, p.Regions), Refresh(ctx, p.State, p.Version.Image, p.Regions...))
	if err != nil {
		for _, pl := range held { // a document may name it: it stays
			err = errors.Join(err, p.Catalog.Place(ctx, pl))
		}
		return nil, err
	}
	for _, pl := range held {
		done := Placed{Region: pl.Region, Variant: pl.Variant, Name: pl.Name, Format: pl.Format, ID: pl.ID, Location: pl.Location}
		at, err := kinds.Open(p.Org.Region(pl.Region), p.Path)
		if err == nil {
			err = at.Remove(ctx, pl.Location)
		}
		if err != nil {
			done.Error = err.Error()
		}
		list = append(list, done)
	}
	return list, ctx.Err()
}
