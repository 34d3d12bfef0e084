package catalog_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/definition"
)

var moment = time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)

func open(t *testing.T) *catalog.Catalog {
	c, err := catalog.Open(t.Context(), filepath.Join(t.TempDir(), "with space & ?", "catalog.db"))
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func register(t *testing.T, c *catalog.Catalog, image string, versions ...string) {
	for _, v := range versions {
		id := "b-" + image + v
		require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: id, Image: image, Version: v, Base: "x@1", Who: "me", Started: moment}))
		require.NoError(t, c.Register(t.Context(), catalog.Version{Image: image, Version: v, Build: id, Created: moment, Trees: []catalog.Tree{{Layers: []string{"l1"}}},
			Labels: map[string]string{"owner": "me"}, Artifacts: []catalog.Artifact{{Format: "tar", Digest: "sha256:" + v, Bytes: 7}}}))
	}
}

func TestNextFreeNumberAndRefusals(t *testing.T) {
	c := open(t)
	next := func(series, version string) string {
		v, err := c.NextVersion(t.Context(), "a", series, version)
		if err != nil {
			require.IsType(t, &catalog.TakenError{}, err)
			return err.Error()
		}
		return v
	}
	require.Equal(t, "2.3.0", next("2.3", ""))
	register(t, c, "a", "2.3.0", "2.3.9", "2.3.10", "2.10.0")
	register(t, c, "other", "2.3.50")
	require.Equal(t, "2.3.11", next("2.3", ""))
	require.Equal(t, "2.4.0", next("2.4", ""))
	require.Equal(t, "2.3.12", next("", "2.3.12"))
	require.Equal(t, "1.0.0", next("", "1.0.0"), "a lower series may get versions")
	require.Contains(t, next("", "2.3.10"), "a 2.3.10 exists already; versions never change. The next free number of its series is 2.3.11")
	require.Contains(t, next("", "2.3.4"), "not above 2.3.10")
}

func TestReferences(t *testing.T) {
	c := open(t)
	register(t, c, "a", "2.3.9", "2.3.10", "2.2.5")
	_, err := c.SetTags(t.Context(), "a", "2.3.9", []string{"stable"}, "me", moment)
	require.NoError(t, err)
	for ref, want := range map[string]string{"a": "2.3.10", "a@2.3": "2.3.10", "a@2.2": "2.2.5", "a@2.3.9": "2.3.9", "a@stable": "2.3.9"} {
		r, err := definition.ParseRef(ref)
		require.NoError(t, err)
		v, err := c.Resolve(t.Context(), r)
		require.NoError(t, err)
		require.Equal(t, want, v.Version, ref)
	}
	for ref, says := range map[string]string{"a@stabel": "did you mean a@stable?", "a@9.9.9": "there are 2.3.10", "b": "has no version yet; build it first: zygos build b"} {
		r, err := definition.ParseRef(ref)
		require.NoError(t, err)
		_, err = c.Resolve(t.Context(), r)
		require.ErrorContains(t, err, says)
	}
}

func TestVersionComesBackWhole(t *testing.T) {
	c := open(t)
	register(t, c, "a", "1.0.0")
	_, err := c.SetTags(t.Context(), "a", "1.0.0", []string{"b", "a"}, "me", moment)
	require.NoError(t, err)
	list, err := c.Versions(t.Context(), "")
	require.NoError(t, err)
	require.Equal(t, []catalog.Version{{Image: "a", Version: "1.0.0", Build: "b-a1.0.0", Created: moment, Trees: []catalog.Tree{{Layers: []string{"l1"}}}, Labels: map[string]string{"owner": "me"},
		Artifacts: []catalog.Artifact{{Format: "tar", Digest: "sha256:1.0.0", Bytes: 7}}, Tags: []string{"a", "b"}}}, list)
	builds, err := c.Builds(t.Context(), "a")
	require.NoError(t, err)
	require.Equal(t, catalog.Registered, builds[0].State)
}

func TestVersionIsRegisteredOnceOrNotAtAll(t *testing.T) {
	c := open(t)
	register(t, c, "a", "1.0.0")
	err := c.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.0", Build: "b-a1.0.0"})
	require.ErrorContains(t, err, "register a@1.0.0")
	err = c.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.1", Build: "b-a1.0.0", Artifacts: []catalog.Artifact{{Format: "tar"}, {Format: "tar"}}})
	require.Error(t, err)
	list, err := c.Versions(t.Context(), "a")
	require.NoError(t, err)
	require.Len(t, list, 1, "the version of a failed registration is not there")
}

func TestTagMovesAreKept(t *testing.T) {
	c := open(t)
	register(t, c, "a", "1.0.0", "1.0.1")
	for _, v := range []string{"1.0.0", "1.0.1", "1.0.1"} {
		_, err := c.SetTags(t.Context(), "a", v, []string{"stable"}, "me", moment)
		require.NoError(t, err)
	}
	moves, err := c.Moves(t.Context(), "a")
	require.NoError(t, err)
	require.Len(t, moves, 2, "a tag that points there already does not move")
	require.Equal(t, catalog.Move{Tag: "stable", Was: "1.0.0", Version: "1.0.1", Who: "me", At: moment}, moves[0])
	_, err = c.SetTags(t.Context(), "a", "9.9.9", []string{"x", "y"}, "me", moment)
	require.Error(t, err)
}

func TestPlacementsAreRecordedOnce(t *testing.T) {
	c := open(t)
	register(t, c, "a", "1.0.0")
	p := catalog.Placement{ID: "zy-1", Image: "a", Version: "1.0.0", Region: "r", Format: "tar", Artifact: "sha256:x", Location: "/x", Verified: moment}
	require.NoError(t, c.Place(t.Context(), p))
	p.Verified = moment.Add(time.Hour)
	require.NoError(t, c.Place(t.Context(), p))
	list, err := c.Placements(t.Context(), "a", "", "r")
	require.NoError(t, err)
	require.Equal(t, []catalog.Placement{p}, list)
	list, err = c.Placements(t.Context(), "", "", "other")
	require.NoError(t, err)
	require.Empty(t, list)
}

func TestTwoProcessesShareACatalog(t *testing.T) {
	file := filepath.Join(t.TempDir(), "catalog.db")
	a, err := catalog.Open(t.Context(), file)
	require.NoError(t, err)
	defer a.Close()
	b, err := catalog.Open(t.Context(), file)
	require.NoError(t, err)
	defer b.Close()
	done := make(chan error, 2)
	for i, c := range []*catalog.Catalog{a, b} {
		go func() {
			var err error
			for n := range 30 {
				id := string(rune('a'+i)) + string(rune('A'+n))
				if e := c.StartBuild(t.Context(), catalog.Build{ID: id, Image: id, Started: moment}); e != nil {
					err = e
				}
			}
			done <- err
		}()
	}
	require.NoError(t, <-done)
	require.NoError(t, <-done)
	list, err := a.Builds(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, list, 60)
}

func TestCatalogOfANewerProgramIsLeftAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "catalog.db")
	c, err := catalog.Open(t.Context(), file)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = catalog.Open(t.Context(), file)
	require.ErrorContains(t, err, "written by a newer Zygos (schema 99, this one knows 2)")
	require.NoError(t, os.WriteFile(file, []byte("this is no database, though it is long enough to be read as one"), 0o600))
	_, err = catalog.Open(t.Context(), file)
	require.ErrorContains(t, err, "catalog "+file)
}
