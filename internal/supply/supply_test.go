package supply_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/plan"
	"zygos/internal/region/regiontest"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
	"zygos/internal/supply"
)

const at = "shelf:link-1.0.0.tar.zst"

// placed is a version that is in a region in memory.
func placed(t *testing.T) (*session.Session, *catalog.Version, *regiontest.Shelf, *catalog.Placement) {
	north := regiontest.New("north")
	regiontest.Use(t, north)
	s := sessiontest.New(t, "[region.north]\nkind = \"shelf\"\n", map[string]string{"link": sessiontest.Image("field-os")})
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	north.Things[at] = []byte("link@1.0.0")
	a := v.Artifacts[0]
	pl := catalog.Placement{ID: "zy-1", Image: "link", Version: "1.0.0", Region: "north", Name: a.Name, Format: a.Format, Artifact: a.Digest,
		Location: at, Verified: time.Now(), VerifiedBy: "content"}
	require.NoError(t, s.Catalog.Place(t.Context(), pl))
	return s, v, north, &pl
}

func silent(string, int64, int64) {}

func fetch(t *testing.T, s *session.Session, v *catalog.Version, pl *catalog.Placement, out string) (string, error) {
	return supply.Download(t.Context(), s, supply.Transfer{Version: v, Region: s.Org.Region("north"), Placement: pl,
		Bytes: v.Artifacts[0].Bytes,
		Out:   out}, silent)
}

func TestDownloadsAreVerifiedAndWhole(t *testing.T) {
	s, v, north, pl := placed(t)
	dir := t.TempDir()
	name, err := fetch(t, s, v, pl, dir)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "link-1.0.0.tar.zst"), name)
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, "link@1.0.0", string(text))
	_, err = fetch(t, s, v, pl, name)
	require.NoError(t, err, "it is there already")

	require.NoError(t, os.WriteFile(name, []byte("mine"), 0o600))
	_, err = fetch(t, s, v, pl, name)
	require.ErrorContains(t, err, "is there already, with other bytes; remove it or choose another name")

	north.Things[at] = []byte("link@1.0.X")
	_, err = fetch(t, s, v, pl, filepath.Join(dir, "other"))
	require.ErrorContains(t, err, "what came from north has the digest")
	require.NoFileExists(t, filepath.Join(dir, "other"))
	require.NoFileExists(t, filepath.Join(dir, "other.part"), "what is wrong is not gone on with")
	_, err = fetch(t, s, v, pl, filepath.Join(dir, "no", "folder"))
	require.ErrorContains(t, err, "make the folder first, or give --out another one")
}

func TestDownloadsGoOn(t *testing.T) {
	s, v, _, pl := placed(t)
	out := filepath.Join(t.TempDir(), "file")
	for _, had := range []string{"link@", "something else that is too long", "nonsense"} {
		require.NoError(t, os.WriteFile(out+".part", []byte(had), 0o600))
		_, err := fetch(t, s, v, pl, out)
		require.NoError(t, err, had)
		text, err := os.ReadFile(out)
		require.NoError(t, err)
		require.Equal(t, "link@1.0.0", string(text))
		require.NoError(t, os.Remove(out))
	}
}

func TestArtifactIsTakenFromWhereItIs(t *testing.T) {
	s, v, north, _ := placed(t)
	a := v.Artifacts[0]
	own, err := supply.Artifact(t.Context(), s, v, a, silent)
	require.NoError(t, err)
	require.Equal(t, s.Store.Path(a.Digest), own)
	require.NoError(t, os.Remove(own))
	north.Things[at] = []byte("link@1.0.X")
	_, err = supply.Artifact(t.Context(), s, v, a, silent)
	require.ErrorContains(t, err, "tar of link@1.0.0 cannot be had from region north")
	require.NoFileExists(t, own)
	north.Things[at] = []byte("link@1.0.0")
	_, err = supply.Artifact(t.Context(), s, v, a, silent)
	require.NoError(t, err)
	require.FileExists(t, own)
}

// A parent that another state built comes as its archive, and what it lacks is said.
func TestParentOfAnotherState(t *testing.T) {
	s, v, _, _ := placed(t)
	_, err := supply.Bring(t.Context(), s, plan.Base{Name: "link", Version: "1.0.0", Image: true}, "", t.TempDir(), silent)
	require.ErrorContains(t, err, "the layers of link@1.0.0 are not in this state")
	require.ErrorContains(t, err, "publish it where it was built ('zygos show link@1.0.0' says where), or build link again here with --force")
	_, err = supply.Bring(t.Context(), s, plan.Base{Name: "link", Version: "1.0.0", Image: true}, "edge", t.TempDir(), silent)
	require.ErrorContains(t, err, "it has no artifact of the format tar to take instead")
	_ = v
}
