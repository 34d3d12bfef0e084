package app_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/machine/machinetest"
	"zygos/internal/needtest"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/rules"
)

func TestMain(m *testing.M) { machinetest.Main(m) }

// twoImages is a workspace with an image and one built on it, whose versions go before long.
func twoImages(t *testing.T) app.Where {
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, app.NewWorkspace(dir))
	for name, text := range map[string]string{
		"zygos.toml":        read(t, filepath.Join(dir, "zygos.toml")) + "\n[keep]\nversions = 2\n",
		"images/first.toml": image("field-os", ""),
		"images/child.toml": image("first", "echo child > /child"),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return app.Where{Workspace: dir}
}

func image(base, more string) string {
	return fmt.Sprintf("base = %q\nseries = \"0.1\"\n[publish]\nregions = [\"here\"]\n[input.note]\ndefault = \"none\"\n"+
		"[[stage]]\nname = \"one\"\ninline = \"\"\"\necho ${note} > /note\n%s\n\"\"\"\n[[artifact]]\nformat = \"tar\"\n", base, more)
}

// expected reports whether an error is an answer that somebody else came first.
func expected(err error) bool {
	var missing *catalog.NotFoundError
	var recalled *catalog.RecalledError
	var leaving *catalog.LeavingError
	var taken *catalog.TakenError
	var refused *rules.Error
	var already *catalog.AlreadyError
	return err == nil || errors.As(err, &missing) || errors.As(err, &recalled) || errors.As(err, &leaving) || errors.As(err, &taken) ||
		errors.As(err, &refused) || errors.As(err, &already)
}

// act does one thing at random.
func act(t *testing.T, s *app.Session, r *rand.Rand, caller, n int) error {
	image := []string{"first", "first", "child"}[r.IntN(3)]
	switch r.IntN(12) {
	case 0, 1, 2:
		built, err := s.Build(t.Context(), app.BuildRequest{Images: []string{image}, Jobs: 2,
			Options: plan.Options{Set: map[string]string{"note": fmt.Sprint(caller, "-", n)}}},
			app.BuildWatch{Ended: func(*app.Built) error { return nil }, Waiting: func(int) {}})
		if err != nil {
			return err
		}
		return built[0].Err
	case 3, 4:
		_, _, err := s.Publish(t.Context(), app.PublishRequest{Refs: []string{image}}, func(record.Delivery) {})
		return err
	case 5:
		_, _, err := s.Unpublish(t.Context(), image, nil)
		return err
	case 6:
		_, err := s.Tag(t.Context(), app.TagRequest{Refs: []string{image}, Tags: []string{"stable"}})
		return err
	case 7:
		_, _, err := s.Recall(t.Context(), app.RecallRequest{Ref: image, Why: "a hole", Descendants: r.IntN(2) == 0})
		return err
	case 8:
		list, err := s.Catalog.Versions(t.Context(), image)
		for _, v := range list {
			if v.Recall != nil && err == nil {
				_, _, err = s.Reinstate(t.Context(), v.Ref())
				break
			}
		}
		return err
	case 9:
		_, err := s.Prune(t.Context(), app.PruneRequest{})
		return err
	case 10:
		_, err := s.Verify(t.Context(), app.VerifyRequest{Deep: r.IntN(4) == 0})
		return err
	}
	_, err := s.List(t.Context(), catalog.Query{})
	return err
}

// Sixteen callers in one process build, publish, tag, recall, prune, verify and list at random. At the end all agrees, and no number was
// given twice. ZYGOS_SEED repeats a run, as far as its order repeats; ZYGOS_ACTIONS says how many
// actions each caller takes, else 200 in a long round and 4 in a short one.
func TestManyCallers(t *testing.T) {
	each := 4
	if needtest.IsLong() {
		each = 200
	}
	if text := os.Getenv("ZYGOS_ACTIONS"); text != "" {
		n, err := strconv.Atoi(text)
		require.NoError(t, err)
		each = n
	}
	seed, err := strconv.ParseUint(os.Getenv("ZYGOS_SEED"), 10, 64)
	if err != nil {
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("ZYGOS_SEED=%d", seed)
	at := twoImages(t)
	a, err := app.Open(t.Context(), at)
	require.NoError(t, err)
	defer a.Close()
	var group sync.WaitGroup
	for caller := range 16 {
		group.Go(func() {
			r := rand.New(rand.NewPCG(seed, uint64(caller)))
			for n := range each {
				s, err := a.As(t.Context(), app.Caller{Who: fmt.Sprint("caller-", caller)}, app.Each)
				if err != nil {
					t.Errorf("caller %d: %v", caller, err)
					return
				}
				if err := act(t, s, r, caller, n); !expected(err) {
					t.Errorf("caller %d, action %d: %T %v", caller, n, err, err)
				}
				s.Close()
			}
		})
	}
	group.Wait()
	s, err := a.As(t.Context(), app.Caller{Who: "somebody"}, app.Strict)
	require.NoError(t, err)
	defer s.Close()
	found, err := s.Verify(t.Context(), app.VerifyRequest{Deep: true})
	require.NoError(t, err)
	for _, f := range found {
		require.Equal(t, publish.Sound, f.State, "%s: %s", f.Location, f.What)
	}
	builds, _, err := s.Builds(t.Context(), "", 0)
	require.NoError(t, err)
	numbers, ended := map[string]bool{}, map[string]int{}
	for _, b := range builds {
		require.NotEqual(t, catalog.Running, b.State)
		ended[b.State]++
		if b.State == catalog.Registered {
			require.False(t, numbers[b.Image+"@"+b.Version], "%s@%s was given twice", b.Image, b.Version)
			numbers[b.Image+"@"+b.Version] = true
		}
	}
	t.Logf("builds: %v", ended)
	left, err := os.ReadDir(s.Dir.Run(""))
	require.NoError(t, err)
	require.Empty(t, left, "what is unfinished")
	versions, err := s.Catalog.Versions(t.Context(), "")
	require.NoError(t, err)
	for _, v := range versions {
		for _, f := range v.Artifacts {
			require.FileExists(t, s.Store.Path(f.Digest), v.Ref())
		}
	}
}

// A process that serves callers for long keeps neither goroutines nor files open.
func TestNothingIsLeftOpen(t *testing.T) {
	rounds := 20
	if needtest.IsLong() {
		rounds = 500
	}
	a, err := app.Open(t.Context(), twoImages(t))
	require.NoError(t, err)
	defer a.Close()
	round := func() {
		s, err := a.As(t.Context(), app.Caller{Who: "somebody"}, app.Each)
		require.NoError(t, err)
		defer s.Close()
		r := rand.New(rand.NewPCG(1, 2))
		for n := range 12 {
			require.True(t, expected(act(t, s, r, 0, n)))
		}
	}
	round()
	files := func() int {
		list, err := os.ReadDir("/proc/self/fd")
		require.NoError(t, err)
		return len(list)
	}
	goroutines, open := runtime.NumGoroutine(), files()
	for range rounds {
		round()
	}
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= goroutines+2 && files() <= open+2 }, time.Minute, 10*time.Millisecond,
		"%d goroutines, it were %d; %d files, it were %d", runtime.NumGoroutine(), goroutines, files(), open)
	require.False(t, strings.Contains(stacks(), "Shell"), "a shell goes on")
}

func stacks() string {
	text := make([]byte, 1<<20)
	return string(text[:runtime.Stack(text, true)])
}
