package retention_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/region/regiontest"
	"zygos/internal/retention"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
)

func all(string) bool { return true }

func verdicts(t *testing.T, s *session.Session) (goes, stays map[string]retention.Verdict) {
	list, err := retention.Verdicts(t.Context(), s, all)
	require.NoError(t, err)
	goes, stays = map[string]retention.Verdict{}, map[string]retention.Verdict{}
	for _, v := range list {
		if len(v.Why) == 0 {
			goes[v.Ref()] = v
		} else {
			stays[v.Ref()] = v
		}
	}
	return goes, stays
}

func tag(t *testing.T, s *session.Session, image, tag, version string) {
	yes := func(context.Context, *catalog.Catalog, *catalog.Move) error { return nil }
	require.NoError(t, s.Catalog.MoveTags(t.Context(), []catalog.Move{{Image: image, Tag: tag, Version: version, At: time.Now()}}, yes))
}

func place(t *testing.T, s *session.Session, v *catalog.Version, region string) {
	a := v.Artifacts[0]
	require.NoError(t, s.Catalog.Place(t.Context(), catalog.Placement{ID: "zy-" + v.Ref() + region, Image: v.Image, Version: v.Version,
		Region: region, Name: a.Name, Format: a.Format, Artifact: a.Digest, Location: "shelf:" + v.Ref(), Verified: time.Now(),
		VerifiedBy: "content"}))
}

// Whatever families, tags and placements there are, nothing goes that something keeps, and what stays has its parents.
func TestNothingNeededGoes(t *testing.T) {
	north := regiontest.New("north")
	regiontest.Use(t, north)
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 1))
		s := sessiontest.New(t, "[region.north]\nkind = \"shelf\"\n[keep]\nversions = 2\n", map[string]string{
			"a": sessiontest.Image("field-os"), "b": sessiontest.Image("a"),
			"c": sessiontest.Image("b")})
		made, parent, tagged, placed := map[string][]string{}, map[string]string{}, map[string]bool{}, map[string]string{}
		for i := range 18 {
			image := []string{"a", "b", "c"}[r.IntN(3)]
			on := "field-os@1"
			if up := map[string]string{"b": "a", "c": "b"}[image]; up != "" && len(made[up]) > 0 {
				on = made[up][r.IntN(len(made[up]))]
			} else if up != "" {
				continue
			}
			ref := fmt.Sprintf("%s@1.0.%d", image, i)
			v := sessiontest.Register(t, s, ref, on)
			made[image], parent[ref] = append(made[image], ref), on
			if r.IntN(5) == 0 {
				tag(t, s, image, fmt.Sprint("t", r.IntN(3)), v.Version)
			}
			if r.IntN(3) == 0 {
				place(t, s, v, "north")
				placed[image] = ref
			}
		}
		tags, err := s.Catalog.Tags(t.Context())
		require.NoError(t, err)
		for ref := range tags {
			tagged[ref] = true
		}
		goes, stays := verdicts(t, s)
		require.Len(t, stays, len(parent)-len(goes))
		for image, refs := range made {
			for _, ref := range refs[max(0, len(refs)-2):] {
				require.Contains(t, stays, ref, "the newest two of %s stay (seed %d)", image, seed)
			}
		}
		for ref := range goes {
			require.False(t, tagged[ref], "%s is tagged (seed %d)", ref, seed)
			image, _, _ := strings.Cut(ref, "@")
			require.NotEqual(t, placed[image], ref, "it is the newest in a region (seed %d)", seed)
		}
		for ref := range stays {
			if up := parent[ref]; up != "field-os@1" {
				require.Contains(t, stays, up, "%s was built on it (seed %d)", ref, seed)
			}
		}
	}
}

func TestVersionsStayForDaysAndOnceTagged(t *testing.T) {
	days := func(n int) func(*catalog.Version) {
		return func(v *catalog.Version) { v.Created = time.Now().AddDate(0, 0, -n) }
	}
	s := sessiontest.New(t, "[keep]\nversions = 1\ndays = 30\ntagged = true\n", map[string]string{
		"link": sessiontest.Image("field-os")})
	sessiontest.Register(t, s, "link@1.0.0", "field-os@1", days(90))
	sessiontest.Register(t, s, "link@1.0.1", "field-os@1", days(60))
	sessiontest.Register(t, s, "link@1.0.2", "field-os@1", days(10))
	sessiontest.Register(t, s, "link@1.0.3", "field-os@1")
	tag(t, s, "link", "stable", "1.0.1")
	tag(t, s, "link", "stable", "1.0.3")
	goes, stays := verdicts(t, s)
	require.Contains(t, goes, "link@1.0.0")
	require.Len(t, goes, 1)
	require.Contains(t, strings.Join(stays["link@1.0.1"].Why, " "), "once tagged")
	require.Contains(t, strings.Join(stays["link@1.0.2"].Why, " "), "30")
}

func TestWhatIsNotAskedForOrWrongStays(t *testing.T) {
	s := sessiontest.New(t, "[keep]\nversions = 1\n", map[string]string{"link": sessiontest.Image("field-os")})
	sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	sessiontest.Register(t, s, "link@1.0.1", "field-os@1")
	list, err := retention.Verdicts(t.Context(), s, func(string) bool { return false })
	require.NoError(t, err)
	for _, v := range list {
		require.Contains(t, v.Why, "it was not asked for")
	}
}

