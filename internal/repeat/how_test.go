package repeat

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Each way in which contents differ is told by its own words.
func TestHowContentsDiffer(t *testing.T) {
	for _, c := range []struct{ name, was, now, says string }{
		{"a", "b\na\n", "a\nb\n", "another order"},
		{"a", "at 2026-01-02T03:04:05Z\n", "at 2027-11-12T13:14:15Z\n", "a date or a time"},
		{"a", "Thu Nov 26 21:00:01 UTC\n", "Fri Nov 27 22:00:02 UTC\n", "a date or a time"},
		{"a", "pid 17\n", "pid 1234\n", "drawn anew"},
		{"a", "id 0a1b2c3d4e\n", "id ffeeddccbb\n", "drawn anew"},
		{"a", "xkcdq\n", "plmwz\n", "a random value"},
		{"a", "one\n", "something else\nand more\n", "its text differs"},
		{"a", "\x00\x01", "\x00\x02", "as many bytes"},
		{"a", "\x00\x01", "\x00\x02\x03", "it is binary"},
		{"a", "\x1f\x8b\x01", "\x1f\x8b\x02", "gzip -n"},
		{"a", "PK\x03\x04\x01", "PK\x03\x04\x02", "packed with the time"},
		{"var/lib/dpkg/status", "Version: 1\n", "Version: 2\n", "another version of a package"},
	} {
		require.Contains(t, how(c.name, []byte(c.was), []byte(c.now), false), c.says, c.was)
	}
}
