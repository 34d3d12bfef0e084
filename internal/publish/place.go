package publish

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/manifest"
	"zygos/internal/record"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/supply"
)

// mostAtOnce is how many regions are served at once.
const mostAtOnce = 4

// target is a region that artifacts are on their way to, on the terms of their image.
type target struct {
	*definition.Region
	at     region.Region
	system string // the same for regions that copy among themselves
	pace   *pace
	total  int64 // bytes of what is to be there

	mu     sync.Mutex
	done   int64
	names  map[artifact.Key]name // what artifacts are called there
	held   map[string]bool       // what was placed before
	read   map[string]bool       // and of which the content was verified
	silent bool                  // it did not answer as often as it was asked
}

// target opens a region on the terms of the version's image.
func (p *Publication) target(r *definition.Region) (*target, error) {
	img, err := p.Image(p.Version.Image)
	if err != nil {
		img = nil // its definition is gone, the region's own terms hold
	}
	t := &target{Region: r.For(img), held: map[string]bool{}, read: map[string]bool{}, system: kinds.System(r)}
	t.pace = &pace{rate: t.Rate}
	for _, a := range p.Version.Artifacts {
		if t.Takes(a.Format) {
			t.total += a.Bytes
		}
	}
	t.at, err = kinds.Open(t.Region, p.Path)
	return t, err
}

// Lack is an artifact that a region wants and a version has in no variant.
type Lack struct{ Variant, Format string }

// lacks lists what the version lacks for a region that names its formats.
func (p *Publication) lacks(t *target) (list []Lack) {
	for _, format := range t.Formats {
		if slices.ContainsFunc(p.Version.Artifacts, func(a catalog.Artifact) bool { return a.Format == format }) {
			continue
		}
		for _, tree := range p.Version.Trees {
			list = append(list, Lack{tree.Variant, format})
		}
	}
	return list
}

// Lacks says whether a region wants what the version lacks.
func (p *Publication) Lacks() bool {
	return slices.ContainsFunc(p.Regions, func(r *definition.Region) bool {
		t, err := p.target(r)
		return err == nil && len(p.lacks(t)) > 0
	})
}

// Place brings the artifacts to all regions at once. An error of one is in what happened there.
func (p *Publication) Place(ctx context.Context) []record.Delivery {
	var mu sync.Mutex
	var list []record.Delivery
	done := func(one record.Delivery) {
		mu.Lock()
		list = append(list, one)
		mu.Unlock()
		p.Watch(one)
	}
	failed := p.capture(ctx)
	systems := map[string][]*target{} // what stands alone has one of its own
	var waiting []catalog.Underway
	for _, r := range p.Regions {
		t, err := p.target(r)
		if err != nil {
			done(p.none(r.Name, err))
			continue
		}
		for _, l := range p.lacks(t) {
			if why := failed[l]; why != nil {
				one := p.none(r.Name, fmt.Errorf("it cannot be captured: %w", why))
				one.Variant, one.Format = l.Variant, l.Format
				done(one)
			}
		}
		if t.total == 0 {
			done(p.none(r.Name, fmt.Errorf("takes only %s, and %s has no such artifact", strings.Join(t.Formats, ", "), p.Version.Ref())))
			continue
		}
		waiting = append(waiting, p.waiting(ctx, t)...)
		name := r.Name
		if t.system != "" {
			name = r.Kind + " " + t.system
		}
		systems[name] = append(systems[name], t)
	}
	_ = p.Catalog.SetUnderway(ctx, waiting...) // placing says what is wrong with the catalog
	limit := make(chan struct{}, mostAtOnce)
	var group sync.WaitGroup
	serve := func(t *target) {
		limit <- struct{}{}
		defer func() { <-limit }()
		p.placeIn(ctx, t, done)
	}
	for _, targets := range systems {
		group.Go(func() {
			serve(targets[0]) // the others have it from there
			for _, t := range targets[1:] {
				group.Go(func() { serve(t) })
			}
		})
	}
	group.Wait()
	slices.SortFunc(list, func(a, b record.Delivery) int {
		return strings.Compare(a.Region+" "+a.Key().String(), b.Region+" "+b.Key().String())
	})
	return list
}

// none says that nothing of a version comes to a region.
func (p *Publication) none(name string, err error) record.Delivery {
	return record.Delivery{Image: p.Version.Image, Version: p.Version.Version, Region: name, State: region.Failed, Error: err.Error()}
}

// capture makes what regions want and the version lacks, and says why it could not.
func (p *Publication) capture(ctx context.Context) (failed map[Lack]error) {
	failed = map[Lack]error{}
	made := false
	for _, r := range p.Regions {
		t, err := p.target(r)
		if err != nil || p.Capture == nil {
			continue
		}
		for _, l := range p.lacks(t) {
			if failed[l] == nil {
				failed[l] = p.Capture(ctx, l.Variant, l.Format)
				made = made || failed[l] == nil
			}
		}
	}
	if made {
		if v, err := p.Catalog.Resolve(ctx, definition.Ref{Image: p.Version.Image, Selector: p.Version.Version}); err == nil {
			p.Version = v
		}
	}
	return failed
}

