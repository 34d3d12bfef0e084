package feed_test

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/feed"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
)

const found = "[base.os]\nnewest = \"1.*\"\nfeed = \"mirror\"\nfile = \"os-${release}.tar.zst\"\n"

// list writes what the mirror lists: releases, each with a text as its content.
func list(t *testing.T, s *session.Session, releases ...string) {
	text := ""
	for _, r := range releases {
		release, content, ok := strings.Cut(r, "=")
		if !ok {
			content = release
		}
		text += fmt.Sprintf("%x  os-%s.tar.zst\n", sha256.Sum256([]byte(content)), release)
	}
	require.NoError(t, os.MkdirAll(s.Path("mirror"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(s.Path("mirror"), "SHA256SUMS"), []byte(text), 0o644))
}

func base(s *session.Session) *definition.Base { return s.Org.Base("os") }

func TestNewestIsTakenAndRemembered(t *testing.T) {
	s := sessiontest.New(t, found, nil)
	require.Empty(t, base(s).Release, "nobody asked yet")
	list(t, s, "1.2", "1.10", "2.0", "1.9")
	before := base(s)
	a, err := feed.Ask(t.Context(), s, before, false)
	require.NoError(t, err)
	require.Equal(t, []string{"1.10", "", ""}, []string{a.Release, a.Was, a.Doubt})
	require.Equal(t, "1.10", base(s).Release)
	require.Empty(t, before.Release, "definitions that somebody reads stay as they are")
	list(t, s, "1.10", "1.11")
	a, err = feed.Ask(t.Context(), s, base(s), false)
	require.NoError(t, err)
	require.Equal(t, []string{"1.11", "1.10"}, []string{a.Release, a.Was})

	again := sessiontest.Open(t, s.Workspace.Root)
	require.Equal(t, "1.11", base(again).Release, "whoever comes next has the last answer")
}

// A listing does not go back unseen, and a release does not become another one, until somebody accepts it.
func TestListingsDoNotGoBack(t *testing.T) {
	s := sessiontest.New(t, found, nil)
	ask := func(accept bool) *feed.Answer {
		a, err := feed.Ask(t.Context(), s, base(s), accept)
		require.NoError(t, err)
		return a
	}
	list(t, s, "1.1", "1.2")
	ask(false)
	list(t, s, "1.1")
	a := ask(false)
	require.Equal(t, "1.2", a.Release)
	require.Contains(t, a.Doubt, "the feed of base os went back: it lists 1.1 as the newest of 1.*, and listed 1.2 before, which stays")
	require.Equal(t, "zygos bases --refresh --accept os", a.Do)
	require.True(t, base(s).Asked.Gone)
	require.Equal(t, "1.1", ask(true).Release)

	list(t, s, "1.1=other bytes")
	a = ask(false)
	require.Contains(t, a.Doubt, "lists other bytes for 1.1 than before")
	require.Equal(t, fmt.Sprintf("sha256:%x", sha256.Sum256([]byte("1.1"))), a.Digest)
	require.Equal(t, fmt.Sprintf("sha256:%x", sha256.Sum256([]byte("other bytes"))), ask(true).Digest)
}

func TestFeedThatIsAwayLeavesWhatWasKnown(t *testing.T) {
	s := sessiontest.New(t, found, nil)
	_, err := feed.Ask(t.Context(), s, base(s), false)
	require.ErrorContains(t, err, "the feed of base os: ")
	list(t, s, "1.1")
	_, err = feed.Ask(t.Context(), s, base(s), false)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(s.Path("mirror")))
	a, err := feed.Ask(t.Context(), s, base(s), false)
	require.NoError(t, err)
	require.Equal(t, "1.1", a.Release)
	require.Contains(t, a.Doubt, "cannot be asked")
	require.Contains(t, a.Doubt, "going on with 1.1")
}

func TestListingsWithoutWhatIsWanted(t *testing.T) {
	s := sessiontest.New(t, found, nil)
	list(t, s, "2.0", "2.1")
	_, err := feed.Ask(t.Context(), s, base(s), false)
	require.ErrorContains(t, err, "the feed of base os, mirror, lists")
	require.ErrorContains(t, err, "2.1, 2.0")
	require.NoError(t, os.WriteFile(filepath.Join(s.Path("mirror"), "SHA256SUMS"), []byte("<html>Please sign in</html>"), 0o644))
	_, err = feed.Ask(t.Context(), s, base(s), false)
	require.Error(t, err)
}

func TestPinnedReleaseStays(t *testing.T) {
	s := sessiontest.New(t, found+"pinned = \"1.1\"\n", nil)
	list(t, s, "1.1", "1.2")
	a, err := feed.Ask(t.Context(), s, base(s), false)
	require.NoError(t, err)
	require.Equal(t, []string{"1.1", "1.2"}, []string{a.Release, a.Newer})
}
