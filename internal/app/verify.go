package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/supply"
)

// VerifyRequest asks what is in regions.
type VerifyRequest struct {
	Ref     string   // "" for all versions
	Regions []string // none for all
	Deep    bool     // read the bytes
	Repair  bool     // place again what is missing or changed, and write the documents anew
}

// Verify compares catalog and documents with what is in regions.
func (a *Session) Verify(ctx context.Context, r VerifyRequest) (list []publish.Found, err error) {
	c := publish.Verification{Session: a.Session, Deep: r.Deep, Progress: a.Progress, RegionProgress: a.RegionProgress, Who: a.Who}
	if r.Ref != "" {
		if c.Version, err = a.ResolveAny(ctx, r.Ref); err != nil {
			return nil, err
		}
	}
	for i := range a.Org.Regions {
		if len(r.Regions) == 0 {
			c.Regions = append(c.Regions, &a.Org.Regions[i])
		}
	}
	for _, name := range r.Regions {
		found, err := a.Region(name)
		if err != nil {
			return nil, err
		}
		c.Regions = append(c.Regions, found)
	}
	if list, err = c.Find(ctx); err == nil && r.Repair {
		if err = a.Writable(); err == nil {
			err = c.Repair(ctx, list)
		}
	}
	return list, err
}

// VerifyIndex compares the index of a region, in a file or on a server, with what lies beside it, without workspace and catalog.
func VerifyIndex(ctx context.Context, index string, deep bool, tell supply.Tell) ([]publish.Found, error) {
	d := publish.Documented{Deep: deep, Progress: tell}
	return d.Index(ctx, index)
}

// CheckManifest compares a manifest in a file with its schema and with what is in the regions that it names, or in one of them.
func (a *Session) CheckManifest(ctx context.Context, file, only string) (*manifest.Manifest, []publish.Found, error) {
	m, err := publish.ReadManifest(file)
	if err != nil {
		return nil, nil, err
	}
	if only != "" {
		if _, err := a.Region(only); err != nil {
			return nil, nil, err
		}
		m.Only(only)
	}
	var list []publish.Found
	var known []*definition.Region
	for name, places := range m.Regions {
		if r := a.Org.Region(name); r != nil {
			known = append(known, r)
			continue
		}
		for _, pl := range places {
			list = append(list, publish.Found{Region: name, Image: m.Image, Version: m.Version, Variant: pl.Variant, Name: pl.Name, ID: pl.ID,
				Location: pl.Location, State: publish.Unreachable, What: "zygos.toml has no such region"})
		}
	}
	slices.SortFunc(known, func(a, b *definition.Region) int { return strings.Compare(a.Name, b.Name) })
	d := publish.Documented{}
	found, err := d.Manifest(ctx, a.Session, m, known)
	return m, append(list, found...), err
}

// FetchRequest asks for the bytes of one artifact of a version, from a region.
type FetchRequest struct {
	LocateRequest
	Out string // a file that is not there yet, or a folder
}

// Fetch writes an artifact from a region to a file, verified; what an earlier try brought is gone on with.
func (a *Session) Fetch(ctx context.Context, r FetchRequest) (*catalog.Version, *catalog.Placement, string, error) {
	v, pl, err := a.Locate(ctx, r.LocateRequest)
	if err != nil {
		return v, pl, "", err
	}
	at, err := a.Region(pl.Region)
	if err != nil {
		return v, pl, "", err
	}
	for _, f := range v.Artifacts {
		if f.Digest == pl.Artifact && f.Key() == pl.Key() {
			out, err := supply.Download(ctx, a.Session, supply.Transfer{Version: v, Region: at, Placement: pl, Bytes: f.Bytes, Out: r.Out},
				a.Progress)
			return v, pl, out, err
		}
	}
	return v, pl, "", fmt.Errorf("%s has no artifact %s any more", v.Ref(), pl.Key())
}
