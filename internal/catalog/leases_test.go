package catalog_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/digest"
)

// Leases are taken all or none, by one holder, and kept by its beats.
func TestLeasesAreHeldByOne(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, again func() *catalog.Catalog) {
		other := again()
		alive := func(*catalog.Lease) bool { return false }
		take := func(c *catalog.Catalog, holder string, dead func(*catalog.Lease) bool, names ...string) []catalog.Lease {
			var list []catalog.Lease
			for _, name := range names {
				list = append(list, catalog.Lease{Name: name, Holder: holder, Place: "p", Who: "me", Host: "h", Doing: "publish"})
			}
			held, err := c.TakeLeases(t.Context(), list, dead)
			require.NoError(t, err)
			return held
		}
		require.Empty(t, take(c, "a", alive, "x", "y"))
		require.Empty(t, take(c, "a", alive, "x"), "its own")
		held := take(other, "b", alive, "z", "y")
		require.Len(t, held, 1)
		require.Equal(t, "publish", held[0].Doing)
		require.Less(t, held[0].Quiet, time.Minute)
		require.Empty(t, take(other, "c", alive, "z"), "none was taken")
		n, err := c.BeatLeases(t.Context(), "a")
		require.NoError(t, err)
		require.EqualValues(t, 2, n)
		require.Empty(t, take(other, "b", func(*catalog.Lease) bool { return true }, "y"), "of one that is dead")
		n, err = c.BeatLeases(t.Context(), "a")
		require.NoError(t, err)
		require.EqualValues(t, 1, n, "it hears that one is lost")
		require.NoError(t, c.DropLeases(t.Context(), "a"))
		require.Empty(t, take(other, "c", alive, "x"))
		require.Len(t, take(other, "c", alive, "y"), 1)
	})
}

// What somebody typed is cleaned when it is read; the name of an artifact is taken once, in words.
func TestTextOfOthersIsCleaned(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0")
		require.NoError(t, c.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.0.0", Why: "a \x1b[31mhole\n", Who: "me", At: moment,
			Since: moment}))
		recalled, err := c.Recalled(t.Context())
		require.NoError(t, err)
		require.Equal(t, `a \x1b[31mhole\n`, recalled["a@1.0.0"].Why)
		register(t, c, "a", "1.0.1")
		more := catalog.Artifact{Format: "raw", Digest: digest.Of(nil), Bytes: 1}
		require.NoError(t, c.AddArtifact(t.Context(), "a", "1.0.1", more))
		require.ErrorContains(t, c.AddArtifact(t.Context(), "a", "1.0.1", more), `a@1.0.1 has an artifact "raw" already`)
	})
}
