package cli

import (
	"context"
	"flag"
	"fmt"
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
from, or that a version which stays was built on. Removed are its copies in regions, its
artifacts, layers that nothing else needs, and its rows, in this order; when interrupted, run it
again. --all shows what stays, and why.`,
	example: "zygos prune\nzygos prune turbine-link --all\nzygos prune --yes",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.yes, "yes", false, "carry it out")
		fs.BoolVar(&in.set.all, "all", false, "show what stays too, and why")
	},
	run: opened(true, runPrune),
}

func runPrune(ctx context.Context, in *invocation, p *place) error {
	for _, name := range in.args {
		if _, err := p.Image(name); err != nil {
			return err
		}
	}
	if _, ok := machine.Inside(); !ok && in.set.yes {
		return p.inside(in)
	}
	e := p.engine(in, in.live())
	if !in.set.yes {
		_, err := in.planPrune(ctx, p)
		return err
	}
	err := e.Alone(func() error {
		goes, err := in.planPrune(ctx, p)
		if err != nil || len(goes) == 0 {
			return err
		}
		if err := p.prune(ctx, e, goes); err != nil {
			return fmt.Errorf("%w; what was removed so far is gone, run prune again for the rest", err)
		}
		if in.json {
			return nil
		}
		_, err = fmt.Fprintf(in.out, "Removed %s\n", counted(len(goes), "version"))
		return err
	})
	if err == nil {
		_, _, err = p.sweep(ctx, e, true) // what described the artifacts
	}
	return err
}

// planPrune shows what goes, and returns it.
func (in *invocation) planPrune(ctx context.Context, p *place) (goes []catalog.Verdict, err error) {
	l := in.live()
	l.show("", "judge the versions", 0, 0)
	verdicts, err := p.verdicts(ctx)
	l.end()
	if err != nil {
		return nil, err
	}
	stays := []catalog.Verdict{}
	goes = []catalog.Verdict{}
	for _, v := range verdicts {
		if len(v.Why) == 0 && (len(in.args) == 0 || slices.Contains(in.args, v.Image)) {
			goes = append(goes, v)
		} else {
			stays = append(stays, v)
		}
	}
	freed := freedBy(goes, stays)
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
func (p *place) verdicts(ctx context.Context) ([]catalog.Verdict, error) {
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
	running := slices.DeleteFunc(builds, func(b catalog.Build) bool { return !build.Runs(p.State, p.id, &b) })
	return catalog.Prunable(versions, placements, running, once, func(image string) catalog.Retention {
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
	_, err := fmt.Fprintf(in.out, "%s to remove, %s of artifacts%s; %s\n", counted(len(goes), "version"), mib(freed), shared, counted(len(stays), "version")+" stay")
	if !in.set.all && len(goes) == 0 {
		in.next("zygos prune --all   says why each stays")
	}
	return err
}

// prune removes versions: first where hosts find them, last their rows, so that what an interruption
// leaves is still known and goes next time.
func (p *place) prune(ctx context.Context, e *build.Engine, goes []catalog.Verdict) error {
	gone, layers := map[string]bool{}, map[string]bool{}
	for i := range goes {
		v := &goes[i].Version
		gone[v.Ref()] = true
		for _, t := range v.Trees {
			for _, digest := range t.Layers {
				layers[digest] = true
			}
		}
	}
	if err := p.leaveRegions(ctx, goes, gone); err != nil {
		return fmt.Errorf("take versions out of their regions: %w", err)
	}
	needed := map[string]bool{}
	if err := p.catalog.Digests(ctx, func(ref, digest string) { needed[digest] = needed[digest] || !gone[ref] }); err != nil {
		return err
	}
	if err := p.store.Unlist(func(reference string) bool { return gone[strings.Replace(reference, ":", "@", 1)] }); err != nil {
		return err
	}
	for _, v := range goes {
		for _, a := range v.Artifacts {
			if needed[a.Digest] {
				continue
			}
			if err := p.store.Remove(a.Digest); err != nil {
				return err
			}
		}
	}
	if err := e.Drop(ctx, func(digest string) bool { return layers[digest] }, func(ref string) bool { return gone[ref] }); err != nil {
		return err
	}
	for _, v := range goes {
		if err := p.catalog.Forget(ctx, v.Image, v.Version.Version); err != nil {
			return err
		}
	}
	return nil
}

// leaveRegions removes the copies of versions from all regions: the indexes stop naming them, the
// copies go, and only then the rows that say where they are.
func (p *place) leaveRegions(ctx context.Context, goes []catalog.Verdict, gone map[string]bool) error {
	var images []string
	var copies []catalog.Placement
	for i := range goes {
		v := &goes[i].Version
		placements, err := p.catalog.Placements(ctx, v.Image, v.Version, "")
		if err != nil {
			return err
		}
		for _, pl := range placements {
			if p.Org.Region(pl.Region) == nil {
				return fmt.Errorf("%s: region %s is no longer in zygos.toml, and holds a copy at %s; put it back, or remove the copy", v.Ref(), pl.Region, pl.Location)
			}
		}
		if len(placements) > 0 && !slices.Contains(images, v.Image) {
			images = append(images, v.Image)
		}
		copies = append(copies, placements...)
	}
	for _, image := range images {
		if err := p.refreshWithout(ctx, image, gone); err != nil {
			return err
		}
	}
	left := map[string][]*definition.Region{}
	for _, pl := range copies {
		r := p.Org.Region(pl.Region)
		if err := region.Open(r, p.Path).Remove(ctx, pl.Location); err != nil {
			return err
		}
		if err := p.catalog.Unplace(ctx, pl.ID); err != nil {
			return err
		}
		left[pl.Image] = append(left[pl.Image], r)
	}
	for _, image := range images { // somebody may have published meanwhile
		if err := p.refresh(ctx, image, left[image]...); err != nil {
			return err
		}
	}
	return nil
}
