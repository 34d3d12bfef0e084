package catalog_test

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
	"zygos/internal/catalog/catalogtest"
	"zygos/internal/needtest"
)

// The clock of a catalog is in UTC, whatever time zone the environment, the address or the database names.
func TestTimeZonesChangeNothing(t *testing.T) {
	address := catalogtest.Database(t)
	a, err := catalog.Open(t.Context(), address, "")
	require.NoError(t, err)
	defer a.Close()
	require.NoError(t, a.StartBuild(t.Context(), catalog.Build{ID: "b-1", Image: "a", Version: "1.0.0", Place: "one"}))
	for _, zone := range []string{"Asia/Tokyo", "America/Los_Angeles", "Pacific/Kiritimati", "UTC"} {
		for _, by := range []string{"environment", "options", "address"} {
			t.Run(zone+" by "+by, func(t *testing.T) {
				where := address
				switch by {
				case "environment":
					t.Setenv("PGTZ", zone)
				case "options":
					t.Setenv("PGOPTIONS", "-c timezone="+zone)
				default:
					where += "&timezone=" + url.QueryEscape(zone)
				}
				b, err := catalog.Open(t.Context(), where, "")
				require.NoError(t, err)
				defer b.Close()
				running, err := b.Running(t.Context())
				require.NoError(t, err)
				require.Len(t, running, 1)
				require.Less(t, running[0].Quiet.Abs(), time.Minute, "a build of another machine is alive")
				require.Less(t, time.Until(b.Now()).Abs(), time.Minute)
			})
		}
	}
}

// A server whose clock is days off: all that machines decide by is told by that clock, so that they agree.
func TestClocksThatAreDaysOff(t *testing.T) {
	for _, off := range []time.Duration{48 * time.Hour, -48 * time.Hour} {
		t.Run(off.String(), func(t *testing.T) {
			address := serverOff(t, off)
			a, err := catalog.Open(t.Context(), address, "")
			require.NoError(t, err)
			defer a.Close()
			require.InDelta(t, off.Seconds(), time.Until(a.Now()).Seconds(), 60)
			require.NoError(t, a.StartBuild(t.Context(), catalog.Build{ID: "b-1", Image: "a", Version: "1.0.0", Place: "one", Started: a.Now()}))
			running, err := a.Running(t.Context())
			require.NoError(t, err)
			require.Less(t, running[0].Quiet.Abs(), time.Minute)
			number, err := a.NextVersion(t.Context(), "a", "1.0", "", func(b *catalog.Build) bool { return b.Quiet < 5*time.Minute })
			require.NoError(t, err)
			require.Equal(t, "1.0.1", number, "the other one is held")
			require.NoError(t, a.Register(t.Context(), catalog.Version{Image: "a", Version: "1.0.0", Build: "b-1", Created: a.Now()}))
			require.NoError(t, a.Recall(t.Context(), catalog.Recall{Image: "a", Version: "1.0.0", Why: "w", Who: "me", At: a.Now(), Since: a.Now()}))
			list, _, err := a.List(t.Context(), catalog.Query{State: "recalled"})
			require.NoError(t, err)
			require.Len(t, list, 1, "a recall from now on holds now")
			require.Error(t, list[0].Usable())
			held, err := a.TakeLeases(t.Context(), []catalog.Lease{{Name: "x", Holder: "h"}}, nil)
			require.NoError(t, err)
			require.Empty(t, held)
			held, err = a.TakeLeases(t.Context(), []catalog.Lease{{Name: "x", Holder: "i"}}, func(l *catalog.Lease) bool {
				return l.Quiet > time.Minute
			})
			require.NoError(t, err)
			require.Len(t, held, 1, "a lease that was just taken is held")
		})
	}
}

// serverOff starts a PostgreSQL server with another clock, and returns the address of an empty database there.
func serverOff(t *testing.T, off time.Duration) string {
	servers, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	library, wrong := filepath.Glob("/usr/lib/*/faketime/libfaketime.so.1")
	if err != nil || wrong != nil || len(servers) == 0 || len(library) == 0 || os.Getuid() != 0 {
		needtest.Skip(t, "a server with another clock needs root, postgresql and faketime; 'make deps' installs them")
	}
	bin := filepath.Dir(servers[0])
	dir, err := os.MkdirTemp("", "zygos-clock-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o777))
	as := func(command ...string) *exec.Cmd {
		return exec.Command("setpriv", append([]string{"--reuid=zygos-tester", "--regid=zygos-tester", "--init-groups"}, command...)...)
	}
	out, err := as(bin+"/initdb", "-D", dir+"/data", "-U", "zygos", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8").CombinedOutput()
	require.NoError(t, err, "%s", out)
	port := 42000 + os.Getpid()%1000
	server := as("env", "LD_PRELOAD="+library[0], fmt.Sprintf("FAKETIME=%+d", int(off/time.Second)), bin+"/postgres", "-D", dir+"/data", "-p",
		strconv.Itoa(port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="+dir)
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Signal(os.Interrupt)
		_ = server.Wait()
	})
	address := "postgres://zygos@127.0.0.1:" + strconv.Itoa(port) + "/postgres?sslmode=disable"
	require.Eventually(t, func() bool {
		db, err := sql.Open("pgx", address)
		if err != nil {
			return false
		}
		defer db.Close()
		return db.PingContext(t.Context()) == nil
	}, 30*time.Second, 100*time.Millisecond)
	return address
}

// A lock of another client is waited for, with a word, and then the change is made.
func TestLocksOfOthersAreSatOut(t *testing.T) {
	address := catalogtest.Database(t)
	c, err := catalog.Open(t.Context(), address, "")
	require.NoError(t, err)
	defer c.Close()
	other, err := sql.Open("pgx", address)
	require.NoError(t, err)
	defer other.Close()
	tx, err := other.BeginTx(t.Context(), nil)
	require.NoError(t, err)
	_, err = tx.ExecContext(t.Context(), "LOCK TABLE builds IN ACCESS EXCLUSIVE MODE")
	require.NoError(t, err)
	said := make(chan string, 100)
	c.Waiting = func(why string) {
		select {
		case said <- why:
		default:
		}
	}
	done := make(chan error, 2)
	go func() {
		done <- c.StartBuild(t.Context(), catalog.Build{ID: "b-1", Image: "a", Version: "1.0.0", Started: moment})
	}()
	go func() {
		_, _, err := c.Builds(t.Context(), "a", 0)
		done <- err
	}()
	require.Contains(t, <-said, "another program holds a lock on the tables of the catalog")
	require.NoError(t, tx.Rollback())
	require.NoError(t, errors.Join(<-done, <-done))
	has, _, err := c.Builds(t.Context(), "a", 0)
	require.NoError(t, err)
	require.Len(t, has, 1)
}
