package publish_test

import (
	"context"
	"errors"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/digest"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/region"
	"zygos/internal/region/regiontest"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
	"zygos/internal/state"
)

const regions = "[region.north]\nkind = \"shelf\"\n[region.south]\nkind = \"shelf\"\n"

// stock is a session with a version, and two regions in memory.
func stock(t *testing.T) (s *session.Session, v *catalog.Version, north, south *regiontest.Shelf) {
	north, south = regiontest.New("north"), regiontest.New("south")
	regiontest.Use(t, north, south)
	s = sessiontest.New(t, regions, map[string]string{"link": sessiontest.Image("field-os", "[publish]\nregions = [\"north\", \"south\"]\n")})
	return s, sessiontest.Register(t, s, "link@1.0.0", "field-os@1"), north, south
}

// publication is the way of a version to its regions; states are what was told of each region.
func publication(t *testing.T, s *session.Session, v *catalog.Version) (p *publish.Publication, states map[string][]string) {
	to, err := publish.Regions(s, v, nil)
	require.NoError(t, err)
	states = map[string][]string{}
	var mu sync.Mutex
	return &publish.Publication{Session: s, Version: v, Regions: to, Progress: func(string, int64, int64) {},
		RegionProgress: func(string, string, int64, int64) {},
		Watch: func(d record.Delivery) { // from several goroutines
			mu.Lock()
			defer mu.Unlock()
			states[d.Region] = append(states[d.Region], d.State)
		}}, states
}

func does(t *testing.T, p *publish.Publication) map[string]string {
	list, err := p.Plan(t.Context())
	require.NoError(t, err)
	words := map[string]string{}
	for _, one := range list {
		words[one.Region] = one.Does + ": " + one.Why
	}
	return words
}

func TestPlanSaysWhatPlaceWouldDo(t *testing.T) {
	s, v, north, _ := stock(t)
	p, _ := publication(t, s, v)
	require.Equal(t, map[string]string{"north": "copy: it was not placed there yet", "south": "copy: it was not placed there yet"}, does(t, p))
	require.Empty(t, north.Things, "a plan does nothing")
	require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
	require.Contains(t, does(t, p)["north"], "verify: it is there, as north/")
	at := "shelf:link-1.0.0.tar.zst"
	require.Contains(t, north.Things, at)
	north.Things[at] = []byte("something that is longer")
	require.Equal(t, "copy: what lies there is something else", does(t, p)["north"])
	delete(north.Things, at)
	require.Contains(t, does(t, p)["north"], "copy: it is not there any more")
}

func TestPlacedIsCopiedOnce(t *testing.T) {
	s, v, north, south := stock(t)
	p, states := publication(t, s, v)
	north.Fails = []error{&region.AgainError{Err: errors.New("busy"), After: time.Millisecond}}
	done := p.Place(t.Context())
	require.NoError(t, publish.Incomplete(v, done))
	require.Equal(t, []string{publish.Again, region.Copying, region.Done}, states["north"])
	require.Equal(t, []string{region.Copying, region.Done}, states["south"])
	for _, d := range done {
		require.True(t, d.Copied)
	}
	for _, d := range p.Place(t.Context()) {
		require.False(t, d.Copied, "it is there")
	}
	require.Equal(t, 2, south.Asked)
	placements, err := s.Catalog.Placements(t.Context(), "link", "1.0.0", "")
	require.NoError(t, err)
	require.Len(t, placements, 2)
}

// A region that fails does not hold up the others, and what it says comes back.
func TestFailedRegionIsToldAndLeftUnderway(t *testing.T) {
	s, v, north, _ := stock(t)
	p, _ := publication(t, s, v)
	north.Fails = []error{errors.New("the shelf broke")}
	err := publish.Incomplete(v, p.Place(t.Context()))
	require.ErrorAs(t, err, new(*publish.IncompleteError))
	require.ErrorContains(t, err, "link@1.0.0 is not complete in north; what else was placed stays")
	require.ErrorContains(t, err, "north tar: the shelf broke")
	require.Equal(t, "copy: it failed: the shelf broke", does(t, p)["north"])
	require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
}

// What a region says that it lost is forgotten where it was recorded.
func TestWhatIsAbsentIsNoPlacement(t *testing.T) {
	s, v, north, _ := stock(t)
	p, _ := publication(t, s, v)
	require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
	north.Fails = []error{region.ErrAbsent}
	require.Error(t, publish.Incomplete(v, p.Place(t.Context())))
	placements, err := s.Catalog.Placements(t.Context(), "link", "1.0.0", "north")
	require.NoError(t, err)
	require.Empty(t, placements)
}

