package plain

import (
	"cmp"
	"fmt"
	"strings"
	"time"
)

// MiB is a size for people.
func MiB(n int64) string {
	if n > 0 && n < 1<<20/20 {
		return "<0.1 MiB"
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}

// Duration is a duration for people.
func Duration(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Age is how long ago something was.
func Age(t time.Time) string {
	d := time.Since(t)
	if d < -time.Minute { // by a wrong clock
		return "in the future"
	}
	if d = max(0, d); d < time.Minute {
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	if d < time.Hour {
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return Duration(d)
}

// Time is a time in UTC, ISO 8601.
func Time(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }

// Digest is the head of a digest, enough to tell it apart.
func Digest(digest string) string {
	d := strings.TrimPrefix(digest, "sha256:")
	return d[:min(12, len(d))]
}

// Counted is a number with its noun: "1 file", "2 files".
func Counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "y") {
		return fmt.Sprintf("%d %sies", n, strings.TrimSuffix(noun, "y"))
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Shell is a value as a shell takes it, whatever it holds.
func Shell(value string) string {
	if strings.Trim(value, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.:/@") == "" {
		return value
	}
	return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
}

// CompareVersions compares as people do: runs of digits by their value, all else as text.
func CompareVersions(a, b string) int {
	run := func(s string) (string, string, bool) {
		digit := func(c byte) bool { return c >= '0' && c <= '9' }
		i := 0
		for i < len(s) && digit(s[i]) == digit(s[0]) {
			i++
		}
		return s[:i], s[i:], s != "" && digit(s[0])
	}
	for a != "" || b != "" {
		x, restA, numberA := run(a)
		y, restB, numberB := run(b)
		if numberA && numberB {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if c := cmp.Compare(len(x), len(y)); c != 0 {
				return c
			}
		}
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
		a, b = restA, restB
	}
	return 0
}