// waiting is what is not yet in a region.
func (p *Publication) waiting(ctx context.Context, t *target) (list []catalog.Underway) {
	held, err := p.Catalog.Placements(ctx, p.Version.Image, p.Version.Version, t.Name)
	if err != nil {
		return nil
	}
	t.names = names(p.Version, t.Naming, held)
	for _, pl := range held {
		t.held[pl.Key().String()], t.read[pl.Key().String()] = true, pl.Read() && pl.Artifact == p.digest(pl.Key())
	}
	for _, a := range p.Version.Artifacts {
		if t.Takes(a.Format) && !t.held[a.Key().String()] {
			list = append(list, p.underway(t, a, region.Waiting, 0, ""))
		}
	}
	return list
}

// digest is that of an artifact of the version, zero for none.
func (p *Publication) digest(k artifact.Key) (d digest.Digest) {
	for _, a := range p.Version.Artifacts {
		if a.Key().Same(k) {
			d = a.Digest
		}
	}
	return d
}

// underway is where an artifact stands on its way to a region.
func (p *Publication) underway(t *target, a catalog.Artifact, state string, done int64, why string) catalog.Underway {
	return catalog.Underway{Image: p.Version.Image, Version: p.Version.Version, Region: t.Name, Variant: a.Variant, Name: a.Name,
		Format: a.Format, State: state, Done: max(done, 0), Bytes: a.Bytes, Why: why, Host: p.Host, Changed: p.Catalog.Now()}
}

// placeIn places the artifacts in one region.
func (p *Publication) placeIn(ctx context.Context, t *target, done func(record.Delivery)) {
	near := p.near(ctx, t)
	defer func() { p.RegionProgress(t.Name, "", 0, 0) }()
	var group errgroup.Group
	group.SetLimit(int(max(t.Parallel, 1)))
	for _, a := range p.Version.Artifacts {
		if t.Takes(a.Format) {
			group.Go(func() error {
				one := p.carry(ctx, t, a, near[a.Digest])
				if ctx.Err() == nil || one.Error == "" {
					done(one)
				}
				return nil
			})
		}
	}
	_ = group.Wait() // errors are in the results
}

// near is where the version's artifacts lie, with their content verified, in other regions of the same system, by digest.
func (p *Publication) near(ctx context.Context, t *target) map[digest.Digest][]string {
	list := map[digest.Digest][]string{}
	if t.system == "" {
		return list
	}
	held, _ := p.Catalog.Placements(ctx, p.Version.Image, p.Version.Version, "") // else all comes from here
	for _, pl := range held {
		other := p.Org.Region(pl.Region)
		if other != nil && pl.Read() && pl.Region != t.Name && other.Kind == t.Kind && kinds.System(other) == t.system {
			list[pl.Artifact] = append(list[pl.Artifact], pl.Location)
		}
	}
	return list
}

// item is an artifact as a region is given it.
func (p *Publication) item(t *target, a catalog.Artifact) (region.Item, error) {
	v := p.Version
	item := region.Item{Organisation: p.Org.Name, Image: v.Image, Version: v.Version, Key: a.Key(), Digest: a.Digest, Bytes: a.Bytes,
		Known: t.read[a.Key().String()], Labels: labels(v, a.Variant),
		Open: func(ctx context.Context) (region.Content, error) {
			file, err := supply.Artifact(ctx, p.Session, v, a, p.Progress)
			if err != nil {
				return nil, err
			}
			return region.OpenFile(file)
		}}
	n, known := t.names[a.Key()]
	if !known {
		return item, errors.New("the catalog did not say what lies there already; run the command again")
	}
	item.File, item.Called = n.file, n.called
	return item, n.wrong
}

// tries is how often a placement that does not get on is tried.
const tries = 5

// heard is how often the catalog hears how far a placement is.
const heard = 2 * time.Second

// way is one artifact's to a region.
type way struct {
	p        *Publication
	t        *target
	artifact catalog.Artifact

	mu    sync.Mutex      // libraries read on goroutines of their own
	one   record.Delivery // what is told of it
	state string
	done  int64
	last  time.Time // when the catalog heard of it
}

// set tells the catalog where the placement stands. If it cannot, placing says what is wrong with it.
func (w *way) set(ctx context.Context, why string) {
	_ = w.p.Catalog.SetUnderway(ctx, w.p.underway(w.t, w.artifact, w.state, w.done, why))
	w.last = time.Now()
}

