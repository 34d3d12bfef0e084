package catalog_test

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"zygos/internal/catalog"
	"zygos/internal/catalog/catalogtest"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// everywhere runs a test on a catalog in a file and on one in a PostgreSQL database; again opens it a
// second time, as another process would.
func everywhere(t *testing.T, test func(t *testing.T, c *catalog.Catalog, again func() *catalog.Catalog)) {
	run := func(name string, address func(*testing.T) string) {
		t.Run(name, func(t *testing.T) {
			where := address(t)
			again := func() *catalog.Catalog {
				c, err := catalog.Open(t.Context(), where, "")
				require.NoError(t, err)
				t.Cleanup(func() { c.Close() })
				return c
			}
			test(t, again(), again)
		})
	}
	run("sqlite", func(t *testing.T) string { return filepath.Join(t.TempDir(), "with space & ?", "catalog.db") })
	run("postgres", catalogtest.Database)
}

func TestTwoProcessesShareACatalog(t *testing.T) {
	everywhere(t, func(t *testing.T, a *catalog.Catalog, again func() *catalog.Catalog) {
		b := again()
		done := make(chan error, 2)
		for i, c := range []*catalog.Catalog{a, b} {
			go func() {
				var err error
				for n := range 30 {
					id := string(rune('a'+i)) + string(rune('A'+n))
					if e := c.StartBuild(t.Context(), catalog.Build{ID: id, Image: id, Started: moment}); e != nil {
						err = e
					}
				}
				done <- err
			}()
		}
		require.NoError(t, <-done)
		require.NoError(t, <-done)
		list, _, err := a.Builds(t.Context(), "", 0)
		require.NoError(t, err)
		require.Len(t, list, 60)
	})
}

// Sixteen that open a new catalog at once make its tables once, and agree on what it is.
func TestSixteenMakeACatalogAtOnce(t *testing.T) {
	for _, where := range []string{filepath.Join(t.TempDir(), "catalog.db"), catalogtest.Database(t)} {
		ids := make([]string, 16)
		var group errgroup.Group
		for i := range ids {
			group.Go(func() error {
				c, err := catalog.Open(t.Context(), where, "")
				if err != nil {
					return err
				}
				defer c.Close()
				ids[i], err = c.ID(t.Context())
				return err
			})
		}
		require.NoError(t, group.Wait())
		for _, id := range ids {
			require.Equal(t, ids[0], id)
			require.NotEmpty(t, id)
		}
	}
}

// Sixteen take numbers of one series and move one tag: each number is given once, and each move
// starts where the one before it ended.
func TestSixteenAtOnce(t *testing.T) {
	everywhere(t, func(t *testing.T, _ *catalog.Catalog, again func() *catalog.Catalog) {
		var group errgroup.Group
		for i := range 16 {
			group.Go(func() error {
				c := again()
				for n := range 4 {
					id := fmt.Sprintf("b-%d-%d", i, n)
					for {
						number, err := c.NextVersion(t.Context(), "a", "1.0", "", func(*catalog.Build) bool { return true })
						if err != nil {
							return err
						}
						err = c.StartBuild(t.Context(), catalog.Build{ID: id, Image: "a", Version: number, Started: moment})
						var taken *catalog.TakenError
						if errors.As(err, &taken) {
							continue
						}
						if err == nil {
							err = c.Register(t.Context(), catalog.Version{Image: "a", Version: number, Build: id, Created: moment})
						}
						if err = errors.Join(err, c.MoveTags(t.Context(), moves("a", number, "stable"), anyMove)); err != nil {
							return err
						}
						break
					}
				}
				return nil
			})
		}
		require.NoError(t, group.Wait())
		c := again()
		list, err := c.Versions(t.Context(), "a")
		require.NoError(t, err)
		require.Len(t, list, 64)
		require.Equal(t, "1.0.63", list[0].Version, "no gap")
		history, err := c.Moves(t.Context(), "a")
		require.NoError(t, err)
		require.Len(t, history, 64)
		for i := range history[:63] {
			require.Equal(t, history[i+1].Version, history[i].Was)
		}
	})
}

