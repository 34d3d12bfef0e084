package catalog_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

var moment = time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)

func register(t *testing.T, c *catalog.Catalog, image string, versions ...string) {
	for _, v := range versions {
		id := "b-" + image + v
		require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: id, Image: image, Version: v, Base: "x@1", Who: "me", Started: moment}))
		require.NoError(t, c.Register(t.Context(),
			catalog.Version{Image: image, Version: v, Build: id, Created: moment, Trees: []catalog.Tree{{Layers: []string{"l1"}}},
				Labels: map[string]string{"owner": "me"}, Artifacts: []catalog.Artifact{{Format: "tar", Digest: digest.Of([]byte(v)), Bytes: 7}}}))
	}
}

// moves let tags of an image point at a version.
func moves(image, version string, tags ...string) (list []catalog.Move) {
	for _, tag := range tags {
		list = append(list, catalog.Move{Image: image, Tag: tag, Version: version, Who: "me", Why: "a test", At: moment})
	}
	return list
}

func anyMove(context.Context, *catalog.Catalog, *catalog.Move) error { return nil }

func TestNextFreeNumberAndRefusals(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		next := func(series, version string) string {
			v, err := c.NextVersion(t.Context(), "a", series, version, func(b *catalog.Build) bool { return b.ID != "b-dead" })
			if err != nil {
				require.IsType(t, &catalog.TakenError{}, err)
				return err.Error()
			}
			return v
		}
		require.Equal(t, "2.3.0", next("2.3", ""))
		register(t, c, "a", "2.3.0", "2.3.9", "2.3.10", "2.10.0", "2.4.3")
		require.NoError(t, c.Forget(t.Context(), "a", "2.4.3"))
		register(t, c, "other", "2.3.50")
		require.Equal(t, "2.3.11", next("2.3", ""))
		require.Equal(t, "2.4.4", next("2.4", ""), "the number of a version that is gone is not given again")
		for id, version := range map[string]string{"b-dead": "2.5.7", "b-alive": "2.5.3"} {
			require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: id, Image: "a", Version: version, Started: moment}))
		}
		require.Equal(t, "2.5.4", next("2.5", ""), "builds that run hold their numbers")
		require.Contains(t, next("", "2.5.3"), "a 2.5.3 is being made by build b-alive; the next free number of its series is 2.5.4")
		require.ErrorContains(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-late", Image: "a", Version: "2.5.3", Started: moment}),
			"a 2.5.3 is being made by build b-alive")
		require.Equal(t, "2.3.12", next("", "2.3.12"))
		require.Equal(t, "1.0.0", next("", "1.0.0"), "a lower series may get versions")
		require.Contains(t, next("", "2.3.10"), "a 2.3.10 exists already; versions never change. The next free number of its series is 2.3.11")
		require.Contains(t, next("", "2.3.4"), "not above 2.3.10")
	})
}

func TestReferences(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "2.3.9", "2.3.10", "2.2.5")
		err := c.MoveTags(t.Context(), moves("a", "2.3.9", "stable"), anyMove)
		require.NoError(t, err)
		for ref, want := range map[string]string{"a": "2.3.10", "a@2.3": "2.3.10", "a@2.2": "2.2.5", "a@2.3.9": "2.3.9", "a@stable": "2.3.9"} {
			r, err := definition.ParseRef(ref)
			require.NoError(t, err)
			v, err := c.Resolve(t.Context(), r)
			require.NoError(t, err)
			require.Equal(t, want, v.Version, ref)
		}
		for ref, says := range map[string]string{"a@stabel": "did you mean a@stable?", "a@9.9.9": "there are 2.3.10",
			"b": "has no version yet; build it first: zygos build b"} {
			r, err := definition.ParseRef(ref)
			require.NoError(t, err)
			_, err = c.Resolve(t.Context(), r)
			require.ErrorContains(t, err, says)
		}
	})
}

