package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/machine"
	"zygos/internal/region"
)

var cmdPrune = &command{
	name: "prune", group: "keep", args: "[IMAGE…]", most: -1,
	summary: "remove old versions as [keep] says; shows the plan, --yes carries it out",
	text: `[keep] in zygos.toml or in an image says how many versions stay, and for how many days; with
tagged = true, those that a tag once pointed at stay too. A version goes only if none keeps it,
and never one that a tag points at, that is the newest in a region, that a running build starts
from, or that a version which stays was built on. With IMAGE…, only versions of these go.
Removed are copies in regions, layers that nothing else needs, rows, and bytes once no other
command uses the state; when interrupted, run it again. --all shows what stays, and why.`,
	example: "zygos prune\nzygos prune turbine-link --all\nzygos prune --yes",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.yes, "yes", false, "carry it out")
		fs.BoolVar(&in.set.all, "all", false, "show what stays too, and why")
	},
	run: opened(strict, runPrune),
}

func runPrune(ctx context.Context, in *invocation, p *place) error {
	for _, name := range in.args {
		if _, err := p.Image(name); err != nil {
			return err
		}
	}
	if in.set.yes {
		if err := p.writable(); err != nil {
			return err
		}
	}
	if _, ok := machine.Inside(); !ok && in.set.yes {
		return p.inside(in)
	}
	if !in.set.yes {
		_, err := in.planPrune(ctx, p)
		return err
	}
	l := in.live()
	defer l.end()
	e := p.engine(in, l)
	if _, err := e.Sweep(ctx, false, false, nil); err != nil { // what a dead build started from is not needed
		return err
	}
	goes, err := in.planPrune(ctx, p)
	if err == nil && len(goes) > 0 {
		var removed int
		if removed, err = p.prune(ctx, e, l, goes); err != nil {
			return fmt.Errorf("%w; what was removed so far is gone, 'zygos prune --yes' ends it", err)
		}
		if !in.json {
			_, err = fmt.Fprintf(in.out, "Removed %s\n", counted(removed, "version"))
		}
		if n := len(goes) - removed; n > 0 {
			in.note("%s stay: somebody came to need them just now", counted(n, "version"))
		}
	}
	if err != nil {
		return err
	}
	// Bytes go when nobody may be about to register what needs them.
	_, alone, err := p.sweep(ctx, e, true)
	if !alone && len(goes) > 0 {
		in.note("another command uses this state: the artifacts' bytes go with the next 'zygos sweep' that is alone")
	}
	return err
}

// planPrune shows what goes, and returns it.
func (in *invocation) planPrune(ctx context.Context, p *place) (goes []catalog.Verdict, err error) {
	l := in.live()
	l.show("", "judge the versions", 0, 0)
	asked := func(image string) bool { return len(in.args) == 0 || slices.Contains(in.args, image) }
	verdicts, err := p.verdicts(ctx, asked)
	l.end()
	if err != nil {
		return nil, err
	}
	stays, others := []catalog.Verdict{}, []catalog.Verdict{}
	goes = []catalog.Verdict{}
	for _, v := range verdicts {
		switch {
		case len(v.Why) == 0:
			goes = append(goes, v)
		case asked(v.Image):
			stays = append(stays, v)
		default:
			others = append(others, v)
		}
	}
	freed := freedBy(goes, slices.Concat(stays, others))
	if in.json {
		return goes, in.writeJSON(map[string]any{"goes": goes, "stays": stays, "bytes": freed, "done": in.set.yes})
	}
	if err := in.writePrune(goes, stays, freed); err != nil {
		return nil, err
	}
	if len(goes) > 0 && !in.set.yes {
		in.next(strings.TrimSpace("zygos prune --yes " + strings.Join(in.args, " ")))
	}
	return goes, nil
}

// verdicts judges all versions.
func (p *place) verdicts(ctx context.Context, asked func(image string) bool) ([]catalog.Verdict, error) {
	roomy()
	versions, err := p.catalog.Versions(ctx, "")
	if err != nil {
		return nil, err
	}
	placements, err := p.catalog.Placements(ctx, "", "", "")
	if err != nil {
		return nil, err
	}
	builds, err := p.catalog.Running(ctx)
	if err != nil {
		return nil, err
	}
	once, err := p.catalog.OnceTagged(ctx)
	if err != nil {
		return nil, err
	}
	running := slices.DeleteFunc(builds, func(b catalog.Build) bool { return !p.alive(&b) })
	return catalog.Prunable(versions, placements, running, once, asked, func(image string) catalog.Retention {
		if img, err := p.Image(image); err == nil && img.Retention != nil {
			return catalog.Retention(*img.Retention)
		}
		return catalog.Retention(p.Org.Keep)
	}), nil
}

// freedBy is how many bytes of artifacts go with versions, each counted once, none that another has.
func freedBy(goes, stays []catalog.Verdict) (bytes int64) {
	seen := map[string]bool{}
	for _, v := range stays {
		for _, a := range v.Artifacts {
			seen[a.Digest] = true
		}
	}
	for _, v := range goes {
		for _, a := range v.Artifacts {
			if !seen[a.Digest] {
				bytes += a.Bytes
			}
			seen[a.Digest] = true
		}
	}
	return bytes
}

