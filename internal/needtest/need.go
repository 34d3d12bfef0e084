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

// Long leaves a test that takes a quarter of a minute or more to 'make test-long', which asks for it.
func Long(t testing.TB) {
	t.Helper()
	if !IsLong() {
		t.Skip("long; 'make test-long' runs it")
	}
}

// IsLong reports whether long tests were asked for; else some leave a short round.
func IsLong() bool { return os.Getenv("ZYGOS_LONG") != "" }
