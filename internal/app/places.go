package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/machine"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/region/kinds"
	"zygos/internal/retention"
	"zygos/internal/state"
	"zygos/internal/sweep"
)

// PublishRequest asks for versions to be placed.
type PublishRequest struct {
	Refs    []string
	Regions []string // "" for those of each image
	Tags    []string // that move to the versions once all of them are in all their regions
}

// Published is what became of one version.
type Published struct {
	Version *catalog.Version
	Placed  []record.Delivery
	Failed  error // its documents could not be written
}

// publications are the ways of versions to their regions; all can be gone, or none is.
func (a *Session) publications(ctx context.Context, r PublishRequest) (list []*publish.Publication, err error) {
	for _, tag := range r.Tags {
		if reason := definition.CheckTag(tag); reason != "" {
			return nil, state.Ask("%s", reason)
		}
	}
	for _, ref := range r.Refs {
		v, err := a.Resolve(ctx, ref)
		if err == nil {
			err = v.Usable()
		}
		if err != nil {
			return nil, err
		}
		if wrong := a.Wrong(v.Image); wrong != nil { // it may not say where the version belongs
			return nil, wrong
		}
		to, err := publish.Regions(a.Session, v, r.Regions)
		if err != nil {
			return nil, err
		}
		list = append(list, &publish.Publication{Session: a.Session, Version: v, Regions: to, Host: a.Host, Watch: func(record.Delivery) {},
			Progress: a.Progress, RegionProgress: a.RegionProgress, Capture: func(ctx context.Context, variant, format string) error {
				engine, err := a.engine()
				if err == nil {
					_, err = engine.CaptureMore(ctx, v, variant, a.alike(v.Image, format))
				}
				return err
			}})
	}
	return list, nil
}

// alike is an artifact of another format, as the image's definition has those that it names: a disk starts as they do.
func (a *Session) alike(image, format string) definition.Artifact {
	made := definition.Artifact{Format: format}
	img, err := a.Image(image)
	f := artifact.Find(format)
	if err != nil || f == nil || !f.Takes("boot") {
		return made
	}
	for _, other := range img.Artifacts {
		if boot := other.Says["boot"]; boot != "" && boot != "none" {
			made.Says, made.Size = artifact.Says{"boot": boot}, other.Size
			if line := other.Says["cmdline"]; line != "" {
				made.Says["cmdline"] = line
			}
			break
		}
	}
	return made
}

// Publish places versions in the regions named, or in those of their images, writes their documents, and moves tags to them if all of
// them are everywhere. What happened is in the list, also beside an error.
func (a *Session) Publish(ctx context.Context, r PublishRequest,
	each func(record.Delivery)) (list []Published, moves []catalog.Move, err error) {
	if err := a.Writable(); err != nil {
		return nil, nil, err
	}
	ways, err := a.publications(ctx, r)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range ways {
		if p.Lacks() {
			if err := machine.Ready(); err != nil { // what lacks is captured
				return nil, nil, err
			}
		}
	}
	whole := true
	for _, p := range ways {
		p.Watch = each
		done, has, err := a.publish(ctx, p)
		if err != nil {
			return append(list, done), nil, err
		}
		whole = whole && has && done.Failed == nil && publish.Incomplete(done.Version, done.Placed) == nil
		list = append(list, done)
	}
	if whole && len(r.Tags) > 0 {
		var refs []string
		for _, done := range list {
			refs = append(refs, done.Version.Ref())
		}
		moves, err = a.Tag(ctx, TagRequest{Refs: refs, Tags: r.Tags})
	}
	return list, moves, err
}

// publish places one version and writes its documents, under the lease of its placements. has is false if it was pruned meanwhile.
func (a *Session) publish(ctx context.Context, p *publish.Publication) (done Published, has bool, err error) {
	held, release, err := publish.Lease(ctx, a.Session, a.waiter("publish"), p.Version.Image, p.Version.Version, p.Regions)
	if err != nil {
		return Published{Version: p.Version}, false, err
	}
	defer release()
	done.Placed = p.Place(held)
	if done.Version = p.Version; held.Err() != nil {
		return done, false, context.Cause(held)
	}
	if has, done.Failed = a.Catalog.Has(held, p.Version.Image, p.Version.Version); done.Failed == nil && has {
		done.Failed = errors.Join(publish.WriteManifest(held, a.Session, p.Version, p.Regions),
			publish.Refresh(held, a.Session, p.Version.Image, p.Regions...))
	}
	if held.Err() != nil {
		return done, false, context.Cause(held)
	}
	return done, has, nil
}

// waiter is the caller, who waits for others that change the same.
func (a *Session) waiter(doing string) state.Waiter {
	return state.Waiter{Who: a.Who, Doing: doing, Wait: a.Progress}
}

// Plan is what Publish would do with a version.
type Plan struct {
	Version *catalog.Version
	Would   []record.PlannedDelivery
}

// PlanPublish says what Publish would do.
func (a *Session) PlanPublish(ctx context.Context, r PublishRequest) (list []Plan, err error) {
	ways, err := a.publications(ctx, r)
	for _, p := range ways {
		would, err := p.Plan(ctx)
		if err != nil {
			return nil, err
		}
		list = append(list, Plan{p.Version, would})
	}
	return list, err
}

