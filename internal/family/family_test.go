package family_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/family"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
)

// tag lets a tag point at a version, whatever its rules.
func tag(t *testing.T, s *session.Session, image, tag, version string) {
	yes := func(context.Context, *catalog.Catalog, *catalog.Move) error { return nil }
	require.NoError(t, s.Catalog.MoveTags(t.Context(), []catalog.Move{{Image: image, Tag: tag, Version: version, At: time.Now()}}, yes))
}

func recall(t *testing.T, s *session.Session, image, version string, descendants bool) {
	require.NoError(t, s.Catalog.Recall(t.Context(), catalog.Recall{Image: image, Version: version, Why: "a hole", Who: "somebody",
		At: time.Now(), Since: time.Now(), Descendants: descendants}))
}

// generations is a parent with two versions, a child on each, and a grandchild.
func generations(t *testing.T) *session.Session {
	s := sessiontest.New(t, "", map[string]string{"parent": sessiontest.Image("field-os"), "child": sessiontest.Image("parent"),
		"grand":  sessiontest.Image("child"),
		"tagged": sessiontest.Image("parent@stable"), "fixed": sessiontest.Image("parent@1.0.0")})
	for _, v := range [][2]string{{"parent@1.0.0", "field-os@1"}, {"parent@1.1.0", "field-os@1"}, {"child@1.0.0", "parent@1.0.0"},
		{"child@1.1.0", "parent@1.1.0"}, {"grand@1.0.0", "child@1.0.0"}} {
		sessiontest.Register(t, s, v[0], v[1])
	}
	return s
}

func resolve(t *testing.T, s *session.Session, image, version string) *catalog.Version {
	versions, err := s.Catalog.Versions(t.Context(), image)
	require.NoError(t, err)
	for i := range versions {
		if versions[i].Version == version {
			return &versions[i]
		}
	}
	t.Fatal("no " + image + "@" + version)
	return nil
}

func TestRecallTouchesDescendantsAndLeadsTagsAway(t *testing.T) {
	s := generations(t)
	tag(t, s, "parent", "stable", "1.1.0")
	tag(t, s, "parent", "stable", "1.0.0")
	tag(t, s, "child", "stable", "1.0.0")
	tag(t, s, "grand", "edge", "1.0.0")
	v := resolve(t, s, "parent", "1.0.0")
	list, err := family.Touches(t.Context(), s, v, false)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, 1, list[0].Children)
	require.Equal(t, []string{"zygos tag parent stable --back   points it at 1.1.0 again"}, list[0].Back)

	list, err = family.Touches(t.Context(), s, v, true)
	require.NoError(t, err)
	var refs, back []string
	for _, one := range list {
		refs, back = append(refs, one.Ref), append(back, one.Back...)
	}
	require.ElementsMatch(t, []string{"parent@1.0.0", "child@1.0.0", "grand@1.0.0"}, refs)
	require.Contains(t, back, "zygos tag child@1.1.0 stable", "the newest that is not recalled with it")
	require.Contains(t, back, "zygos tag grand edge --remove", "nothing is left to point at")

	recall(t, s, "parent", "1.1.0", false)
	list, err = family.Touches(t.Context(), s, v, false)
	require.NoError(t, err)
	require.Equal(t, []string{"zygos tag parent stable --remove"}, list[0].Back, "what was before is recalled too")
}

func TestLineageGoesBothWays(t *testing.T) {
	s := generations(t)
	list, err := family.Lineage(t.Context(), s, resolve(t, s, "child", "1.0.0"), 0)
	require.NoError(t, err)
	var refs []string
	for _, m := range list {
		refs = append(refs, m.Ref())
	}
	require.Equal(t, []string{"parent@1.0.0", "child@1.0.0", "grand@1.0.0"}, refs)
	require.Empty(t, list[1].Due, "it is not the newest of its image")
	list, err = family.Lineage(t.Context(), s, resolve(t, s, "parent", "1.0.0"), 1)
	require.NoError(t, err)
	require.Len(t, list, 2, "one generation")
	recall(t, s, "parent", "1.0.0", true)
	list, err = family.Lineage(t.Context(), s, resolve(t, s, "parent", "1.0.0"), 0)
	require.NoError(t, err)
	for _, m := range list {
		require.NotEmpty(t, m.State(), m.Ref())
	}
}

func TestDueSaysWhatFollowsAndWhatIsBlocked(t *testing.T) {
	s := generations(t)
	due := func(images ...string) map[string]family.Due {
		list, err := family.DueOf(t.Context(), s, images)
		require.NoError(t, err)
		byImage := map[string]family.Due{}
		for _, d := range list {
			byImage[d.Image] = d
		}
		return byImage
	}
	all := due()
	require.Equal(t, []string{"child", "grand"}, all["parent"].Follows, "neither a tag nor a fixed version follows")
	require.Equal(t, "1.1.0", all["parent"].Newest)
	require.Contains(t, all["tagged"].Why, "cannot be planned: ")
	require.True(t, all["tagged"].Blocked)
	require.Len(t, due("child"), 1)

	tag(t, s, "parent", "stable", "1.0.0")
	recall(t, s, "parent", "1.0.0", false)
	d := due("tagged", "fixed")
	require.Contains(t, d["tagged"].Why, "cannot be built: its base parent@1.0.0 is recalled")
	require.Equal(t, "zygos tag parent@1.1.0 stable", d["tagged"].Do)
	require.Empty(t, d["fixed"].Do, "nobody but its author knows")
	recall(t, s, "parent", "1.1.0", false)
	require.Equal(t, "zygos build parent", due("tagged")["tagged"].Do)
	require.True(t, due("parent")["parent"].Recalled)
}

func TestWrongDefinitionIsDueAndBlocked(t *testing.T) {
	s := generations(t)
	s.Images[0].Base = "nothing"
	list, err := family.DueOf(t.Context(), s, []string{s.Images[0].Name})
	require.NoError(t, err)
	require.True(t, list[0].Blocked)
}
