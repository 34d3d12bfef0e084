package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/publish"
	"zygos/internal/state"
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
	c := publish.Verification{State: a.State, Deep: r.Deep, Progress: a.Progress}
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
		found, err := a.region(name)
		if err != nil {
			return nil, err
		}
		c.Regions = append(c.Regions, found)
	}
	if list, err = c.Find(ctx); err == nil && r.Repair {
		if err = a.Writable(); err == nil {
			err = a.repair(ctx, list)
		}
	}
	return list, err
}

func (a *App) region(name string) (*definition.Region, error) {
	if r := a.Org.Region(name); r != nil {
		return r, nil
	}
	return nil, state.Ask("region %q is not in zygos.toml; regions are %s", name, strings.Join(a.Org.RegionNames(), ", "))
}

// repair places again what a region lacks, and writes what is outdated; what became of it is noted in the list.
func (a *App) repair(ctx context.Context, list []publish.Found) error {
	var failed error
	done := map[string]bool{} // versions
	for i := range list {
		f := &list[i]
		if f.Image == "" || done[f.Ref()] || (f.State != publish.Missing && f.State != publish.Changed && f.State != publish.Outdated) {
			continue
		}
		done[f.Ref()] = true
		v, err := a.Catalog.Resolve(ctx, definition.Ref{Image: f.Image, Selector: f.Version})
		if err != nil {
			return err
		}
		var regions []*definition.Region // in which something is wrong with this version
		placed := map[string]publish.Placed{}
		for j := range list {
			if g := &list[j]; g.Ref() == f.Ref() && (g.State == publish.Missing || g.State == publish.Changed || g.State == publish.Outdated) {
				if r := a.Org.Region(g.Region); !slices.Contains(regions, r) {
					regions = append(regions, r)
				}
			}
		}
		p := publish.Publication{State: a.State, Version: v, Regions: regions, Progress: a.Progress, There: a.There,
			Each: func(d publish.Placed) { placed[d.Region+" "+d.Key().String()] = d }}
		p.Place(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		err = errors.Join(publish.WriteManifest(ctx, a.State, v, regions), publish.Refresh(ctx, a.State, v.Image, regions...))
		failed = errors.Join(failed, err)
		for j := range list {
			g := &list[j]
			switch d, ok := placed[g.Region+" "+g.Key().String()]; {
			case g.Ref() != f.Ref():
			case g.State == publish.Outdated && err == nil:
				g.State, g.What = publish.Repaired, "it was written anew"
			case (g.State == publish.Missing || g.State == publish.Changed) && ok && d.Error == "":
				g.State, g.What = publish.Repaired, "it was placed again and verified"
			case ok && d.Error != "":
				g.What += "; it could not be placed again: " + d.Error
			}
		}
	}
	for i := range list { // indexes
		if f := &list[i]; f.State == publish.Outdated && f.Image == "" {
			err := publish.RefreshRegion(ctx, a.State, a.Org.Region(f.Region))
			if failed = errors.Join(failed, err); err == nil {
				f.State, f.What = publish.Repaired, "it was written anew"
			}
		}
	}
	return failed
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
	at, err := a.region(pl.Region)
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
