// Package catalogtest gives tests empty databases on a real PostgreSQL server.
package catalogtest

import (
	"crypto/rand"
	"database/sql"
	"os"
	"strings"
	"testing"

	"zygos/internal/needtest"

	_ "github.com/jackc/pgx/v5/stdlib" // to make databases
	"github.com/stretchr/testify/require"
)

// Database is the address of an empty database, which sorts as people do. Without a server the test
// is skipped, but not in CI.
func Database(t *testing.T) string {
	server := os.Getenv("ZYGOS_POSTGRES")
	if server == "" {
		needtest.Skip(t, "'make test' runs a PostgreSQL server and names it in ZYGOS_POSTGRES")
	}
	db, err := sql.Open("pgx", server)
	require.NoError(t, err)
	defer db.Close()
	name := "test_" + strings.ToLower(rand.Text())
	_, err = db.ExecContext(t.Context(), "CREATE DATABASE "+name+" TEMPLATE template0 LOCALE_PROVIDER icu ICU_LOCALE 'en-US'")
	require.NoError(t, err)
	return strings.Replace(server, "/postgres?", "/"+name+"?", 1)
}