// Unpublish takes a version, also a recalled one, out of the regions named, or of all that hold it.
func (a *Session) Unpublish(ctx context.Context, ref string, regions []string) (*catalog.Version, []record.Delivery, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err == nil {
		err = a.Writable()
	}
	if err != nil {
		return nil, nil, err
	}
	if len(regions) == 0 {
		if regions = v.Regions; len(regions) == 0 {
			return v, nil, nil
		}
	}
	p := publish.Publication{Session: a.Session, Version: v, Watch: func(record.Delivery) {}}
	if p.Regions, err = publish.Regions(a.Session, v, regions); err != nil {
		return nil, nil, err
	}
	held, release, err := publish.Lease(ctx, a.Session, a.waiter("remove"), v.Image, v.Version, p.Regions)
	if err != nil {
		return nil, nil, err
	}
	defer release()
	done, err := p.Remove(held)
	return v, done, err
}

// Manifest is that of a version; with a region, only what belongs there.
func (a *Session) Manifest(ctx context.Context, ref, region string) (*catalog.Version, *manifest.Manifest, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err == nil && region != "" {
		_, err = a.Region(region)
	}
	if err != nil {
		return nil, nil, err
	}
	m, err := publish.Manifest(ctx, a.Session, v)
	if err == nil && region != "" {
		if m.Only(region); len(m.Regions) == 0 {
			err = notThere(v, region)
		}
	}
	return v, m, err
}

// notThere says that a region does not hold a version.
func notThere(v *catalog.Version, region string) error {
	return &publish.IncompleteError{Text: fmt.Sprintf("%s is not in %s; place it there: zygos publish %s --region %s", v.Ref(), region,
		v.Ref(), region)}
}

// Region is a region and what it holds.
type Region struct {
	Region  string   `json:"region"`
	Kind    string   `json:"kind"`
	Place   string   `json:"place"` // a folder, or the address of a server
	Formats []string `json:"formats"`
	catalog.Holding
}

// Regions lists the regions with what they hold.
func (a *Session) Regions(ctx context.Context) ([]Region, error) {
	held, err := a.Catalog.Holdings(ctx)
	list := []Region{}
	for _, r := range a.Org.Regions {
		list = append(list, Region{r.Name, r.Kind, kinds.Where(&r), append([]string{}, r.Formats...), held[r.Name]})
	}
	return list, err
}

// Mark says that a region lies where its definition says, for a kind that asks for that.
func (a *Session) Mark(ctx context.Context, name string) error {
	r, err := a.Region(name)
	if err != nil {
		return err
	}
	at, err := kinds.Open(r, a.Path)
	if err != nil {
		return err
	}
	if m, ok := at.(interface{ Mark(context.Context) error }); ok {
		return m.Mark(ctx)
	}
	return state.Ask("region %s is of the kind %s, which needs no marker", name, r.Kind)
}

// Claim makes a region this catalog's, and says whose it was; nil for nobody's.
func (a *Session) Claim(ctx context.Context, name string) (was *publish.Owner, err error) {
	r, err := a.Region(name)
	if err == nil {
		err = a.Writable()
	}
	if err != nil {
		return nil, err
	}
	return publish.Claim(ctx, a.Session, r)
}

// PruneRequest says which old versions may go.
type PruneRequest struct {
	Images []string // nil for all
	// Expect are the versions, by reference, that the caller was shown to go; nil for any. No other one goes.
	Expect []string
	Whole  bool // verdicts have all of their versions, else what decides: see catalog.Candidates
}

// Pruning is what prune would do, or did.
type Pruning struct {
	Goes    []retention.Verdict
	Stays   []retention.Verdict // of the images that were asked for
	Bytes   int64               // of artifacts that go
	Removed int                 // versions that are gone
}

// PlanPrune judges versions.
func (a *Session) PlanPrune(ctx context.Context, r PruneRequest) (*Pruning, error) {
	for _, name := range r.Images {
		if _, err := a.Image(name); err != nil {
			return nil, err
		}
	}
	a.Progress("judge the versions", 0, 0)
	asked := func(image string) bool { return len(r.Images) == 0 || slices.Contains(r.Images, image) }
	verdicts, err := retention.Verdicts(ctx, a.Session, asked)
	if err != nil {
		return nil, err
	}
	p := &Pruning{Goes: []retention.Verdict{}, Stays: []retention.Verdict{}}
	var others []retention.Verdict
	for _, v := range verdicts {
		switch {
		case len(v.Why) == 0 && (r.Expect == nil || slices.Contains(r.Expect, v.Ref())):
			p.Goes = append(p.Goes, v)
		case asked(v.Image):
			p.Stays = append(p.Stays, v)
		default:
			others = append(others, v)
		}
	}
	p.Bytes = retention.Freed(p.Goes, slices.Concat(p.Stays, others))
	if r.Whole {
		err = a.fill(ctx, slices.Concat(p.Goes, p.Stays))
	}
	return p, err
}

// fill reads the rest of versions that were judged.
func (a *Session) fill(ctx context.Context, verdicts []retention.Verdict) error {
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

// Prune judges versions and removes those that go, with their bytes.
func (a *Session) Prune(ctx context.Context, r PruneRequest) (*Pruning, error) {
	if err := a.EndDead(ctx); err != nil {
		return nil, err
	}
	p, err := a.PlanPrune(ctx, r)
	if err != nil {
		return nil, err
	}
	if len(p.Goes) > 0 {
		p.Removed, err = retention.Remove(ctx, a.Session, p.Goes, func(doing string) { a.Progress(doing, 0, 0) })
		if err != nil {
			return p, fmt.Errorf("%w; what was removed so far is gone, 'zygos prune --yes' ends it", err)
		}
	}
	_, _, err = a.Sweep(ctx, true)
	return p, err
}

// EndDead ends builds that are called running and do not run: nothing is needed for them.
func (a *Session) EndDead(ctx context.Context) error {
	err := cmp.Or(a.Writable(), machine.Ready())
	if err == nil {
		_, err = sweep.Runs(ctx, a.State)
	}
	return err
}