// told is told by the region how far it is.
func (w *way) told(ctx context.Context, state string, n int64) {
	w.mu.Lock()
	w.done += n
	w.t.mu.Lock()
	w.t.done += n
	w.p.RegionProgress(w.t.Name, w.p.Version.Ref()+" "+state, min(max(w.t.done, 0), w.t.total), w.t.total)
	w.t.mu.Unlock()
	if quiet := w.one.State == ""; state != w.state {
		if w.state = state; state != region.Verifying || !quiet { // what is there already is looked at in silence
			w.one.State = state
			w.p.Watch(w.one)
			w.set(ctx, "")
		}
	} else if time.Since(w.last) > heard && !quiet {
		w.set(ctx, "")
	}
	w.mu.Unlock()
	if state == region.Copying && n > 0 {
		w.t.pace.wait(ctx, n)
	}
}

func (w *way) moved() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.done
}

// again tells that a try failed.
func (w *way) again(why error, pause time.Duration) {
	one := w.one
	one.State, one.Error, one.Pause = Again, why.Error(), pause
	w.p.Watch(one)
}

// carry brings one artifact to a region.
func (p *Publication) carry(ctx context.Context, t *target, a catalog.Artifact, near []string) record.Delivery {
	v, began := p.Version, time.Now()
	w := &way{p: p, t: t, artifact: a, last: began, one: record.Delivery{Image: v.Image, Version: v.Version, Region: t.Name,
		Variant: a.Variant,
		Name:    a.Name, Format: a.Format, Bytes: a.Bytes}}
	item, err := p.item(t, a)
	item.Near = near
	var placed region.Placed
	often := tries
	t.mu.Lock()
	if t.silent {
		often = 1
	}
	t.mu.Unlock()
	if err == nil {
		placed, err = region.Retry(ctx, often, w.moved, w.again, func() (region.Placed, error) {
			w.told(ctx, w.state, -w.moved()) // what is there is told again
			if err := own(ctx, p.Session, t.Region, t.at); err != nil {
				return placed, err
			}
			return t.at.Place(ctx, item, func(state string, n int64) { w.told(ctx, state, n) })
		})
	}
	if err == nil && (!manifest.IsID(placed.ID) || !manifest.IsLocation(placed.Location)) {
		err = fmt.Errorf("the region gives it the id %q and the location %q, which cannot be", placed.ID, placed.Location)
	}
	record := catalog.Placement{ID: placed.ID, Image: v.Image, Version: v.Version, Region: t.Name, Variant: a.Variant, Name: a.Name,
		Format: a.Format, Artifact: a.Digest, Location: placed.Location, Verified: p.Catalog.Now(),
		VerifiedBy: placed.By}
	if errors.Is(err, region.ErrAbsent) && ctx.Err() == nil {
		// What an earlier publication placed is not there as it was; no manifest names it from now on.
		err = errors.Join(err, p.Catalog.Unplace(ctx, record))
	} else if err == nil {
		err = p.Catalog.Place(ctx, record)
		if leaves(err) { // prune began meanwhile, and does not know of this copy
			err = errors.Join(err, RemoveCopy(ctx, p.Session, &record))
		}
	}
	var changed []string
	if aligner, ok := t.at.(region.Aligner); ok && err == nil {
		changed, err = patiently(ctx, func() ([]string, error) { return aligner.Align(ctx, placed.Location, true) })
	}
	one := w.one
	if one.Took = time.Since(began); err == nil {
		one.State, one.ID, one.Location, one.Copied = region.Done, placed.ID, placed.Location, placed.Copied
		if one.By = placed.By; item.Known && one.By == artifact.BySize {
			one.By = "" // as it is recorded
		}
		if !placed.Copied {
			one.Changed = changed
		}
		return one
	}
	one.State, one.Error = region.Failed, err.Error()
	var soon *region.AgainError
	t.mu.Lock()
	t.silent = t.silent || errors.As(err, &soon)
	known := t.held[a.Key().String()] && !errors.Is(err, region.ErrAbsent) // nothing follows for what was placed before
	t.mu.Unlock()
	if ctx.Err() == nil && !known {
		w.state = region.Failed
		w.set(ctx, one.Error)
	}
	if ctx.Err() == nil || known {
		return one
	}
	aside, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	w.set(aside, "") // the next publication goes on with it
	return one
}

// pace lets so many bytes a second pass, of all that go to a region.
type pace struct {
	rate int64 // 0 for all
	mu   sync.Mutex
	next time.Time
}

func (p *pace) wait(ctx context.Context, n int64) {
	if p.rate == 0 {
		return
	}
	p.mu.Lock()
	if now := time.Now(); p.next.Before(now) {
		p.next = now
	}
	p.next = p.next.Add(time.Duration(float64(n) / float64(p.rate) * float64(time.Second)))
	until := p.next
	p.mu.Unlock()
	select {
	case <-ctx.Done():
	case <-time.After(time.Until(until)):
	}
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