// A build of another state counts as running as long as it is heard of, by the database's clock.
func TestBuildsOfOtherStates(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, again func() *catalog.Catalog) {
		require.NoError(t, c.StartBuild(t.Context(),
			catalog.Build{ID: "b-1", Image: "a", Version: "1.0.0", Place: "there", Host: "h", Commit: "c", Started: moment}))
		other := again()
		running, err := other.Running(t.Context())
		require.NoError(t, err)
		require.Equal(t, []string{"there", "h", "c"}, []string{running[0].Place, running[0].Host, running[0].Commit})
		require.Less(t, running[0].Quiet, time.Minute)
		require.NoError(t, other.EndBuild(t.Context(), "b-1", catalog.Interrupted, "not heard of", moment))
		require.NoError(t, c.Beat(t.Context(), "b-1"))
		running, err = other.Running(t.Context())
		require.NoError(t, err)
		require.Len(t, running, 1, "it lives, as it says")

		require.NoError(t, other.EndBuild(t.Context(), "b-1", catalog.Interrupted, "not heard of", moment))
		require.NoError(t, other.StartBuild(t.Context(),
			catalog.Build{ID: "b-2", Image: "a", Version: "1.0.0", Base: "p@1.0.0", Started: moment}))
		err = c.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.0", Build: "b-1", Created: moment})
		require.ErrorContains(t, err, "a 1.0.0 was given to build b-2 while nothing was heard of this one", "its number was given away")
		require.NoError(t, other.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.0", Build: "b-2", Created: moment}))
		require.NoError(t, c.EndBuild(t.Context(), "b-2", catalog.Interrupted, "seen too late", moment))
		builds, _, err := c.Builds(t.Context(), "a", 0)
		require.NoError(t, err)
		require.ElementsMatch(t, []string{catalog.Registered, catalog.Interrupted}, []string{builds[0].State, builds[1].State})
	})
}

// What one database exports, the other imports, with its identity; both have the same tables.
func TestFromOneDatabaseToTheOther(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0", "1.0.1")
		require.NoError(t, c.MoveTags(t.Context(), moves("a", "1.0.1", "stable"), anyMove))
		require.NoError(t, c.Recall(t.Context(),
			catalog.Recall{Image: "a", Version: "1.0.0", Why: "x", Who: "me", At: moment, Since: moment, Descendants: true}))
		require.NoError(t, c.Place(t.Context(), catalog.Placement{ID: "zy-1", Image: "a", Version: "1.0.0", Region: "r", Format: "tar",
			Verified: moment}))
		id, err := c.ID(t.Context())
		require.NoError(t, err)
		var text bytes.Buffer
		rows, err := c.Export(t.Context(), &text)
		require.NoError(t, err)
		everywhere(t, func(t *testing.T, to *catalog.Catalog, _ func() *catalog.Catalog) {
			_, err := to.ID(t.Context())
			require.NoError(t, err)
			_, _, err = to.Import(t.Context(), bytes.NewReader(text.Bytes()), "another", t.TempDir())
			require.ErrorContains(t, err, "it is another catalog")
			n, now, err := to.Import(t.Context(), bytes.NewReader(text.Bytes()), id, t.TempDir())
			require.NoError(t, err)
			require.Equal(t, []any{rows, id}, []any{n, now})
			var back bytes.Buffer
			_, err = to.Export(t.Context(), &back)
			require.NoError(t, err)
			require.Equal(t, text.String(), back.String())
			require.NoError(t, to.MoveTags(t.Context(), moves("a", "1.0.1", "edge"), anyMove), "numbers go on")
			require.NoError(t, to.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.0.1", At: moment, Since: moment}))
			_, _, err = to.Import(t.Context(), bytes.NewReader(text.Bytes()), "", t.TempDir())
			require.ErrorContains(t, err, "the catalog is not empty")
		})
	})
}

