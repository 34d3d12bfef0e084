package app_test

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/state"
)

func silent(record.Delivery) {}

// While a version is published, somebody removes it from its region, and a third repairs it: what they leave agrees with the catalog.
func TestPublishAgainstRemove(t *testing.T) {
	a := opened(t, "")
	other := func() *app.Session {
		b, err := app.Begin(t.Context(), app.Where{Workspace: a.Root}, app.Strict, app.Caller{Who: "somebody else"})
		require.NoError(t, err)
		t.Cleanup(b.Close)
		return b
	}
	b, c := other(), other()
	for range 25 {
		var group sync.WaitGroup
		group.Go(func() {
			_, _, err := a.Publish(t.Context(), app.PublishRequest{Refs: []string{"first"}, Regions: []string{"here"}}, silent)
			require.NoError(t, err)
		})
		group.Go(func() {
			_, _, err := b.Unpublish(t.Context(), "first", []string{"here"})
			require.NoError(t, err)
		})
		group.Go(func() {
			_, err := c.Verify(t.Context(), app.VerifyRequest{Repair: true})
			require.NoError(t, err)
		})
		group.Wait()
		placements, err := a.Catalog.Placements(t.Context(), "first", "", "")
		require.NoError(t, err)
		for _, pl := range placements {
			require.FileExists(t, pl.Location)
		}
		list, err := a.Verify(t.Context(), app.VerifyRequest{})
		require.NoError(t, err)
		for _, f := range list {
			require.Equal(t, publish.Sound, f.State, "%s: %s", f.Location, f.What)
		}
		left, _ := filepath.Glob(filepath.Join(a.Root, "regions/here/first/*/*"))
		require.True(t, len(placements) > 0 || len(left) == 0, "%v", left)
	}
}

// Who waits for a lease hears for whom, stops with its context, and takes the lease of a process that is gone.
func TestLeases(t *testing.T) {
	a := opened(t, "")
	heard := make(chan string, 100)
	w := state.Waiter{Who: "somebody", Doing: "publish first@0.1.0", Wait: func(doing string, _, _ int64) { heard <- doing }}
	_, release, err := a.Lease(t.Context(), w, "x", "y")
	require.NoError(t, err)

	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		require.Contains(t, <-heard, "wait for somebody on ")
		cancel()
	}()
	_, _, err = a.Lease(ctx, w, "y", "z")
	require.ErrorIs(t, err, context.Canceled)
	_, free, err := a.Lease(t.Context(), w, "z")
	require.NoError(t, err, "all or none")
	free()

	taken := make(chan error, 1)
	go func() {
		_, free, err := a.Lease(t.Context(), w, "y")
		if err == nil {
			free()
		}
		taken <- err
	}()
	release()
	require.NoError(t, <-taken)

	// Of a killed process of this state the lock is free; of one of another state nothing was heard.
	stale := []catalog.Lease{{Name: "x", Holder: "gone", Place: a.ID}, {Name: "y", Holder: "far", Place: "?"}}
	_, err = a.Catalog.TakeLeases(t.Context(), stale,
		func(*catalog.Lease) bool { return false })
	require.NoError(t, err)
	_, free, err = a.Lease(t.Context(), w, "x")
	require.NoError(t, err)
	free()
	held, err := a.Catalog.TakeLeases(t.Context(), []catalog.Lease{{Name: "y", Holder: "me"}}, func(l *catalog.Lease) bool {
		return l.Quiet > time.Hour
	})
	require.NoError(t, err)
	require.Len(t, held, 1)
}

// A manifest of ours in a region that holds nothing of its version is named and taken away; what others put there stays.
func TestManifestThatWasLeft(t *testing.T) {
	a := opened(t, "")
	_, _, err := a.Publish(t.Context(), app.PublishRequest{Refs: []string{"first"}, Regions: []string{"here"}}, silent)
	require.NoError(t, err)
	file := filepath.Join(a.Root, "regions/here/first/0.1.0/manifest.json")
	text := read(t, file)
	_, _, err = a.Unpublish(t.Context(), "first", []string{"here"})
	require.NoError(t, err)
	require.NoFileExists(t, file)

	foreign := filepath.Join(a.Root, "regions/here/first/0.9.0/manifest.json")
	other := `{"schema":"zygos.manifest/1","build":"b-other","image":"first","version":"0.9.0"}`
	for name, content := range map[string]string{file: text, foreign: other} {
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(content), 0o644))
	}
	list, err := a.Verify(t.Context(), app.VerifyRequest{})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, publish.Left, list[0].State)
	list, err = a.Verify(t.Context(), app.VerifyRequest{Repair: true})
	require.NoError(t, err)
	require.Equal(t, publish.Repaired, list[0].State)
	require.NoFileExists(t, file)
	require.FileExists(t, foreign)
}
