package rules

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/catalog"
)

// What was recorded in the future, by a wrong clock, has an age that is not known: no rule is met by it.
func TestAgesFromTheFuture(t *testing.T) {
	now := time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)
	ask := func(created, judged time.Time) (age_, checks_ string) {
		c := &Case{Now: now, Version: &catalog.Version{Image: "a", Version: "1.0.0", Created: created,
			Judged: &catalog.Judgement{At: judged, Passed: 1}}}
		a, err := age(t.Context(), c, "24h")
		require.NoError(t, err)
		j, err := checks(t.Context(), c, "7d")
		require.NoError(t, err)
		return a, j
	}
	days := func(n int) time.Time { return now.AddDate(0, 0, n) }
	a, j := ask(days(-2), days(-2))
	require.Empty(t, a+j)
	a, j = ask(days(2), days(2))
	require.Contains(t, a, "was registered in the future (2026-01-04T03:04:05Z), by a wrong clock")
	require.Contains(t, j, "was last judged in the future")
	a, j = ask(now.Add(-time.Hour), days(-8))
	require.Contains(t, a, "wait 23 h")
	require.Contains(t, j, "was last judged 8 days ago")
}