func TestDocumentsNameWhatIsThere(t *testing.T) {
	s, v, north, south := stock(t)
	p, _ := publication(t, s, v)
	south.Fails = []error{errors.New("broken")}
	p.Place(t.Context())
	require.NoError(t, publish.WriteManifest(t.Context(), s, v, p.Regions))
	require.NoError(t, publish.Refresh(t.Context(), s, "link", p.Regions...))
	m, err := manifest.Read(north.Things["link/1.0.0/manifest.json"])
	require.NoError(t, err)
	require.Contains(t, m.Regions, "north")
	require.NotContains(t, m.Regions, "south", "it names only what was verified")
	require.NotContains(t, south.Things, "link/1.0.0/manifest.json")
	require.Contains(t, string(north.Things["index.json"]), `"version":"1.0.0"`)
	require.Contains(t, string(north.Things["zygos-owner.json"]), "ebbline")

	done, err := p.Remove(t.Context())
	require.NoError(t, err)
	require.Len(t, done, 1)
	require.NotContains(t, north.Things, "link/1.0.0/manifest.json")
	require.NotContains(t, string(north.Things["index.json"]), `"version":"1.0.0"`)
}

// A region of another catalog is not written to until it is claimed.
func TestRegionOfAnotherCatalog(t *testing.T) {
	s, v, north, _ := stock(t)
	north.Things[region.OwnerName] = []byte(`{"schema":"zygos.owner/1","catalog":"OTHER","organisation":"others"}`)
	p, _ := publication(t, s, v)
	require.ErrorContains(t, publish.Incomplete(v, p.Place(t.Context())), "others")
	require.NotContains(t, north.Things, "shelf:link-1.0.0.tar.zst")
	was, err := publish.Claim(t.Context(), s, s.Org.Region("north"))
	require.NoError(t, err)
	require.Equal(t, "OTHER", was.Catalog)
	require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
}

func TestVerifyFindsAndMends(t *testing.T) {
	s, v, north, _ := stock(t)
	p, _ := publication(t, s, v)
	require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
	require.NoError(t, publish.WriteManifest(t.Context(), s, v, p.Regions))
	require.NoError(t, publish.Refresh(t.Context(), s, "link", p.Regions...))
	look := func(deep bool) (list []publish.Found, c publish.Verification) {
		c = publish.Verification{Session: s, Regions: p.Regions, Deep: deep, Progress: func(string, int64, int64) {},
			RegionProgress: func(string, string, int64, int64) {}, Who: "somebody"}
		list, err := c.Find(t.Context())
		require.NoError(t, err)
		return list, c
	}
	list, _ := look(true)
	require.Equal(t, publish.Tally{Sound: 2, Regions: 2}, publish.Count(list))

	at := "shelf:link-1.0.0.tar.zst"
	north.Things[at] = []byte("link@1.0.X") // of the same size
	list, _ = look(false)
	require.Zero(t, publish.Count(list).Broken, "sizes alone say nothing of it")
	list, c := look(true)
	require.Equal(t, 1, publish.Count(list).Mends)
	require.NoError(t, c.Repair(t.Context(), list))
	require.Equal(t, "link@1.0.0", string(north.Things[at]))

	north.Things["shelf:stranger"] = []byte("x")
	north.Things["index.json"] = []byte(`{}`)
	list, c = look(true)
	n := publish.Count(list)
	require.Equal(t, 1, n.Foreign)
	require.Equal(t, 1, n.Mends, "the index")
	require.NoError(t, c.Repair(t.Context(), list))
	list, _ = look(true)
	require.Equal(t, publish.Tally{Sound: 2, Regions: 2, Foreign: 1}, publish.Count(list))
	require.Contains(t, north.Things, "shelf:stranger", "what others placed stays")
}

// An artifact that the store lost is taken from another region, and not believed unread.
func TestArtifactComesFromAnotherRegion(t *testing.T) {
	s, v, north, south := stock(t)
	p, _ := publication(t, s, v)
	p.Regions = p.Regions[:1]
	require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
	require.NoError(t, os.Remove(s.Store.Path(v.Artifacts[0].Digest)))
	all, _ := publication(t, s, v)
	at := "shelf:link-1.0.0.tar.zst"
	good := north.Things[at]
	north.Things[at] = []byte("link@9.9.9")
	require.ErrorContains(t, publish.Incomplete(v, all.Place(t.Context())), "south")
	require.NotContains(t, south.Things, at)
	north.Things[at] = good
	require.NoError(t, publish.Incomplete(v, all.Place(t.Context())))
	require.Equal(t, v.Artifacts[0].Digest, digest.Of(south.Things[at]))
}

// Who places, removes or repairs the same waits for its turn.
func TestOneChangerOfAPlacement(t *testing.T) {
	s, v, _, _ := stock(t)
	p, _ := publication(t, s, v)
	waiter := func(wait func(string, int64, int64)) (context.Context, func(), error) {
		return publish.Lease(t.Context(), s, waiterOf(wait), "link", "1.0.0", p.Regions)
	}
	_, release, err := waiter(func(string, int64, int64) {})
	require.NoError(t, err)
	told := make(chan string, 100)
	got := make(chan error, 1)
	go func() {
		_, free, err := waiter(func(doing string, _, _ int64) { told <- doing })
		if err == nil {
			free()
		}
		got <- err
	}()
	require.Contains(t, <-told, "wait for somebody on ")
	release()
	require.NoError(t, <-got)
}

func waiterOf(wait func(string, int64, int64)) state.Waiter {
	return state.Waiter{Who: "somebody", Doing: "publish", Wait: wait}
}