// Bytes that several versions have are freed when the last of them goes.
func TestFreedBytesAreCountedOnce(t *testing.T) {
	a := catalog.Artifact{Format: "tar", Bytes: 10}
	v := func(list ...catalog.Artifact) retention.Verdict {
		return retention.Verdict{Version: &catalog.Version{Artifacts: list}}
	}
	require.EqualValues(t, 10, retention.Freed([]retention.Verdict{v(a), v(a)}, nil))
	require.Zero(t, retention.Freed([]retention.Verdict{v(a)}, []retention.Verdict{v(a)}))
}

// What goes leaves its regions, the store's list and the catalog; a region that is no longer known stops all before anything is done.
func TestRemovedVersionsLeaveNothing(t *testing.T) {
	north := regiontest.New("north")
	regiontest.Use(t, north)
	s := sessiontest.New(t, "[region.north]\nkind = \"shelf\"\n[keep]\nversions = 1\n",
		map[string]string{"link": sessiontest.Image("field-os")})
	old := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	fresh := sessiontest.Register(t, s, "link@1.0.1", "field-os@1")
	for _, v := range []*catalog.Version{old, fresh} {
		place(t, s, v, "north")
		north.Things["shelf:"+v.Ref()] = []byte(v.Ref())
	}
	north.Things["link/1.0.0/manifest.json"], north.Things["link/1.0.0/other.json"] = []byte("{}"), []byte("{}")
	list, err := retention.Verdicts(t.Context(), s, all)
	require.NoError(t, err)
	goes := []retention.Verdict{}
	for _, v := range list {
		if len(v.Why) == 0 {
			goes = append(goes, v)
		}
	}
	require.Len(t, goes, 1)
	var told []string
	n, err := retention.Remove(t.Context(), s, goes, func(doing string) { told = append(told, doing) })
	require.NoError(t, err)
	require.Equal(t, 1, n)
	require.Contains(t, told, "remove copies from regions, 1 of 1")
	require.NotContains(t, north.Things, "shelf:link@1.0.0")
	require.NotContains(t, north.Things, "link/1.0.0/manifest.json")
	require.NotContains(t, north.Things, "link/1.0.0/other.json", "all documents of a version go with it")
	require.Contains(t, north.Things, "shelf:link@1.0.1")
	require.Contains(t, string(north.Things["index.json"]), "1.0.1")
	require.NotContains(t, string(north.Things["index.json"]), "1.0.0")
	has, err := s.Catalog.Has(t.Context(), "link", "1.0.0")
	require.NoError(t, err)
	require.False(t, has)

	place(t, s, fresh, "gone")
	_, err = retention.Remove(t.Context(), s, []retention.Verdict{{Version: fresh}}, func(string) {})
	require.ErrorContains(t, err, "region gone is no longer in zygos.toml, and holds a copy at shelf:link@1.0.1")
	require.ErrorContains(t, err, "Nothing was removed")
}

func TestWhatMayGoAndWhy(t *testing.T) {
	old := time.Now().Add(-100 * 24 * time.Hour)
	version := func(image, number, base, baseVersion string, tags ...string) catalog.Version {
		return catalog.Version{Image: image, Version: number, BaseName: base, BaseVersion: baseVersion, BaseImage: base == "parent",
			Created: old, Tags: tags}
	}
	versions := []catalog.Version{
		version("child", "1.0.3", "parent", "1.0.1"), version("child", "1.0.2", "parent", "1.0.0"),
		version("child", "1.0.1", "parent", "1.0.0", "stable"), version("child", "1.0.0", "os", "1"),
		version("other", "1.0.0", "os", "1"),
		version("parent", "1.0.2", "os", "1"), version("parent", "1.0.1", "os", "1"), version("parent", "1.0.0", "os", "1"),
		version("parent", "0.9.0", "os", "1"), version("parent", "0.8.0", "os", "1"),
	}
	versions[3].Recall = &catalog.Recall{Since: old}
	held := []catalog.Held{{Region: "north", Image: "child", Version: "1.0.0"}, {Region: "north", Image: "child", Version: "1.0.2"}}
	running := []catalog.Build{{ID: "b-1", Base: "parent@0.9.0"}}
	why := map[string]string{}
	for _, v := range retention.Prunable(retention.Facts{Versions: versions, Held: held, Running: running,
		Once:  map[string]bool{"other@1.0.0": true, "parent@0.8.0": true},
		Asked: func(string) string { return "" }, Keep: func(image string) retention.Policy {
			if image == "other" {
				return retention.Policy{}
			}
			return retention.Policy{Days: 90, Tagged: true}
		}}, time.Now()) {
		why[v.Ref()] = strings.Join(v.Why, "; ")
	}
	require.Equal(t, map[string]string{"child@1.0.3": "the newest of the image", "child@1.0.2": "the newest in north",
		"child@1.0.1": "tagged stable", "child@1.0.0": "",
		"other@1.0.0": "no [keep] says how many stay", "parent@1.0.2": "the newest of the image", "parent@1.0.1": "child@1.0.3 is built on it",
		"parent@1.0.0": "child@1.0.2 is built on it",
		"parent@0.9.0": "build b-1 starts from it", "parent@0.8.0": "once tagged"}, why)
}