func TestVersionComesBackWhole(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0")
		err := c.MoveTags(t.Context(), moves("a", "1.0.0", "b", "a"), anyMove)
		require.NoError(t, err)
		list, err := c.Versions(t.Context(), "")
		require.NoError(t, err)
		require.Equal(t, []catalog.Version{{Image: "a", Version: "1.0.0", Build: "b-a1.0.0", Created: moment,
			Trees: []catalog.Tree{{Layers: []string{"l1"}}}, Labels: map[string]string{"owner": "me"},
			Artifacts: []catalog.Artifact{{Name: "tar", Format: "tar", Digest: digest.Of([]byte("1.0.0")), Bytes: 7}}, Tags: []string{"a", "b"},
			Regions: []string{}}}, list)
		builds, _, err := c.Builds(t.Context(), "a", 0)
		require.NoError(t, err)
		require.Equal(t, catalog.Registered, builds[0].State)
	})
}

func TestVersionIsRegisteredOnceOrNotAtAll(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0")
		err := c.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.0", Build: "b-a1.0.0"})
		require.ErrorContains(t, err, "register a@1.0.0")
		err = c.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.1", Build: "b-a1.0.0",
			Artifacts: []catalog.Artifact{{Format: "tar"}, {Format: "tar"}}})
		require.Error(t, err)
		list, err := c.Versions(t.Context(), "a")
		require.NoError(t, err)
		require.Len(t, list, 1, "the version of a failed registration is not there")
	})
}

func TestTagMovesAreKept(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0", "1.0.1")
		for _, v := range []string{"1.0.0", "1.0.1", "1.0.1"} {
			err := c.MoveTags(t.Context(), moves("a", v, "stable"), anyMove)
			require.NoError(t, err)
		}
		list, err := c.Moves(t.Context(), "a")
		require.NoError(t, err)
		require.Len(t, list, 2, "a tag that points there already does not move")
		require.Equal(t, catalog.Move{Tag: "stable", Was: "1.0.0", Version: "1.0.1", Who: "me", Why: "a test", At: moment}, list[0])
		err = c.MoveTags(t.Context(), moves("a", "9.9.9", "x", "y"), anyMove)
		require.Error(t, err)
	})
}

func TestPlacementsAreRecordedOnce(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0")
		p := catalog.Placement{ID: "zy-1", Image: "a", Version: "1.0.0", Region: "r", Name: "tar", Format: "tar",
			Artifact: digest.Of([]byte("x")),
			Bytes:    7, Location: "/x", Verified: moment}
		way := catalog.Underway{Image: "a", Version: "1.0.0", Region: "r", Name: "tar", Format: "tar", State: "copying", Done: 3, Bytes: 7,
			Host: "here", Changed: moment}
		require.NoError(t, c.SetUnderway(t.Context(), way))
		way.State, way.Why = "failed", "no line"
		require.NoError(t, c.SetUnderway(t.Context(), way))
		ways, err := c.Underways(t.Context(), "a", "1.0.0", "r")
		require.NoError(t, err)
		require.Equal(t, []catalog.Underway{way}, ways)
		require.Error(t, c.SetUnderway(t.Context(), catalog.Underway{Image: "a", Version: "9.9.9", Region: "r"}))
		require.NoError(t, c.Place(t.Context(), p))
		ways, err = c.Underways(t.Context(), "", "", "")
		require.NoError(t, err)
		require.Empty(t, ways, "what is placed is on its way no more")
		p.Verified = moment.Add(time.Hour)
		require.NoError(t, c.Place(t.Context(), p))
		list, err := c.Placements(t.Context(), "a", "", "r")
		require.NoError(t, err)
		require.Equal(t, []catalog.Placement{p}, list)
		list, err = c.Placements(t.Context(), "", "", "other")
		require.NoError(t, err)
		require.Empty(t, list)
		held, err := c.Holdings(t.Context())
		require.NoError(t, err)
		require.Equal(t, map[string]catalog.Holding{"r": {Versions: 1, Files: 1, Bytes: 7}}, held)

		// Another id of the same artifact in the same region takes its place.
		p.ID = "im-2"
		require.NoError(t, c.Place(t.Context(), p))
		list, err = c.Placements(t.Context(), "a", "", "r")
		require.NoError(t, err)
		require.Equal(t, []catalog.Placement{p}, list)
		require.NoError(t, c.Unplace(t.Context(), p))
		list, err = c.Placements(t.Context(), "a", "", "")
		require.NoError(t, err)
		require.Empty(t, list)
	})
}

