package publish

import (
	"context"
	"errors"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/record"
	"zygos/internal/state"
)

// Repair places again what a region lacks, and writes what is outdated; what became of it is noted in the list.
func (c *Verification) Repair(ctx context.Context, list []Found) (failed error) {
	failed = c.keepRead(ctx)
	broken := map[string][]*Found{} // by version
	var order []string
	for i := range list {
		f := &list[i]
		if f.State == Left {
			c.takeAway(ctx, f)
			continue
		}
		if ref := f.Ref(); f.Mends() {
			if broken[ref] == nil {
				order = append(order, ref)
			}
			broken[ref] = append(broken[ref], f)
		}
	}
	for _, ref := range order {
		if ref != "" {
			failed = errors.Join(failed, c.repair(ctx, broken[ref]))
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	for _, f := range broken[""] { // indexes
		err := RefreshRegion(ctx, c.Session, c.Org.Region(f.Region))
		if failed = errors.Join(failed, err); err == nil {
			f.State, f.What = Repaired, "it was written anew"
		}
	}
	return failed
}

// keepRead records that the content of placements was read.
func (c *Verification) keepRead(ctx context.Context) (failed error) {
	said := map[string]bool{}
	for _, pl := range c.read {
		if err := c.Catalog.Place(ctx, pl); err != nil && !leaves(err) {
			return err
		}
		said[pl.Image+"@"+pl.Version] = true
	}
	for ref := range said {
		image, version, _ := strings.Cut(ref, "@")
		v, err := c.Catalog.Resolve(ctx, definition.Ref{Image: image, Selector: version})
		if err != nil {
			continue // pruned meanwhile
		}
		failed = errors.Join(failed, WriteManifest(ctx, c.Session, v, nil))
	}
	return failed
}

// takeAway takes a manifest that was left out of its region, unless the region holds the version by now.
func (c *Verification) takeAway(ctx context.Context, f *Found) {
	r := c.Org.Region(f.Region)
	ctx, release, err := Lease(ctx, c.Session, state.Waiter{Who: c.Who, Doing: "repair", Wait: c.Progress}, f.Image, f.Version,
		[]*definition.Region{r})
	if err == nil {
		defer release()
		var held []catalog.Placement
		held, err = c.Catalog.Placements(ctx, f.Image, f.Version, f.Region)
		if len(held) > 0 { // somebody published it meanwhile, and wrote its manifest
			f.State, f.What = Repaired, "the region holds the version again"
			return
		}
		if err == nil {
			err = withdraw(ctx, c.Session, r, f.Location)
		}
	}
	if err != nil {
		f.What += "; it could not be taken away: " + err.Error()
		return
	}
	f.State, f.What = Repaired, "it was taken away"
}

// repair mends one version.
func (c *Verification) repair(ctx context.Context, broken []*Found) error {
	v, err := c.Catalog.Resolve(ctx, definition.Ref{Image: broken[0].Image, Selector: broken[0].Version})
	if err != nil {
		return err
	}
	var regions []*definition.Region
	for _, f := range broken {
		if r := c.Org.Region(f.Region); !slices.Contains(regions, r) {
			regions = append(regions, r)
		}
	}
	ctx, release, err := Lease(ctx, c.Session, state.Waiter{Who: c.Who, Doing: "repair", Wait: c.Progress}, v.Image, v.Version, regions)
	if err != nil {
		return err
	}
	defer release()
	p := Publication{Session: c.Session, Version: v, Regions: regions, Progress: c.Progress, RegionProgress: c.RegionProgress,
		Watch: func(record.Delivery) {}}
	placed := p.Place(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	err = errors.Join(WriteManifest(ctx, c.Session, v, regions), Refresh(ctx, c.Session, v.Image, regions...))
	for _, f := range broken {
		i := slices.IndexFunc(placed, func(d record.Delivery) bool { return d.Region == f.Region && d.Key() == f.Key() })
		switch {
		case f.State == Outdated && err == nil:
			f.State, f.What = Repaired, "it was written anew"
		case i >= 0 && len(placed[i].Changed) > 0:
			f.State, f.What = Repaired, "it was brought into line"
		case i >= 0 && placed[i].Error == "":
			f.State, f.What = Repaired, "it was placed again and verified"
		case i >= 0:
			f.What += "; it could not be placed again: " + placed[i].Error
		}
	}
	return err
}
