package app

import (
	"context"
	"fmt"

	"zygos/internal/catalog"
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
func (a *App) Verify(ctx context.Context, r VerifyRequest) (list []publish.Found, err error) {
	c := publish.Verification{State: a.State, Deep: r.Deep, Progress: a.Progress, There: a.There}
	if r.Ref != "" {
		if c.Version, err = a.Look(ctx, r.Ref); err != nil {
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

// FetchRequest asks for the bytes of one artifact of a version, from a region.
type FetchRequest struct {
	LocateRequest
	Out string // a file that is not there yet, or a folder
}

// Fetch writes an artifact from a region to a file, verified; what an earlier try brought is gone on with.
func (a *App) Fetch(ctx context.Context, r FetchRequest) (*catalog.Version, *catalog.Placement, string, error) {
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
			out, err := supply.Download(ctx, a.State, v, at, pl, f.Bytes, r.Out, a.Progress)
			return v, pl, out, err
		}
	}
	return v, pl, "", fmt.Errorf("%s has no artifact %s any more", v.Ref(), pl.Key())
}