// A server that goes away for a while does not fail what is under way.
func TestServerThatComesBack(t *testing.T) {
	address := catalogtest.Database(t)
	server, err := url.Parse(address)
	require.NoError(t, err)
	front, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at, behind := front.Addr().String(), server.Host
	var through []net.Conn
	var mu sync.Mutex
	serve := func(front net.Listener) {
		for {
			in, err := front.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", behind)
			if err != nil {
				in.Close()
				continue
			}
			mu.Lock()
			through = append(through, in, out)
			mu.Unlock()
			go io.Copy(in, out)
			go io.Copy(out, in)
		}
	}
	cut := func() {
		front.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, conn := range through {
			conn.Close()
		}
	}
	go serve(front)
	server.Host = at
	c, err := catalog.Open(t.Context(), server.String(), "")
	require.NoError(t, err)
	defer c.Close()
	register(t, c, "a", "1.0.0")
	cut()
	done := make(chan error)
	go func() { done <- c.MoveTags(t.Context(), moves("a", "1.0.0", "stable"), anyMove) }()
	looked := make(chan error)
	go func() {
		_, err := c.Versions(t.Context(), "a")
		looked <- err
	}()
	_, err = catalog.Open(t.Context(), server.String(), "")
	require.ErrorContains(t, err, "the database cannot be reached: "+at)
	front, err = net.Listen("tcp", at)
	require.NoError(t, err)
	go serve(front)
	defer cut()
	require.NoError(t, <-done, "who writes waits")
	require.NoError(t, <-looked, "and who looks")
	list, err := c.Versions(t.Context(), "a")
	require.NoError(t, err)
	require.Equal(t, []string{"stable"}, list[0].Tags)
}

func TestAddressesAndTheirMistakes(t *testing.T) {
	require.True(t, catalog.IsAddress("postgres://db/x"))
	require.False(t, catalog.IsAddress("/srv/postgres/catalog.db"))
	require.Equal(t, "postgres://u:xxxxx@db/x", catalog.Plain("postgres://u:p@db/x?sslmode=disable"))
	require.Equal(t, "/a?b", catalog.Plain("/a?b"))
	for where, says := range map[string]string{"postgres://db:1x/x": "it is no address of a PostgreSQL database",
		"postgres://127.0.0.1:1/x": "the database cannot be reached: 127.0.0.1:1"} {
		_, err := catalog.Open(t.Context(), where, "a password")
		require.ErrorContains(t, err, says)
		require.NotContains(t, err.Error(), "a password")
		require.NotContains(t, err.Error(), "\n")
	}
}

// The marks of secrets have one key in all states that share a catalog: that of the first to ask.
func TestKeyOfTheMarksIsTheFirstGiven(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, again func() *catalog.Catalog) {
		give := func(key string) func() (string, error) { return func() (string, error) { return key, nil } }
		_, err := c.SecretKey(t.Context(), func() (string, error) { return "", os.ErrPermission })
		require.ErrorIs(t, err, os.ErrPermission)
		key, err := c.SecretKey(t.Context(), give("one"))
		require.NoError(t, err)
		other, err := again().SecretKey(t.Context(), give("two"))
		require.NoError(t, err)
		require.Equal(t, []string{"one", "one"}, []string{key, other})
		var out bytes.Buffer
		_, err = c.Export(t.Context(), &out)
		require.NoError(t, err)
		require.NotContains(t, out.String(), "one")
	})
}

func TestCatalogOfANewerProgramIsLeftAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "catalog.db")
	c, err := catalog.Open(t.Context(), file, "")
	require.NoError(t, err)
	require.NoError(t, c.Close())
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = catalog.Open(t.Context(), file, "")
	require.ErrorContains(t, err, "written by a newer Zygos (schema 99, this one knows 12)")
	require.NoError(t, os.WriteFile(file, []byte("this is no database, though it is long enough to be read as one"), 0o600))
	_, err = catalog.Open(t.Context(), file, "")
	require.ErrorContains(t, err, "catalog "+file)
}

// A catalog of the first schema comes up to date with all that is in it.
func TestCatalogOfAnEarlierProgramIsBroughtUpToDate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "catalog.db")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	first, err := os.ReadFile("migrations/sqlite/00001_start.sql")
	require.NoError(t, err)
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, fstest.MapFS{"00001_start.sql": {Data: first}})
	require.NoError(t, err)
	_, err = provider.Up(t.Context())
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO builds (id, image, version, base, state, who, started) VALUES ('b-1', 'a', '1.0.0', 'x@1', ` +
		`'registered', 'me', '2026-01-02T03:04:05.000Z');
		INSERT INTO versions VALUES ('a', '1.0.0', 1, 0, 0, 'b-1', '2026-01-02T03:04:05.000Z', 'x', '1', 'sha256:b', 'f', 7, '["l1","l2"]',` +
		` '{"owner":"me"}');
		INSERT INTO artifacts VALUES ('a', '1.0.0', 'tar', '` + digest.Of([]byte("t")).String() + `', 9);
		INSERT INTO placements VALUES ('zy-1', 'a', '1.0.0', 'r', 'tar', '` + digest.Of([]byte("t")).String() +
		`', '/x', '2026-01-02T03:04:05.000Z')`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	c, err := catalog.Open(t.Context(), file, "")
	require.NoError(t, err)
	defer c.Close()
	v, err := c.Resolve(t.Context(), definition.Ref{Image: "a"})
	require.NoError(t, err)
	require.Equal(t, []catalog.Tree{{Layers: []string{"l1", "l2"}}}, v.Trees)
	require.Equal(t, []catalog.Artifact{{Name: "tar", Format: "tar", Digest: digest.Of([]byte("t")), Bytes: 9}}, v.Artifacts)
	list, err := c.Placements(t.Context(), "a", "", "")
	require.NoError(t, err)
	require.Equal(t, "zy-1", list[0].ID)
	require.NoError(t, c.StartBuild(t.Context(), catalog.Build{ID: "b-2", Image: "a", Started: moment, Why: "a script changed"}))
	require.NoError(t, c.EndBuild(t.Context(), "b-2", catalog.Cancelled, "by me", moment))
	builds, _, err := c.Builds(t.Context(), "a", 0)
	require.NoError(t, err)
	require.Equal(t, "a script changed", builds[1].Why+builds[0].Why)
}

// Several callers of one catalog at once, each on a connection of its own: what one of them changed, all others see
// from then on.
func TestCallersOfOneCatalogSeeEachOthersChanges(t *testing.T) {
	everywhere(t, func(t *testing.T, c *catalog.Catalog, _ func() *catalog.Catalog) {
		register(t, c, "a", "1.0.0")
		for round := range 20 {
			recalled := round%2 == 0
			if recalled {
				require.NoError(t, c.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.0.0", Why: "x", Who: "me", At: moment, Since: moment}))
			} else {
				_, err := c.Reinstate(t.Context(), "a", "1.0.0", "me", moment)
				require.NoError(t, err)
			}
			var group errgroup.Group
			for i := range 8 {
				group.Go(func() error {
					list, err := c.Versions(t.Context(), "a")
					if err == nil && (list[0].Recall != nil) != recalled {
						err = fmt.Errorf("round %d: %v", round, list[0].Recall)
					}
					if err == nil {
						err = c.Beat(t.Context(), "b-a1.0.0")
					}
					if err == nil && i == 0 {
						_, err = c.ID(t.Context())
					}
					return err
				})
			}
			require.NoError(t, group.Wait())
		}
	})
}
