package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog/catalogtest"
	"zygos/internal/needtest"
)

// The line to the database is cut at each statement of commands in turn, before it is carried out and after: what a command says is so,
// nothing is done twice, and the same command again ends well.
func TestLinesThatAreCut(t *testing.T) {
	t.Parallel()
	p := me(t)
	proxy := catalogtest.NewProxy(t, catalogtest.Database(t))
	p.database = proxy.Address
	p.starter()
	p.define("k", "field-os", "[keep]\nversions = 2\n[[stage]]\nname = \"s\"\ninline = \"echo $ZYGOS_VERSION > /v\"\n"+
		"[publish]\nregions = [\"here\"]\n")
	p.ok("build", "k")
	p.ok("build", "k", "--force")
	count := func(command ...string) int { return strings.Count(p.ok(command...), "\n") }
	newest := func() string { return p.versions()[0].Version }
	cuts, most := 0, 8 // at each command
	if !needtest.IsLong() {
		most = 1
	}
	if n, err := strconv.Atoi(os.Getenv("ZYGOS_CUTS")); err == nil {
		most = n / 5
	}
	// each runs a command with the line cut at each of its statements; before prepares, holds checks what it said against what is.
	each := func(before func(i int), args func(i int) []string, holds func(i int, said result)) {
		before(0)
		first := args(0)
		proxy.Cut(0, false)
		p.ok(first...)
		n, _ := proxy.Seen()
		for k := range min(most, 2*n) {
			i := 1 + k*2*n/min(most, 2*n)
			before(i)
			command := args(i)
			proxy.Cut((i+1)/2, i%2 == 0)
			r := p.run(command...)
			_, at := proxy.Seen()
			proxy.Cut(0, false)
			if at == "" {
				continue // it came to its end with fewer
			}
			cuts++
			about := fmt.Sprintf("%v, cut at %q (%d of %d, after: %v)\n%s%s", command, at, (i+1)/2, n, i%2 == 0, r.out, r.err)
			if r.code != 0 {
				t.Log(about)
				r = p.run(command...)
			}
			require.Zero(t, r.code, about+r.out+r.err)
			holds(i, r)
			if t.Failed() {
				t.Fatal(about)
			}
		}
		t.Logf("%v: %d statements", first, n)
	}

	was := 0
	each(func(int) { was = count("list", "k", "--all") }, func(int) []string { return []string{"build", "k", "--force"} },
		func(_ int, said result) {
			require.Equal(t, was+1, count("list", "k", "--all"))
			require.Contains(t, said.out, "Registered k@"+newest())
		})
	p.ok("build", "k", "--force")
	each(func(int) { p.ok("build", "k", "--force") }, func(int) []string { return []string{"publish", "k@" + newest()} },
		func(_ int, said result) {
			require.Contains(t, said.out, "verified")
			show := p.ok("show", "k@"+newest())
			require.Contains(t, show, "here")
			require.NotContains(t, show, "failed")
			require.Contains(t, p.read("regions/here/index.json"), `"version":"`+newest()+`"`)
		})
	versions := p.versions()
	p.ok("tag", "k@"+versions[0].Version, "live")
	to := func(i int) string { return "k@" + versions[1+i%2].Version }
	each(func(i int) {
		p.ok("tag", to(i+1), "live")
		was = count("tag", "k")
	}, func(i int) []string { return []string{"tag", to(i), "live"} }, func(i int, _ result) {
		require.Contains(t, p.ok("list", "k", "--tag", "live", "--json"), `"version": "`+strings.TrimPrefix(to(i), "k@")+`"`)
		require.Equal(t, was+1, count("tag", "k"), "one move")
	})
	p.ok("tag", "k", "live", "--remove")
	each(func(int) { was = len(recalled(p)) }, func(i int) []string {
		return []string{"recall", "k", "--why", fmt.Sprintf("hole %d", i), "--yes"}
	}, func(int, result) {
		list := recalled(p)
		require.Len(t, list, was+1, "one version")
		p.ok("build", "k", "--force")
	})
	for range 3 {
		p.ok("build", "k", "--force")
	}
	p.ok("prune", "k", "--yes")
	each(func(int) {
		for range 2 {
			p.ok("build", "k", "--force")
		}
		was = count("list", "k", "--all")
	}, func(int) []string { return []string{"prune", "k", "--yes"} }, func(_ int, said result) {
		require.Less(t, count("list", "k", "--all"), was)
		require.Contains(t, p.ok("prune", "k"), "0 versions to remove")
	})
	p.ok("verify", "--deep")
	t.Logf("%d cuts", cuts)
	require.GreaterOrEqual(t, cuts, 3*most)
}

// recalled lists the versions that are recalled.
func recalled(p *person) (list []shown) {
	require.NoError(p.t, json.Unmarshal([]byte(p.ok("list", "k", "--only", "recalled", "--json")), &list))
	return list
}
