// Package retention says which versions may go and why the others stay, and removes those that go.
package retention

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/publish"
	"zygos/internal/session"
	"zygos/internal/state"
	"zygos/internal/sweep"
)

// Verdicts judges all versions; of images that are not asked for all stay.
func Verdicts(ctx context.Context, s *session.Session, asked func(image string) bool) ([]Verdict, error) {
	versions, err := s.Catalog.Candidates(ctx)
	if err != nil {
		return nil, err
	}
	held, err := s.Catalog.Held(ctx)
	if err != nil {
		return nil, err
	}
	builds, err := s.Catalog.Running(ctx)
	if err != nil {
		return nil, err
	}
	keep, tagged := map[string]Policy{}, s.Org.Keep.Tagged
	for _, img := range s.Images {
		if img.Retention != nil {
			keep[img.Name], tagged = Policy(*img.Retention), tagged || img.Retention.Tagged
		}
	}
	var once map[string]bool
	if tagged { // else nobody asks
		if once, err = s.Catalog.OnceTagged(ctx); err != nil {
			return nil, err
		}
	}
	running := slices.DeleteFunc(builds, func(b catalog.Build) bool { return !s.Runs(&b) })
	why := func(image string) string {
		switch {
		case !asked(image):
			return "it was not asked for"
		case s.Wrong(image) != nil:
			return "the definition of the image is wrong, so how long versions stay is not known; zygos lint"
		}
		return ""
	}
	return Prunable(Facts{Versions: versions, Held: held, Running: running, Once: once, Asked: why, Keep: func(image string) Policy {
		if own, ok := keep[image]; ok {
			return own
		}
		return Policy(s.Org.Keep)
	}}, s.Catalog.Now()), nil
}

// Freed is how many bytes of artifacts go with versions, each counted once, none that another has.
func Freed(goes, stays []Verdict) (bytes int64) {
	seen := map[digest.Digest]bool{}
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

// Remove removes versions, and says how many; tell is told in words what it does. From the first step on
// nothing can come to need them; they go first where hosts find them, last their rows, so that what an
// interruption leaves is still known and goes next time. Their bytes are the next sweep's.
func Remove(ctx context.Context, s *session.Session, verdicts []Verdict,
	tell func(doing string)) (removed int, err error) {
	var versions []catalog.Version
	for _, v := range verdicts {
		versions = append(versions, *v.Version)
	}
	versions, err = s.Catalog.Whole(ctx, versions)
	if err != nil {
		return 0, err
	}
	if _, err := copies(ctx, s, versions); err != nil {
		return 0, err
	}
	goes, err := s.Catalog.Leave(ctx, versions, s.Runs)
	if err != nil {
		return 0, err
	}
	placed, err := copies(ctx, s, goes) // from now on there come no more
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
	if err := leaveRegions(ctx, s, s.Who, placed, tell); err != nil {
		return 0, fmt.Errorf("take versions out of their regions: %w", err)
	}
	tell("remove layers")
	err = s.Alone(ctx, func() error {
		if err := s.Store.Unlist(ctx, func(reference string) bool { return gone[strings.Replace(reference, ":", "@", 1)] }); err != nil {
			return err
		}
		return sweep.Layers(ctx, s.State, layers, func(ref string) bool { return gone[ref] })
	})
	if err != nil {
		return 0, err
	}
	for _, v := range goes { // children first
		if err := s.Catalog.Forget(ctx, v.Image, v.Version); err != nil {
			return removed, err
		}
		removed++
	}
	return removed, nil
}

// removeCopies removes the copies of one version from their regions, and then forgets them.
func removeCopies(ctx context.Context, s *session.Session, who string, copies []catalog.Placement, tell func(doing string)) error {
	var regions []*definition.Region
	for _, pl := range copies {
		if at := s.Org.Region(pl.Region); !slices.Contains(regions, at) {
			regions = append(regions, at)
		}
	}
	ctx, release, err := publish.Lease(ctx, s, state.Waiter{Who: who, Doing: "prune", Wait: func(doing string, _, _ int64) { tell(doing) }},
		copies[0].Image, copies[0].Version, regions)
	if err != nil {
		return err
	}
	defer release()
	for _, pl := range copies {
		err := publish.RemoveCopy(ctx, s, &pl)
		if err == nil {
			err = publish.Withdraw(ctx, s, s.Org.Region(pl.Region), pl.Image, pl.Version) // all of the version goes
		}
		if err == nil {
			err = s.Catalog.Unplace(ctx, pl)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// copies lists where versions are placed. All of these places must be known: nothing is begun that
// cannot be ended.
func copies(ctx context.Context, s *session.Session, versions []catalog.Version) (list []catalog.Placement, err error) {
	for i := range versions {
		v := &versions[i]
		placements, err := s.Catalog.Placements(ctx, v.Image, v.Version, "")
		if err != nil {
			return nil, err
		}
		for _, pl := range placements {
			if s.Org.Region(pl.Region) == nil {
				return nil, fmt.Errorf("%s: region %s is no longer in zygos.toml, and holds a copy at %s; put it back, or remove the copy. Nothing "+
					"was removed", v.Ref(), pl.Region, pl.Location)
			}
		}
		list = append(list, placements...)
	}
	return list, nil
}

// leaveRegions removes copies from all regions: the indexes stop naming them, the copies go, and only
// then the rows that say where they are.
func leaveRegions(ctx context.Context, s *session.Session, who string, placed []catalog.Placement, tell func(doing string)) error {
	left := map[string][]*definition.Region{} // by image
	for _, pl := range placed {
		if r := s.Org.Region(pl.Region); !slices.Contains(left[pl.Image], r) {
			left[pl.Image] = append(left[pl.Image], r)
		}
	}
	refresh := func() error {
		for _, image := range slices.Sorted(maps.Keys(left)) {
			if err := publish.Refresh(ctx, s, image, left[image]...); err != nil {
				return err
			}
		}
		return nil
	}
	if err := refresh(); err != nil {
		return err
	}
	done := 0
	for len(placed) > 0 {
		n := 1
		for n < len(placed) && placed[n].Image == placed[0].Image && placed[n].Version == placed[0].Version {
			n++
		}
		tell(fmt.Sprintf("remove copies from regions, %d of %d", done+1, done+len(placed)))
		if err := removeCopies(ctx, s, who, placed[:n], tell); err != nil {
			return err
		}
		placed, done = placed[n:], done+n
	}
	return refresh() // somebody may have published meanwhile
}