func TestWhatIsBuiltOnDoesNotGo(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "p", "1.0.0", "1.0.1", "1.0.2")
		require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-1", Image: "a", Version: "1.0.0", Base: "p@1.0.0", Started: moment}))
		require.ErrorContains(t, c.Forget(t.Context(), "p", "1.0.0"), "p@1.0.0 cannot go: build b-1 is built on it")
		require.NoError(t, c.Register(t.Context(),
			catalog.Version{Image: "a", Version: "1.0.0", Build: "b-1", Created: moment, BaseName: "p", BaseVersion: "1.0.0", BaseImage: true}))
		require.ErrorContains(t, c.Forget(t.Context(), "p", "1.0.0"), "p@1.0.0 cannot go: a@1.0.0 is built on it")
		require.NoError(t, c.MoveTags(t.Context(), moves("p", "1.0.1", "stable"), anyMove))
		require.Error(t, c.Forget(t.Context(), "p", "1.0.1"))
		require.NoError(t, c.Forget(t.Context(), "p", "1.0.2"))
		refs, err := c.Refs(t.Context())
		require.NoError(t, err)
		require.Equal(t, map[string]bool{"a@1.0.0": true, "p@1.0.0": true, "p@1.0.1": true}, refs)
	})
}

func TestVariantsOfAVersion(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-1", Image: "a", Started: moment}))
		running, err := c.Running(t.Context())
		require.NoError(t, err)
		require.Len(t, running, 1)
		require.Equal(t, "b-1", running[0].ID)
		trees := []catalog.Tree{{Variant: "edge", Layers: []string{"x"}},
			{Variant: "bench", Layers: []string{"x", "y"}, Labels: map[string]string{"purpose": "test"}}}
		artifacts := []catalog.Artifact{{Variant: "bench", Name: "tar", Format: "tar", Digest: digest.Of([]byte("1")), Bytes: 1},
			{Variant: "edge", Name: "raw", Format: "raw", Digest: digest.Of([]byte("2")), Bytes: 2},
			{Variant: "edge", Name: "tar", Format: "tar", Digest: digest.Of([]byte("1")), Bytes: 1}}
		require.NoError(t, c.Register(t.Context(),
			catalog.Version{Image: "a", Version: "1.0.0", Build: "b-1", Created: moment, Trees: trees, Artifacts: artifacts}))
		v, err := c.Resolve(t.Context(), definition.Ref{Image: "a"})
		require.NoError(t, err)
		require.Equal(t, trees, v.Trees)
		require.Equal(t, artifacts, v.Artifacts)
		require.Equal(t, []string{"x", "y"}, v.Tree("bench").Layers)
		require.Nil(t, v.Tree("other"))
		digests, layers := map[digest.Digest]string{}, ""
		require.NoError(t, c.Digests(t.Context(), func(ref string, d digest.Digest) { digests[d] = ref }))
		require.Equal(t, map[digest.Digest]string{digest.Of([]byte("1")): "a@1.0.0", digest.Of([]byte("2")): "a@1.0.0"}, digests)
		require.NoError(t, c.Trees(t.Context(), func(ref string, trees []catalog.Tree) {
			for _, tree := range trees {
				layers += tree.Variant + " " + strings.Join(tree.Layers, " ") + "; "
			}
		}))
		require.Equal(t, "edge x; bench x y; ", layers)
	})
}

