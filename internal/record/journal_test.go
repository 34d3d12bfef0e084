package record_test

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/record"
	"zygos/internal/state"
)

// running is a build that lives until end is called, with its journal.
func running(t *testing.T, id string) (at state.Dir, j *record.Journal, end func()) {
	at = state.Dir(t.TempDir())
	require.NoError(t, os.MkdirAll(at.Run(id), 0o755))
	lock, err := os.Create(at.RunLock(id))
	require.NoError(t, err)
	require.NoError(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
	j, err = record.OpenJournal(at.Build(id, ""), func(record.Event) {})
	require.NoError(t, err)
	return at, j, func() {
		require.NoError(t, j.Close())
		require.NoError(t, lock.Close())
	}
}

// Many follow one build: each hears all of it, from the beginning to the end, and one of them who leaves disturbs nobody.
func TestManyFollowAJournal(t *testing.T) {
	at, j, end := running(t, "b-1")
	const events, followers = 200, 20
	before := runtime.NumGoroutine()
	var tails record.Tails
	var group sync.WaitGroup
	heard := make([]int, followers)
	for i := range followers {
		group.Go(func() {
			err := tails.Follow(t.Context(), at, "b-1", func(e record.Event) error {
				if e.What.(record.Output).Text != fmt.Sprint(heard[i]) {
					t.Errorf("follower %d heard %v after %d events", i, e.What, heard[i])
				}
				heard[i]++
				return nil
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	leaves, leave := context.WithCancel(t.Context())
	group.Go(func() {
		if err := tails.Follow(leaves, at, "b-1", func(record.Event) error { leave(); return nil }); err != context.Canceled {
			t.Errorf("who leaves: %v", err)
		}
	})
	for n := range events {
		j.Append(record.Event{Build: "b-1", What: record.Output{Stream: "out", Text: fmt.Sprint(n)}})
	}
	end()
	group.Wait()
	for i, n := range heard {
		require.Equal(t, events, n, "follower %d", i)
	}
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= before }, time.Minute, time.Millisecond)
	n := 0
	require.NoError(t, record.ReadJournal(t.Context(), at, "b-1", func(record.Event) error { n++; return nil }))
	require.Equal(t, events, n)
}

// A journal that a dead build left is followed to where it ends.
func TestFollowingADeadBuildEnds(t *testing.T) {
	at, j, end := running(t, "b-1")
	j.Append(record.Event{Build: "b-1", What: record.Note{Text: "one"}})
	end()
	file, err := os.OpenFile(at.Build("b-1", "log.jsonl"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteString(`{"time":"2026-`)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	n := 0
	require.NoError(t, (&record.Tails{}).Follow(t.Context(), at, "b-1", func(record.Event) error { n++; return nil }))
	require.Equal(t, 1, n)
	require.ErrorIs(t, (&record.Tails{}).Follow(t.Context(), at, "b-2", nil), os.ErrNotExist)
}
