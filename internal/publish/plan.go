package publish

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/record"
	"zygos/internal/region"
)

// Plan says what Place would do, from what is recorded and a quick look at the regions.
func (p *Publication) Plan(ctx context.Context) (list []record.PlannedDelivery, err error) {
	held, err := p.Catalog.Placements(ctx, p.Version.Image, p.Version.Version, "")
	if err != nil {
		return nil, err
	}
	underway, err := p.Catalog.Underways(ctx, p.Version.Image, p.Version.Version, "")
	if err != nil {
		return nil, err
	}
	for _, r := range p.Regions {
		t, err := p.target(r)
		if err != nil {
			return nil, err
		}
		t.names = names(p.Version, t.Naming, slices.DeleteFunc(slices.Clone(held), func(pl catalog.Placement) bool {
			return pl.Region != r.Name
		}))
		before := len(list)
		for _, l := range p.lacks(t) {
			list = append(list, record.PlannedDelivery{Region: r.Name, Variant: l.Variant, Format: l.Format, Does: record.Captures,
				Why: "the region wants the format, and the version lacks it"})
		}
		for _, a := range p.Version.Artifacts {
			if t.Takes(a.Format) {
				list = append(list, p.planned(ctx, t, a, held, underway))
			}
		}
		if len(list) == before {
			list = append(list, record.PlannedDelivery{Region: r.Name, Does: record.Fails, Why: fmt.Sprintf("it takes none of the artifacts of %s",
				p.Version.Ref())})
		}
	}
	return list, ctx.Err()
}

// planned is what would be done with an artifact.
func (p *Publication) planned(ctx context.Context, t *target, a catalog.Artifact, held []catalog.Placement,
	underway []catalog.Underway) record.PlannedDelivery {
	one := record.PlannedDelivery{Region: t.Name, Variant: a.Variant, Name: a.Name, Format: a.Format, Bytes: a.Bytes, Does: record.Copies,
		Why: "it was not placed there yet"}
	if i := slices.IndexFunc(underway, func(u catalog.Underway) bool { return u.Region == t.Name && u.Key() == a.Key() }); i >= 0 {
		if one.Why = "it was not tried yet"; underway[i].State == region.Failed {
			one.Why = "it failed: " + underway[i].Why
		} else if underway[i].State != region.Waiting {
			one.Why = "it was begun and not ended, last on " + underway[i].Host
		}
	}
	if _, err := p.item(t, a); err != nil {
		one.Does, one.Why = record.Fails, err.Error()
		return one
	}
	i := slices.IndexFunc(held, func(pl catalog.Placement) bool {
		return pl.Region == t.Name && pl.Key() == a.Key() && pl.Artifact == a.Digest
	})
	if i < 0 {
		return one
	}
	size, got, err := t.at.Stat(ctx, held[i].Location)
	var differs []string
	if aligner, ok := t.at.(region.Aligner); ok && err == nil {
		differs, err = aligner.Align(ctx, held[i].Location, false)
	}
	switch {
	case errors.Is(err, region.ErrAbsent):
		one.Why = "it is not there any more: " + err.Error()
	case err != nil:
		one.Does, one.Why = record.Fails, err.Error()
	case size != a.Bytes || !got.IsZero() && got != a.Digest:
		one.Why = "what lies there is something else"
	case len(differs) > 0:
		one.Does, one.Why = record.Changes, strings.Join(differs, ", ")
	default:
		one.Does, one.Why = record.Verifies, "it is there, as "+held[i].ID
	}
	return one
}

// Remove takes a version out of regions: first no document names it any more, then its bytes go.
func (p *Publication) Remove(ctx context.Context) (list []record.Delivery, err error) {
	held, err := p.Catalog.Placements(ctx, p.Version.Image, p.Version.Version, "")
	if err != nil {
		return nil, err
	}
	held = slices.DeleteFunc(held, func(pl catalog.Placement) bool {
		return !slices.ContainsFunc(p.Regions, func(r *definition.Region) bool { return r.Name == pl.Region })
	})
	for _, pl := range held {
		if err := p.Catalog.Unplace(ctx, pl); err != nil {
			return nil, err
		}
	}
	err = errors.Join(WriteManifest(ctx, p.Session, p.Version, p.Regions), Refresh(ctx, p.Session, p.Version.Image, p.Regions...))
	if err != nil {
		for _, pl := range held { // a document may name it: it stays
			err = errors.Join(err, p.Catalog.Place(ctx, pl))
		}
		return nil, err
	}
	for _, pl := range held {
		done := record.Delivery{Region: pl.Region, Variant: pl.Variant, Name: pl.Name, Format: pl.Format, ID: pl.ID, Location: pl.Location}
		if err := RemoveCopy(ctx, p.Session, &pl); err != nil {
			done.Error = err.Error()
		}
		list = append(list, done)
	}
	return list, ctx.Err()
}