func TestRecallsHoldForDescendantsAndEnd(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "parent", "1.0.0", "1.0.1")
		for image, base := range map[string]string{"child": "parent", "grandchild": "child"} {
			require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-" + image, Image: image, Started: moment}))
			require.NoError(t, c.Register(t.Context(),
				catalog.Version{Image: image, Version: "1.0.0", Build: "b-" + image, Created: moment, BaseName: base, BaseVersion: "1.0.0",
					BaseImage: true}))
		}
		recall := func(version string, since time.Time, descendants bool) error {
			return c.Recall(t.Context(), catalog.Recall{Image: "parent", Version: version, Why: "a hole", Who: "me", At: moment, Since: since,
				Descendants: descendants})
		}
		usable := func(ref string) error {
			r, err := definition.ParseRef(ref)
			require.NoError(t, err)
			v, err := c.Resolve(t.Context(), r)
			if err != nil {
				return err
			}
			return v.Usable()
		}
		require.NoError(t, recall("1.0.0", moment, true))
		require.ErrorContains(t, recall("1.0.0", moment, true), "is recalled already")
		require.ErrorContains(t, usable("parent@1.0.0"), "parent@1.0.0 is recalled: a hole (by me, 2026-01-02T03:04:05Z)")
		require.ErrorContains(t, usable("grandchild"), "grandchild@1.0.0 is recalled through its ancestor parent@1.0.0: a hole")
		require.NoError(t, usable("parent"), "the newest that is not recalled")
		require.NoError(t, recall("1.0.1", time.Now().Add(time.Hour), false))
		require.NoError(t, usable("parent@1.0.1"), "planned, not in force")
		v, err := c.Resolve(t.Context(), definition.Ref{Image: "parent", Selector: "1.0"})
		require.NoError(t, err)
		require.Equal(t, "1.0.1", v.Version)
		require.False(t, v.Recall.InForce())
		was, err := c.Reinstate(t.Context(), "parent", "1.0.0", "you", moment)
		require.NoError(t, err)
		require.True(t, was)
		require.NoError(t, usable("grandchild"))
		was, err = c.Reinstate(t.Context(), "parent", "1.0.0", "you", moment)
		require.NoError(t, err)
		require.False(t, was)

		family, err := c.Family(t.Context(), "child", "1.0.0", 0)
		require.NoError(t, err)
		var refs []string
		for _, r := range family {
			refs = append(refs, r.Ref())
		}
		require.Equal(t, []string{"parent@1.0.0", "child@1.0.0", "grandchild@1.0.0"}, refs)
		family, err = c.Family(t.Context(), "parent", "1.0.0", 1)
		require.NoError(t, err)
		require.Len(t, family, 2)
	})
}

func TestListIsSortedAndPaged(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		for i, bytes := range []int64{5, 9, 7} {
			id := fmt.Sprint("b-", i)
			require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: id, Image: "a", Version: fmt.Sprint("1.0.", i), Started: moment}))
			require.NoError(t, c.Register(t.Context(),
				catalog.Version{Image: "a", Version: fmt.Sprint("1.0.", i), Build: id, Created: moment.Add(time.Duration(-i) * time.Hour),
					Artifacts: []catalog.Artifact{{Format: "tar", Bytes: bytes}, {Format: "raw", Bytes: 1}}}))
		}
		for want, q := range map[string]catalog.Query{"2 1 0": {}, "1 2 0": {Sort: "size"}, "0 1 2": {Sort: "age"}, "1 0": {Skip: 1, Most: 2},
			"0": {Skip: 2, Most: 2}, "": {Skip: 4, Most: 2}} {
			list, more, err := c.List(t.Context(), q)
			require.NoError(t, err)
			require.Equal(t, q.Most > 0 && q.Skip+len(list) < 3 && len(list) > 0, more)
			total, err := c.Count(t.Context(), q)
			require.NoError(t, err)
			require.Equal(t, 3, total)
			var got []string
			for _, v := range list {
				got = append(got, strings.TrimPrefix(v.Version, "1.0."))
			}
			require.Equal(t, want, strings.Join(got, " "), "%+v", q)
		}
		for i, state := range []string{catalog.Failed, catalog.Running} {
			require.NoError(t, c.StartBuild(t.Context(),
				catalog.Build{ID: state, Image: "a", Version: "1.0.9" + state, Started: moment.Add(time.Duration(2*i-1) * 150 * time.Minute)}))
			if state == catalog.Failed {
				require.NoError(t, c.EndBuild(t.Context(), state, state, "x", moment))
			}
		}
		list, err := c.Unfinished(t.Context(), "")
		require.NoError(t, err)
		require.Len(t, list, 1, "one was begun before the newest version")
		require.Equal(t, catalog.Running, list[0].ID)
		heads, err := c.Heads(t.Context(), []string{"a", "b"})
		require.NoError(t, err)
		require.Nil(t, heads.Newest("b"))
		require.Equal(t, []string{"1.0.2"}, []string{heads.Newest("a").Version})
	})
}

