package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/region/kinds"
	"zygos/internal/retention"
)

// Publish places a version in the regions named, or in those of its image, and writes its documents. What
// happened in each region comes with an error of the documents.
func (a *App) Publish(ctx context.Context, ref string, regions []string,
	each func(publish.Placed)) (v *catalog.Version, done []publish.Placed, err error) {
	if v, err = a.Resolve(ctx, ref); err == nil {
		err = a.Writable()
	}
	if err == nil {
		err = v.Usable()
	}
	if err != nil {
		return nil, nil, err
	}
	to, err := publish.Regions(a.State, v, regions)
	if err != nil {
		return nil, nil, err
	}
	p := publish.Publication{State: a.State, Version: v, Regions: to, Each: each, Progress: a.Progress}
	done = p.Place(ctx)
	if ctx.Err() != nil {
		return v, done, ctx.Err()
	}
	if has, err := a.Catalog.Has(ctx, v.Image, v.Version); err != nil || !has { // pruned meanwhile
		return v, done, err
	}
	return v, done, errors.Join(publish.WriteManifest(ctx, a.State, v, to), publish.Refresh(ctx, a.State, v.Image, to...))
}

// Manifest is that of a version.
func (a *App) Manifest(ctx context.Context, ref string) (*catalog.Version, *manifest.Manifest, error) {
	v, err := a.Look(ctx, ref)
	if err != nil {
		return nil, nil, err
	}
	m, err := publish.Manifest(ctx, a.State, v)
	return v, m, err
}

// Region is a region and what it holds.
type Region struct {
	Region  string   `json:"region"`
	Kind    string   `json:"kind"`
	Path    string   `json:"path"`
	Formats []string `json:"formats"`
	catalog.Holding
}

// Regions lists the regions with what they hold.
func (a *App) Regions(ctx context.Context) ([]Region, error) {
	held, err := a.Catalog.Holdings(ctx)
	list := []Region{}
	for _, r := range a.Org.Regions {
		list = append(list, Region{r.Name, r.Kind, kinds.Where(&r), append([]string{}, r.Formats...), held[r.Name]})
	}
	return list, err
}

// LocateRequest asks for one artifact of a version in a region.
type LocateRequest struct{ Ref, Region, Variant, Name, Format string }

// ManyError says that a request fits several artifacts of a version in a region.
type ManyError struct {
	Ref, Region string
	Shapes      []string
}

func (e *ManyError) Error() string {
	return fmt.Sprintf("%s holds %s as %s; choose one with --variant, --name or --format", e.Region, e.Ref, strings.Join(e.Shapes, ", "))
}

// Locate finds where one artifact of a usable version lies in a region.
func (a *App) Locate(ctx context.Context, r LocateRequest) (*catalog.Version, *catalog.Placement, error) {
	v, err := a.Resolve(ctx, r.Ref)
	if err == nil {
		err = v.Usable()
	}
	if err != nil {
		return nil, nil, err
	}
	list, err := a.Catalog.Placements(ctx, v.Image, v.Version, r.Region)
	if err != nil {
		return nil, nil, err
	}
	var shapes []string
	for _, pl := range list {
		shapes = append(shapes, pl.Key().String())
	}
	list = slices.DeleteFunc(list, func(pl catalog.Placement) bool {
		return (r.Format != "" && pl.Format != r.Format) || (r.Variant != "" && pl.Variant != r.Variant) || (r.Name != "" && pl.Name != r.Name)
	})
	names := a.Org.RegionNames()
	switch {
	case len(list) == 1:
		return v, &list[0], nil
	case len(list) > 1:
		err = &ManyError{v.Ref(), r.Region, shapes}
	case len(shapes) > 0:
		err = fmt.Errorf("%s holds %s as %s, not as %s", r.Region, v.Ref(), strings.Join(shapes, ", "),
			strings.Join(strings.Fields(r.Variant+" "+r.Name+" "+r.Format), " "))
	case !slices.Contains(names, r.Region):
		err = fmt.Errorf("region %q is not in zygos.toml; regions are %s", r.Region, strings.Join(names, ", "))
	default:
		err = &publish.IncompleteError{Text: fmt.Sprintf("%s is not in %s; place it there: zygos publish %s --region %s", v.Ref(), r.Region,
			v.Ref(), r.Region)}
	}
	return nil, nil, err
}

// Pruning is what prune would do, or does.
type Pruning struct {
	Goes  []catalog.Verdict
	Stays []catalog.Verdict // of the images that were asked for
	Bytes int64             // of artifacts that go
}

// PlanPrune judges the versions of some images, or of all. Unless they are to be whole, the versions have
// only what decides: see catalog.Candidates.
func (a *App) PlanPrune(ctx context.Context, images []string, whole bool) (*Pruning, error) {
	for _, name := range images {
		if _, err := a.Image(name); err != nil {
			return nil, err
		}
	}
	a.Progress("judge the versions", 0, 0)
	asked := func(image string) bool { return len(images) == 0 || slices.Contains(images, image) }
	verdicts, err := retention.Verdicts(ctx, a.State, asked)
	if err != nil {
		return nil, err
	}
	p := &Pruning{Goes: []catalog.Verdict{}, Stays: []catalog.Verdict{}}
	var others []catalog.Verdict
	for _, v := range verdicts {
		switch {
		case len(v.Why) == 0:
			p.Goes = append(p.Goes, v)
		case asked(v.Image):
			p.Stays = append(p.Stays, v)
		default:
			others = append(others, v)
		}
	}
	p.Bytes = retention.Freed(p.Goes, slices.Concat(p.Stays, others))
	if whole {
		err = a.fill(ctx, slices.Concat(p.Goes, p.Stays))
	}
	return p, err
}

// fill reads the rest of versions that were judged.
func (a *App) fill(ctx context.Context, verdicts []catalog.Verdict) error {
	var known []catalog.Version
	at := map[string]*catalog.Version{}
	for _, v := range verdicts {
		known, at[v.Ref()] = append(known, *v.Version), v.Version
	}
	list, err := a.Catalog.Whole(ctx, known)
	for i := range list {
		*at[list[i].Ref()] = list[i]
	}
	return err
}

// Prune carries a plan out. It says how many versions are gone, and whether their bytes are.
func (a *App) Prune(ctx context.Context, p *Pruning) (removed int, bytes bool, err error) {
	if len(p.Goes) > 0 {
		removed, err = retention.Remove(ctx, a.State, a.Engine(), p.Goes, func(doing string) { a.Progress(doing, 0, 0) })
		if err != nil {
			return removed, false, fmt.Errorf("%w; what was removed so far is gone, 'zygos prune --yes' ends it", err)
		}
	}
	// Bytes go when nobody may be about to register what needs them.
	_, bytes, err = a.Sweep(ctx, true)
	return removed, bytes, err
}

// EndDead ends builds that are called running and do not run: nothing is needed for them.
func (a *App) EndDead(ctx context.Context) error {
	_, err := a.Engine().Sweep(ctx, false, false, nil)
	return err
}
