package inventory_test

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/inventory"
	"zygos/internal/needtest"
)

// tool runs a program that 'make test' installs.
func tool(t *testing.T, input string, args ...string) string {
	if _, err := exec.LookPath(args[0]); err != nil {
		needtest.Skip(t, "%s is not installed; 'make test' installs it", args[0])
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdin = strings.NewReader(input)
	out, err := cmd.Output()
	require.NoError(t, err, strings.Join(args, " "))
	return string(out)
}

// A database that rpm itself made, with three packages, and one of the older kind with the same headers.
func TestPackagesOfRPM(t *testing.T) {
	dir := t.TempDir()
	for i, head := range []string{"Name: tide-probe\nEpoch: 1\nBuildArch: noarch", "Name: tide-gauge\nBuildArch: noarch",
		"Name: tide-long\nBuildArch: noarch"} {
		description := "made-up"
		if i == 2 {
			description = strings.Repeat("A description over several pages of the database. ", 500)
		}
		spec := filepath.Join(dir, fmt.Sprint(i, ".spec"))
		require.NoError(t, os.WriteFile(spec, []byte(head+"\nVersion: 1.2\nRelease: 3\nSummary: made-up\nLicense: "+
			"none\n%description\n"+description+"\n%files\n"), 0o644))
		tool(t, "", "rpmbuild", "-bb", "--quiet", "--define", "_topdir "+dir+"/top", spec)
	}
	made, err := filepath.Glob(dir + "/top/RPMS/noarch/*.rpm")
	require.NoError(t, err)
	require.Len(t, made, 3)
	db := dir + "/db"
	tool(t, "", append([]string{"rpm", "--dbpath", db, "--justdb", "--nodeps", "-i"}, made...)...)
	file, err := os.ReadFile(db + "/rpmdb.sqlite")
	require.NoError(t, err)
	want := map[string]string{"tide-probe": "1:1.2-3.noarch", "tide-gauge": "1.2-3.noarch", "tide-long": "1.2-3.noarch"}
	i := inventory.Read(files{"var/lib/rpm/rpmdb.sqlite": string(file)})
	require.Equal(t, want, i.Packages)
	require.Empty(t, i.Unread)

	var dump strings.Builder
	dump.WriteString("VERSION=3\nformat=bytevalue\ntype=hash\ndb_pagesize=4096\nHEADER=END\n")
	newer, err := sql.Open("sqlite", db+"/rpmdb.sqlite")
	require.NoError(t, err)
	defer newer.Close()
	for n := range 3 {
		var header []byte
		require.NoError(t, newer.QueryRow("SELECT blob FROM Packages ORDER BY hnum LIMIT 1 OFFSET ?", n).Scan(&header))
		fmt.Fprintf(&dump, " %02x000000\n %x\n", n+1, header)
	}
	dump.WriteString(" 00000000\n 04000000\nDATA=END\n") // the number of the last package
	tool(t, dump.String(), "db5.3_load", dir+"/Packages")
	file, err = os.ReadFile(dir + "/Packages")
	require.NoError(t, err)
	i = inventory.Read(files{"usr/lib/sysimage/rpm/Packages": string(file)})
	require.Equal(t, want, i.Packages)
	require.Empty(t, i.Unread)
	for n := 0; n < len(file); n += 97 { // damage is found or does no harm
		bad := []byte(string(file))
		bad[n] ^= 0xff
		inventory.Read(files{"var/lib/rpm/Packages": string(bad)})
		inventory.Read(files{"var/lib/rpm/Packages": string(file[:n])})
	}
	require.Equal(t, "var/lib/rpm/Packages.db", inventory.Read(files{"var/lib/rpm/Packages.db": "RpmP"}).Unread)
	require.Equal(t, "var/lib/rpm/rpmdb.sqlite", inventory.Read(files{"var/lib/rpm/rpmdb.sqlite": "no database at all"}).Unread)
}