// Heads mean what the catalog means.
func TestHeads(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0", "1.0.1", "1.1.0")
		register(t, c, "b", "1.0.0")
		require.NoError(t, c.MoveTags(t.Context(), moves("a", "1.0.0", "stable"), anyMove))
		check := func() {
			heads, err := c.Heads(t.Context(), []string{"a", "b"})
			require.NoError(t, err)
			for _, text := range []string{"a", "a@1.0", "a@1.0.0", "a@1.1.0", "a@stable", "a@none", "b", "b@stable", "c", "a@2.0"} {
				ref, err := definition.ParseRef(text)
				require.NoError(t, err)
				want, wrong := c.Resolve(t.Context(), ref)
				got, err := heads.Resolve(t.Context(), ref)
				require.Equal(t, wrong, err, text)
				require.Equal(t, want, got, text)
			}
		}
		check()
		require.NoError(t, c.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.1.0", At: moment, Since: moment}))
		require.NoError(t, c.Recall(t.Context(), catalog.Recall{Image: "b", Version: "1.0.0", At: moment, Since: moment}))
		check()
	})
}

func TestListAsksForWhatIsWanted(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0", "1.0.1", "1.1.0")
		register(t, c, "b", "1.0.0")
		require.NoError(t, c.MoveTags(t.Context(), moves("a", "1.0.1", "stable"), anyMove))
		require.NoError(t, c.Place(t.Context(), catalog.Placement{ID: "zy-1", Image: "b", Version: "1.0.0", Region: "north", Format: "tar",
			Artifact: digest.Of([]byte("x")), Verified: moment}))
		require.NoError(t, c.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.0.0", Why: "x", Who: "me", At: moment, Since: moment}))
		require.NoError(t, c.Recall(t.Context(),
			catalog.Recall{Image: "b", Version: "1.0.0", Why: "x", Who: "me", At: moment, Since: time.Now().Add(time.Hour)}))
		for want, q := range map[string]catalog.Query{
			"a@1.1.0 a@1.0.1 a@1.0.0 b@1.0.0": {},
			"a@1.1.0 a@1.0.1 a@1.0.0":         {Image: "a"},
			"a@1.0.1":                         {Tag: "stable", Labels: map[string]string{"owner": "me"}},
			"b@1.0.0":                         {Region: "north"},
			"a@1.0.0":                         {State: "recalled"},
			"b@1.0.0 ":                        {State: "planned"},
			"a@1.1.0 a@1.0.1 b@1.0.0":         {State: "usable"},
			"a@1.1.0 a@1.0.1":                 {Most: 2},
			"":                                {Labels: map[string]string{"owner": "you"}},
			" ":                               {Youngest: time.Nanosecond},
			"  ":                              {Base: "other@1"},
		} {
			list, more, err := c.List(t.Context(), q)
			require.NoError(t, err)
			total, err := c.Count(t.Context(), q)
			require.NoError(t, err)
			var refs []string
			for _, v := range list {
				refs = append(refs, v.Ref())
			}
			require.Equal(t, strings.TrimSpace(want), strings.Join(refs, " "), "%+v", q)
			if require.Equal(t, q.Most > 0, more); q.Most == 0 {
				require.Equal(t, len(list), total)
			} else {
				require.Equal(t, 4, total)
			}
		}
	})
}

