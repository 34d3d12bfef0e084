package sweep_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/digest"
	"zygos/internal/machine/machinetest"
	"zygos/internal/session"
	"zygos/internal/session/sessiontest"
	"zygos/internal/state"
	"zygos/internal/store"
	"zygos/internal/sweep"
)

func TestMain(m *testing.M) { machinetest.Main(m) }

func none() (func(digest.Digest) bool, error) {
	return func(digest.Digest) bool { return false }, nil
}

func opened(t *testing.T) *session.Session { return sessiontest.New(t, "", nil) }

// put stores a blob that was written some time ago.
func put(t *testing.T, s *session.Session, text string, ago time.Duration) store.Blob {
	b, err := s.Store.Put([]byte(text))
	require.NoError(t, err)
	at := time.Now().Add(-ago)
	require.NoError(t, os.Chtimes(s.Store.Path(b.Digest), at, at))
	return b
}

// Bytes are freed beside a run that lives: what it made or took, which nothing speaks of yet, stays.
func TestBytesGoBesideOthers(t *testing.T) {
	s := opened(t)
	old, taken := put(t, s, "old", time.Hour), put(t, s, "taken", time.Hour)
	_, hold, err := s.Hold(t.Context(), "b-lives", nil)
	require.NoError(t, err)
	require.True(t, s.Store.Use(taken), "the run takes it")
	fresh, err := s.Store.Put([]byte("fresh"))
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(s.Dir.Pins("b-lives"), time.Now(), time.Now().Add(-time.Minute)))

	list, err := sweep.Bytes(t.Context(), s.State, none)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, old.Digest.Hex(), list[0].Name)
	require.NotZero(t, list[0].Bytes)
	require.True(t, s.Store.Has(fresh) && s.Store.Has(taken))
	require.False(t, s.Store.Use(old), "it is gone")

	require.NoError(t, hold.Close())
	list, err = sweep.Bytes(t.Context(), s.State, func() (func(digest.Digest) bool, error) {
		return func(d digest.Digest) bool { return d == fresh.Digest }, nil
	})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.True(t, s.Store.Has(fresh))
}

func TestRunsThatDiedGo(t *testing.T) {
	s := opened(t)
	for _, name := range []string{"b-dead", "b-alive"} {
		require.NoError(t, os.MkdirAll(s.Dir.Run(name), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(s.Dir.Run(name), "half"), make([]byte, 5000), 0o600))
	}
	_, hold, err := s.Hold(t.Context(), "b-alive", []string{"x"})
	require.NoError(t, err)
	defer hold.Close()
	require.NoDirExists(t, s.Dir.Run("b-dead"), "who begins a run sweeps")
	require.NoError(t, os.MkdirAll(s.Dir.Run("b-dead"), 0o755))
	require.NoError(t, s.Catalog.StartBuild(t.Context(), catalog.Build{ID: "b-dead", Image: "link", Version: "1.0.0", Place: s.ID,
		Started: time.Now()}))
	list, err := sweep.Runs(t.Context(), s.State)
	require.NoError(t, err)
	require.Equal(t, "unfinished run", list[0].What)
	require.DirExists(t, s.Dir.Run("b-alive"))
	b, err := s.Catalog.Build(t.Context(), "b-dead")
	require.NoError(t, err)
	require.Equal(t, catalog.Interrupted, b.State)
	require.Equal(t, state.Silent, b.Error)
}

// A record whose build was registered comes to its place; that of a build that was not goes.
func TestRecordsAreSettled(t *testing.T) {
	s := opened(t)
	v := sessiontest.Register(t, s, "link@1.0.0", "field-os@1")
	require.NoError(t, s.Catalog.StartBuild(t.Context(), catalog.Build{ID: "b-lost", Image: "link", Version: "1.0.1", Place: s.ID,
		Started: time.Now()}))
	require.NoError(t, s.Catalog.EndBuild(t.Context(), "b-lost", catalog.Failed, "", time.Now()))
	for _, id := range []string{v.Build, "b-lost", "b-unknown"} {
		require.NoError(t, os.MkdirAll(s.Dir.Build(id, ""), 0o755))
		require.NoError(t, os.WriteFile(s.Dir.PendingRecord(id), []byte("{}"), 0o600))
	}
	_, err := sweep.Runs(t.Context(), s.State)
	require.NoError(t, err)
	require.FileExists(t, s.Dir.Record(v.Build))
	require.NoFileExists(t, s.Dir.PendingRecord("b-lost"))
	require.FileExists(t, s.Dir.PendingRecord("b-unknown"), "of another catalog nothing is known")
}

func TestHalfWrittenFilesGo(t *testing.T) {
	s := opened(t)
	for _, name := range []string{"store/blob-1", "traces/link/.new-2", "layers/abc.gone/x", "builds/b-1/.new-3", "texts/kept"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(s.Dir.In(name)), 0o755))
		require.NoError(t, os.WriteFile(s.Dir.In(name), []byte("x"), 0o600))
	}
	require.NoError(t, os.MkdirAll(s.Dir.Lock(""), 0o755))
	require.NoError(t, os.WriteFile(s.Dir.Lock(state.StageLock+"x"), nil, 0o600))
	require.Len(t, sweep.Unfinished(s.State), 4)
	require.FileExists(t, s.Dir.In("texts/kept"))
	require.NoFileExists(t, s.Dir.Lock(state.StageLock+"x"))
	sizes := sweep.Measure(s.Dir)
	require.NotZero(t, sizes.Other)
}

// One caller may be alone only while there is no other, in this process too; who comes meanwhile waits.
func TestAloneAmongCallers(t *testing.T) {
	s := opened(t)
	other, err := session.New(t.Context(), s.State, s.Workspace, "another one", "")
	require.NoError(t, err)
	alone, err := s.IfAlone(t.Context(), func() error { t.Error("somebody else is here"); return nil })
	require.NoError(t, err)
	require.False(t, alone)
	other.Close()
	began, came := make(chan struct{}), make(chan struct{})
	alone, err = s.IfAlone(t.Context(), func() error {
		go func() {
			close(began)
			leave, err := s.Enter(t.Context())
			if err == nil {
				leave()
			}
			close(came)
		}()
		<-began
		select {
		case <-came:
			t.Error("it did not wait")
		default:
		}
		return nil
	})
	require.NoError(t, err)
	require.True(t, alone)
	<-came
}

// Stages and captures of all callers of a process share its slots.
func TestSlotsAreShared(t *testing.T) {
	s := opened(t)
	first, err := s.Slot(t.Context(), 2)
	require.NoError(t, err)
	second, err := s.Slot(t.Context(), 2)
	require.NoError(t, err)
	got := make(chan func())
	go func() {
		third, err := s.Slot(t.Context(), 2)
		if err != nil {
			t.Error(err)
		}
		got <- third
	}()
	select {
	case <-got:
		t.Fatal("there were two slots")
	default:
	}
	first()
	(<-got)()
	second()
}