func (in *invocation) writePrune(goes, stays []catalog.Verdict, freed int64) error {
	var rows [][]string
	var total int64 // of those that go
	add := func(v *catalog.Verdict, state string) {
		var bytes int64
		for _, a := range v.Artifacts {
			bytes += a.Bytes
		}
		if state == "goes" {
			total += bytes
		}
		rows = append(rows, []string{v.Image, v.Version.Version, age(v.Created), mib(bytes), state, dash(strings.Join(v.Why, "; "))})
	}
	for i := range goes {
		add(&goes[i], "goes")
	}
	if in.set.all {
		for i := range stays {
			add(&stays[i], "stays")
		}
	}
	if len(rows) > 0 {
		if err := in.columns([]string{"IMAGE", "VERSION", "AGE", "SIZE", "STATE", "WHY IT STAYS"}, rows); err != nil {
			return err
		}
	}
	shared := ""
	if freed < total {
		shared = " that no other version has"
	}
	_, err := fmt.Fprintf(in.out, "%s to remove, %s of artifacts%s; %s\n", counted(len(goes), "version"), mib(freed), shared, staying(len(stays)))
	if !in.set.all && len(goes) == 0 {
		in.next("zygos prune --all   says why each stays")
	}
	return err
}

func staying(n int) string {
	if n == 1 {
		return "1 version stays"
	}
	return counted(n, "version") + " stay"
}

// alive says whether a build that is called running does.
func (p *place) alive(b *catalog.Build) bool { return build.Runs(p.State, p.id, b) }

// prune removes versions, and says how many. From the first step on nothing can come to need them; they
// go first where hosts find them, last their rows, so that what an interruption leaves is still known
// and goes next time.
func (p *place) prune(ctx context.Context, e *build.Engine, l *live, verdicts []catalog.Verdict) (removed int, err error) {
	var versions []catalog.Version
	for _, v := range verdicts {
		versions = append(versions, v.Version)
	}
	if _, err := p.copiesOf(ctx, versions); err != nil {
		return 0, err
	}
	goes, err := p.catalog.Leave(ctx, versions, p.alive)
	if err != nil {
		return 0, err
	}
	copies, err := p.copiesOf(ctx, goes) // from now on there come no more
	if err != nil {
		return 0, err
	}
	gone, layers := map[string]bool{}, map[string]bool{}
	for i := range goes {
		gone[goes[i].Ref()] = true
		for _, t := range goes[i].Trees {
			for _, digest := range t.Layers {
				layers[digest] = true
			}
		}
	}
	if err := p.leaveRegions(ctx, l, copies); err != nil {
		return 0, fmt.Errorf("take versions out of their regions: %w", err)
	}
	l.show("", "remove layers", 0, 0)
	err = e.Alone(ctx, func() error {
		if err := p.store.Unlist(ctx, func(reference string) bool { return gone[strings.Replace(reference, ":", "@", 1)] }); err != nil {
			return err
		}
		return e.Drop(ctx, func(digest string) bool { return layers[digest] }, func(ref string) bool { return gone[ref] })
	})
	if err != nil {
		return 0, err
	}
	for _, v := range goes { // children first
		if err := p.catalog.Forget(ctx, v.Image, v.Version); err != nil {
			return removed, err
		}
		removed++
	}
	return removed, nil
}

// copiesOf lists where versions are placed. All of these places must be known: nothing is begun that
// cannot be ended.
func (p *place) copiesOf(ctx context.Context, versions []catalog.Version) (copies []catalog.Placement, err error) {
	for i := range versions {
		v := &versions[i]
		placements, err := p.catalog.Placements(ctx, v.Image, v.Version, "")
		if err != nil {
			return nil, err
		}
		for _, pl := range placements {
			if p.Org.Region(pl.Region) == nil {
				return nil, fmt.Errorf("%s: region %s is no longer in zygos.toml, and holds a copy at %s; put it back, or remove the copy. Nothing was removed", v.Ref(), pl.Region, pl.Location)
			}
		}
		copies = append(copies, placements...)
	}
	return copies, nil
}

// leaveRegions removes copies from all regions: the indexes stop naming them, the copies go, and only
// then the rows that say where they are.
func (p *place) leaveRegions(ctx context.Context, l *live, copies []catalog.Placement) error {
	left := map[string][]*definition.Region{} // by image
	for _, pl := range copies {
		if r := p.Org.Region(pl.Region); !slices.Contains(left[pl.Image], r) {
			left[pl.Image] = append(left[pl.Image], r)
		}
	}
	tell := func() error {
		for _, image := range slices.Sorted(maps.Keys(left)) {
			if err := p.refresh(ctx, image, left[image]...); err != nil {
				return err
			}
		}
		return nil
	}
	if err := tell(); err != nil {
		return err
	}
	for i, pl := range copies {
		l.show("", fmt.Sprintf("remove copies from regions, %d of %d", i+1, len(copies)), 0, 0)
		if err := region.Open(p.Org.Region(pl.Region), p.Path).Remove(ctx, pl.Location); err != nil {
			return err
		}
		if err := p.catalog.Unplace(ctx, pl.ID); err != nil {
			return err
		}
	}
	return tell() // somebody may have published meanwhile
}
