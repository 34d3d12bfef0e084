package flock_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/flock"
)

func open(t *testing.T, name string) *os.File {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// Locks are shared or taken alone, and end with the wait of whoever wants one.
func TestLocksEndWithTheirContext(t *testing.T) {
	name := filepath.Join(t.TempDir(), "lock")
	a, b, c := open(t, name), open(t, name), open(t, name)
	require.NoError(t, flock.Share(t.Context(), a))
	require.NoError(t, flock.Share(t.Context(), b))
	ctx, cancel := context.WithCancel(t.Context())
	waited := make(chan error)
	go func() { waited <- flock.Take(ctx, c) }()
	cancel()
	require.ErrorIs(t, <-waited, context.Canceled)

	go func() { waited <- flock.Take(t.Context(), c) }()
	a.Close()
	b.Close()
	require.NoError(t, <-waited)
}

// Whoever claims a file has the one that the name means now, whatever became of the one before.
func TestClaimIsOfTheFileThatTheNameMeans(t *testing.T) {
	name := filepath.Join(t.TempDir(), "part")
	first, err := flock.Claim(t.Context(), name)
	require.NoError(t, err)
	got := make(chan *os.File)
	go func() {
		f, err := flock.Claim(t.Context(), name)
		if err != nil {
			t.Error(err)
		}
		got <- f
	}()
	require.NoError(t, os.Rename(name, name+".done"))
	first.Close()
	second := <-got
	defer second.Close()
	same, err := flock.Names(second, name)
	require.NoError(t, err)
	require.True(t, same)
	same, err = flock.Names(second, name+".done")
	require.NoError(t, err)
	require.False(t, same)

	_, err = flock.Claim(t.Context(), filepath.Join(t.TempDir(), "no", "folder"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
