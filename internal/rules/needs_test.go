package rules_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/rules"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
)

const twoFolders = "[region.north]\nkind = \"folder\"\npath = \"north\"\n[region.south]\nkind = \"folder\"\npath = \"south\"\n"

// ask moves a tag that has needs to a version.
func ask(t *testing.T, s *session.Session, v *catalog.Version, now time.Time) error {
	move := catalog.Move{Image: v.Image, Tag: "stable", Version: v.Version, At: now}
	return rules.Mover(s, func() time.Time { return now })(t.Context(), s.Catalog, &move)
}

func needs(t *testing.T, list, publish string) *session.Session {
	return sessiontest.New(t, twoFolders+"[tag.stable]\nneeds = ["+list+"]\n", map[string]string{"link": sessiontest.Image("field-os",
		publish)})
}

// place records that an artifact is in a region, verified in some way.
func place(t *testing.T, s *session.Session, v *catalog.Version, region, by string) {
	a := v.Artifacts[0]
	require.NoError(t, s.Catalog.Place(t.Context(), catalog.Placement{ID: "zy-" + region, Image: v.Image, Version: v.Version, Region: region,
		Name: a.Name, Format: a.Format, Artifact: a.Digest, Location: "/" + region, Verified: time.Now(), VerifiedBy: by}))
}

func TestRegionsAreNeededWhole(t *testing.T) {
	s := needs(t, `"regions"`, "[publish]\nregions = [\"north\", \"south\"]\n")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	require.EqualError(t, ask(t, s, v, time.Now()), "link@1.0.0 may not become stable: [tag.stable] in zygos.toml needs more\n"+
		"  regions: it is not complete in north, south; zygos publish link@1.0.0")
	place(t, s, v, "north", "content")
	require.ErrorContains(t, ask(t, s, v, time.Now()), "it is not complete in south")
	place(t, s, v, "south", "size")
	require.NoError(t, ask(t, s, v, time.Now()))
}

func TestContentIsNeededAndNotSizes(t *testing.T) {
	s := needs(t, `"regions:content"`, "[publish]\nregions = [\"north\"]\n")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	place(t, s, v, "north", "size")
	require.ErrorContains(t, ask(t, s, v, time.Now()), "nothing but sizes was verified in north; zygos verify link@1.0.0 --deep --repair")
	place(t, s, v, "north", "content")
	require.NoError(t, ask(t, s, v, time.Now()))
}

func TestRegionsNeedRegions(t *testing.T) {
	s := needs(t, `"regions"`, "")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	require.ErrorContains(t, ask(t, s, v, time.Now()), "link names no regions; add [publish] regions = […] to images/link.toml")
	// A region that takes no artifact of a version holds nothing of it.
	s = sessiontest.New(t,
		twoFolders+"[region.disks]\nkind = \"folder\"\npath = \"d\"\nformats = [\"qcow2\"]\n[tag.stable]\nneeds = [\"regions\"]\n",
		map[string]string{"link": sessiontest.Image("field-os", "[publish]\nregions = [\"disks\"]\n")})
	v = sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	require.ErrorContains(t, ask(t, s, v, time.Now()), "it is not complete in disks")
}

func TestAgeIsNeeded(t *testing.T) {
	s := needs(t, `"age:24h"`, "")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	require.Regexp(t, `age:24h: link@1\.0\.0 is 2 h 0 min old; wait 22 h 0 min`, ask(t, s, v, v.Created.Add(2*time.Hour)).Error())
	require.NoError(t, ask(t, s, v, v.Created.Add(24*time.Hour)))
}

func TestAnotherTagIsNeeded(t *testing.T) {
	s := needs(t, `"from:candidate"`, "")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	require.ErrorContains(t, ask(t, s, v, time.Now()), "link@1.0.0 was never candidate; zygos tag link@1.0.0 candidate")
	yes := func(context.Context, *catalog.Catalog, *catalog.Move) error { return nil }
	other := sessiontest.Register(t, s, "link@1.0.1", "field-os@1")
	for _, m := range []*catalog.Version{v, other} {
		require.NoError(t, s.Catalog.MoveTags(t.Context(), []catalog.Move{{Image: "link", Tag: "candidate", Version: m.Version, At: time.Now()}},
			yes))
	}
	require.NoError(t, ask(t, s, v, time.Now()), "once is enough")
}

func TestChecksAreNeeded(t *testing.T) {
	s := needs(t, `"checks:7d"`, "")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	at := time.Now()
	judged := func(j catalog.Judgement) error {
		j.Image, j.Version, j.At, j.How = v.Image, v.Version, at, "test"
		require.NoError(t, s.Catalog.Judge(t.Context(), j))
		return ask(t, s, v, at)
	}
	require.ErrorContains(t, ask(t, s, v, at), "link@1.0.0 was never judged; zygos test link@1.0.0")
	at = at.Add(time.Second)
	require.ErrorContains(t, judged(catalog.Judgement{Passed: 2, Failed: 1}), "1 of 3 checks failed")
	at = at.Add(time.Second)
	require.ErrorContains(t, judged(catalog.Judgement{Warned: 1, Skipped: 2}), "no check passed")
	at = at.Add(time.Second)
	require.NoError(t, judged(catalog.Judgement{Passed: 1}))
	require.ErrorContains(t, ask(t, s, v, at.Add(8*24*time.Hour)), "was last judged 8 days ago; zygos test link@1.0.0")
}

// All that is unmet is told at once.
func TestAllThatIsUnmetIsTold(t *testing.T) {
	s := needs(t, `"age:24h", "from:candidate", "checks"`, "")
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	err := ask(t, s, v, v.Created.Add(time.Hour))
	for _, words := range []string{"age:24h: ", "from:candidate: ", "checks: "} {
		require.ErrorContains(t, err, words)
	}
	require.ErrorAs(t, err, new(*rules.Error))
}
