package rescue_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/region"
	"zygos/internal/region/regiontest"
	"zygos/internal/rescue"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
)

// write keeps the record of a version, changed.
func write(t *testing.T, s *session.Session, v *catalog.Version, change func(*record.Record)) {
	id, err := s.Catalog.ID(t.Context())
	require.NoError(t, err)
	r := &record.Record{Schema: record.Schema, Build: v.Build, Catalog: id, Version: v, Plan: &plan.Plan{Image: v.Image, Version: v.Version,
		Base: plan.Base{Name: v.BaseName, Version: v.BaseVersion, Image: v.BaseImage}}}
	change(r)
	text, err := json.Marshal(r)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(s.Dir.Build(v.Build, ""), 0o755))
	require.NoError(t, os.WriteFile(s.Dir.Record(v.Build), text, 0o600))
}

func same(*record.Record) {}

// lost is a published, tagged and recalled family, whose catalog is lost.
func lost(t *testing.T) (*session.Session, map[string]region.Region, *regiontest.Shelf) {
	north := regiontest.New("north")
	regiontest.Use(t, north)
	s := sessiontest.New(t, "[region.north]\nkind = \"shelf\"\n", map[string]string{
		"link": sessiontest.Image("field-os", "[publish]\nregions = [\"north\"]\n"), "child": sessiontest.Image("link")})
	for _, ref := range [][2]string{{"link@1.0.0", "field-os@1"}, {"link@1.0.1", "field-os@1"}, {"child@1.0.0", "link@1.0.0"}} {
		v := sessiontest.Register(t, s, ref[0], ref[1])
		write(t, s, v, same)
		if v.Image == "link" {
			p := publish.Publication{Session: s, Version: v, Watch: func(record.Delivery) {}, RegionProgress: func(string, string, int64, int64) {}}
			var err error
			p.Regions, err = publish.Regions(s, v, nil)
			require.NoError(t, err)
			require.NoError(t, publish.Incomplete(v, p.Place(t.Context())))
		}
	}
	require.NoError(t, s.Catalog.Recall(t.Context(), catalog.Recall{Image: "link", Version: "1.0.0", Why: "a hole", Who: "somebody",
		At: time.Now(), Since: time.Now()}))
	require.NoError(t, publish.Refresh(t.Context(), s, "link"))
	return s, map[string]region.Region{"north": north}, north
}

func rebuild(t *testing.T, s *session.Session, regions map[string]region.Region) (*catalog.Catalog, *rescue.Result) {
	into, err := catalog.Open(t.Context(), filepath.Join(t.TempDir(), "catalog.db"), "")
	require.NoError(t, err)
	t.Cleanup(func() { into.Close() })
	found, err := rescue.Rebuild(t.Context(), into, s.Dir, regions)
	require.NoError(t, err)
	return into, found
}

func TestLostCatalogComesBackFromRecordsAndIndexes(t *testing.T) {
	s, regions, _ := lost(t)
	into, found := rebuild(t, s, regions)
	require.Empty(t, found.Skipped)
	require.Equal(t, rescue.Result{Versions: 3, Placements: 2, Recalls: 1}, *found)
	was, err := s.Catalog.ID(t.Context())
	require.NoError(t, err)
	now, err := into.ID(t.Context())
	require.NoError(t, err)
	require.Equal(t, was, now, "its regions know it")
	versions, err := into.Versions(t.Context(), "child")
	require.NoError(t, err)
	require.True(t, versions[0].BaseImage)
	recalled, err := into.Recalled(t.Context())
	require.NoError(t, err)
	require.Equal(t, "a hole", recalled["link@1.0.0"].Why)
	require.Nil(t, recalled["child@1.0.0"])
}

// Records and indexes are not believed further than they can be: each that is passed over is told.
func TestWhatCannotBeBelievedIsPassedOver(t *testing.T) {
	s, regions, north := lost(t)
	v := sessiontest.Register(t, s, "link@1.0.2", "field-os@1")
	write(t, s, v, func(r *record.Record) { r.Version.Build = "b-other" })
	v = sessiontest.Register(t, s, "link@1.0.3", "field-os@1")
	write(t, s, v, func(r *record.Record) { r.Version.Image = "../../etc" })
	require.NoError(t, os.MkdirAll(s.Dir.Build("b-half", ""), 0o755))
	require.NoError(t, os.WriteFile(s.Dir.PendingRecord("b-half"), []byte("{}"), 0o600))
	require.NoError(t, os.MkdirAll(s.Dir.Build("b-failed", ""), 0o755)) // it made no version
	_, found := rebuild(t, s, regions)
	require.Equal(t, 3, found.Versions)
	require.Len(t, found.Skipped, 3, "%v", found.Skipped)

	north.Things["index.json"] = []byte("{")
	_, found = rebuild(t, s, regions)
	require.Contains(t, found.Skipped[len(found.Skipped)-1], "the index of north cannot be read")
	north.Things["zygos-owner.json"] = []byte(`{"schema":"zygos.owner/1","catalog":"OTHER","organisation":"others"}`)
	_, found = rebuild(t, s, regions)
	require.Contains(t, found.Skipped[len(found.Skipped)-1], "the region north belongs to the catalog OTHER")
}

// Of two records of one number none counts: nobody knows which of them it was.
func TestTwoRecordsOfOneNumber(t *testing.T) {
	s, regions, _ := lost(t)
	versions, err := s.Catalog.Versions(t.Context(), "link")
	require.NoError(t, err)
	twin := versions[0]
	twin.Build = "b-twin"
	write(t, s, &twin, same)
	_, found := rebuild(t, s, regions)
	require.Equal(t, 2, found.Versions)
	require.NotEmpty(t, found.Skipped)
}