// While versions are removed nothing comes to need them, and what is needed stays.
func TestWhatLeavesIsNeededByNothing(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		child := func(image, version, parent string) {
			require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-" + image + version, Image: image, Version: version, Started: moment}))
			require.NoError(t, c.Register(t.Context(),
				catalog.Version{Image: image, Version: version, Build: "b-" + image + version, Created: moment, BaseName: "p", BaseVersion: parent,
					BaseImage: true}))
		}
		register(t, c, "p", "1.0.0", "1.0.1", "1.0.2")
		child("a", "1.0.0", "1.0.0")
		child("a", "1.0.1", "1.0.1")
		require.NoError(t, c.MoveTags(t.Context(), moves("a", "1.0.1", "stable"), anyMove))
		all, err := c.Versions(t.Context(), "")
		require.NoError(t, err)
		slices.Reverse(all) // parents first
		all = slices.DeleteFunc(all, func(v catalog.Version) bool { return v.Ref() == "p@1.0.2" })
		goes, err := c.Leave(t.Context(), all, func(*catalog.Build) bool { return true })
		require.NoError(t, err)
		var refs []string
		for _, v := range goes {
			refs = append(refs, v.Ref())
		}
		require.Equal(t, []string{"a@1.0.0", "p@1.0.0"}, refs, "children first; what is tagged stays, with its parent")
		var leaving *catalog.LeavingError
		require.ErrorAs(t, c.StartBuild(t.Context(),
			catalog.Build{ID: "b-late", Image: "a", Version: "1.0.5", Base: "p@1.0.0", Started: moment}), &leaving)
		require.ErrorAs(t, c.MoveTags(t.Context(), moves("a", "1.0.0", "old"), anyMove), &leaving)
		require.ErrorAs(t, c.Place(t.Context(), catalog.Placement{ID: "zy-9", Image: "a", Version: "1.0.0", Region: "r", Format: "tar",
			Verified: moment}), &leaving)
		v, err := c.Resolve(t.Context(), definition.Ref{Image: "p", Selector: "1.0.0"})
		require.NoError(t, err)
		require.ErrorAs(t, v.Usable(), &leaving)
		for _, v := range goes {
			require.NoError(t, c.Forget(t.Context(), v.Image, v.Version))
		}
	})
}

func TestTagsMoveOnlyToWhatMayBeNamed(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0", "1.0.1")
		asked := errors.New("not yet")
		may := func(ctx context.Context, within *catalog.Catalog, m *catalog.Move) error {
			v, err := within.Resolve(ctx, definition.Ref{Image: m.Image, Selector: m.Version})
			require.NoError(t, err)
			require.Equal(t, "1.0.1", v.Version)
			return asked
		}
		require.ErrorIs(t, c.MoveTags(t.Context(), append(moves("a", "", "x"), moves("a", "1.0.1", "stable")...), may), asked)
		history, err := c.Moves(t.Context(), "a")
		require.NoError(t, err)
		require.Empty(t, history)
		require.NoError(t, c.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.0.1", Why: "bad", Who: "me", At: moment, Since: moment}))
		var recalled *catalog.RecalledError
		require.ErrorAs(t, c.MoveTags(t.Context(), moves("a", "1.0.1", "stable"), anyMove), &recalled, "recalled since it was chosen")
		require.Equal(t, "bad", recalled.Recall.Why)
		var missing *catalog.NotFoundError
		require.ErrorAs(t, c.MoveTags(t.Context(), moves("a", "1.0.9", "stable"), anyMove), &missing)
	})
}
