package app_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/digest"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/region/kinds"
)

// register adds a version of the image first with an artifact of its own.
func register(t *testing.T, c *catalog.Catalog, version string, blob func([]byte) digest.Digest) {
	text := []byte("content of " + version)
	require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-" + version, Image: "first", Version: version, Started: time.Now()}))
	require.NoError(t, c.Register(t.Context(), catalog.Version{Image: "first", Version: version, Build: "b-" + version, Created: time.Now(),
		Artifacts: []catalog.Artifact{{Format: "tar", Digest: blob(text), Bytes: int64(len(text))}}}))
}

// While a version is published, prune may remove it: whoever wins, region and catalog agree in the end.
func TestPublishAgainstPrune(t *testing.T) {
	a := opened(t, "\n[keep]\nversions = 1\n")
	put := func(text []byte) digest.Digest {
		b, err := a.Store.Put(text)
		require.NoError(t, err)
		return b.Digest
	}
	b, err := app.Begin(t.Context(), app.Where{Workspace: a.Root}, app.Strict, app.Caller{Who: "somebody else"})
	require.NoError(t, err)
	defer b.Close()
	pruned := 0
	for round := 1; round <= 20; round++ {
		register(t, a.Catalog, fmt.Sprintf("0.1.%d", round), put)
		old := fmt.Sprintf("first@0.1.%d", round-1)
		var group sync.WaitGroup
		group.Go(func() {
			placed, _, err := a.Publish(t.Context(), app.PublishRequest{Refs: []string{old}, Regions: []string{"here"}}, func(record.Delivery) {})
			var gone *catalog.NotFoundError
			var leaving *catalog.LeavingError
			if err != nil && !errors.As(err, &gone) && !errors.As(err, &leaving) {
				t.Errorf("publish %s: %v %v", old, placed, err)
			}
		})
		group.Go(func() {
			done, err := b.Prune(t.Context(), app.PruneRequest{})
			if err != nil {
				t.Errorf("prune: %v", err)
			}
			pruned += done.Removed
		})
		group.Wait()

		placements, err := a.Catalog.Placements(t.Context(), "first", "", "")
		require.NoError(t, err)
		var recorded []string
		for _, pl := range placements {
			require.FileExists(t, pl.Location)
			recorded = append(recorded, pl.Location)
		}
		here, err := kinds.Open(a.Org.Region("here"), a.Path)
		require.NoError(t, err)
		held, err := here.List(t.Context())
		require.NoError(t, err)
		for _, name := range held {
			require.Contains(t, recorded, name, "nothing lies there that no row knows")
		}
		versions, err := a.Catalog.Versions(t.Context(), "first")
		require.NoError(t, err)
		for _, v := range versions {
			_, err := os.Stat(a.Store.Path(v.Artifacts[0].Digest))
			require.NoError(t, err, "%s has its bytes", v.Ref())
		}
	}
	require.NotZero(t, pruned)
}

// While a tag moves to a version, somebody recalls it: either comes first, and the region's index tells both.
func TestTagAgainstRecall(t *testing.T) {
	a := opened(t, "")
	b, err := app.Begin(t.Context(), app.Where{Workspace: a.Root}, app.Strict, app.Caller{Who: "somebody else"})
	require.NoError(t, err)
	defer b.Close()
	index := filepath.Join(a.Root, "regions/here/index.json")
	for round := 1; round <= 10; round++ {
		register(t, a.Catalog, fmt.Sprintf("0.1.%d", round), func(text []byte) digest.Digest {
			blob, err := a.Store.Put(text)
			require.NoError(t, err)
			return blob.Digest
		})
		ref := fmt.Sprintf("first@0.1.%d", round)
		_, _, err := a.Publish(t.Context(), app.PublishRequest{Refs: []string{ref}, Regions: []string{"here"}}, func(record.Delivery) {})
		require.NoError(t, err)
		move := app.TagRequest{Refs: []string{ref}, Tags: []string{"stable"}}
		var group sync.WaitGroup
		var moved error
		group.Go(func() { _, moved = a.Tag(t.Context(), move) })
		group.Go(func() {
			request := app.RecallRequest{Ref: ref, Why: "a hole", Since: time.Now()}
			if _, _, err := b.Recall(t.Context(), request); err != nil {
				t.Errorf("recall %s: %v", ref, err)
			}
		})
		group.Wait()
		if moved != nil {
			require.ErrorAs(t, moved, new(*catalog.RecalledError))
		}
		_, err = a.Tag(t.Context(), move)
		require.ErrorAs(t, err, new(*catalog.RecalledError), "afterwards it is refused")
		told := read(t, index)
		require.NoError(t, publish.Refresh(t.Context(), a.Session, "first"))
		require.Equal(t, read(t, index), told, "the index says what the catalog says")
	}
}
