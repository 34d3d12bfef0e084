// Package needtest is for tests that need what not every machine has.
package needtest

import (
	"os"
	"testing"
)

// Skip skips a test with a plain reason; where all must run, as CI says, the test fails.
func Skip(t testing.TB, form string, args ...any) {
	t.Helper()
	if os.Getenv("CI") != "" {
		t.Fatalf("may not be skipped here: "+form, args...)
	}
	t.Skipf(form, args...)
}
