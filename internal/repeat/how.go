package repeat

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// forms are what often differs from build to build.
var forms = sync.OnceValue(func() (f struct{ date, number *regexp.Regexp }) {
	f.date = regexp.MustCompile(`\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?)?|\d\d:\d\d:\d\d|\b1[6-9]\d{8}\b|` +
		`\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun),? [A-Z0-9][a-z0-9]+ +\w+`)
	f.number = regexp.MustCompile(`[0-9a-fA-F]{8,}|\d+`)
	return f
})

// packed are the first bytes of files that often hold the time at which they were packed (RFC 1952, section 2.3; zip, PKWARE).
var packed = [][]byte{{0x1f, 0x8b}, []byte("PK\x03\x04")}

// how says in which way two contents of a file differ, and what to do about it.
func how(name string, was, now []byte, network bool) string {
	if isPackages(name) {
		return "another version of a package was installed: pin versions, or take packages from an archive that does not move"
	}
	for _, first := range packed {
		if bytes.HasPrefix(was, first) && bytes.HasPrefix(now, first) {
			return "it is packed with the time of packing: use gzip -n, or give the archive fixed times"
		}
	}
	if slices.Contains(was, 0) || slices.Contains(now, 0) {
		if len(was) == len(now) {
			return "as many bytes, and others: a random value, or a time"
		}
		return "it is binary, and differs"
	}
	a, b := strings.Split(string(was), "\n"), strings.Split(string(now), "\n")
	sortedA, sortedB := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	if slices.Equal(sortedA, sortedB) {
		return "the same lines in another order: sort what is listed"
	}
	f := forms()
	dateless := func(text []byte) string { return f.date.ReplaceAllString(string(text), "#") }
	if dateless(was) == dateless(now) {
		return "it holds a date or a time: write ${SOURCE_DATE_EPOCH}, or none"
	}
	numberless := func(text []byte) string { return f.number.ReplaceAllString(dateless(text), "#") }
	if numberless(was) == numberless(now) {
		return "it holds a number or an id that is drawn anew: leave it to the first start of a clone"
	}
	if len(was) == len(now) && len(a) == len(b) {
		return "as many characters, and others: a random value"
	}
	if network {
		return "its text differs, and the stage reaches the network: name what it fetches by version or checksum"
	}
	return "its text differs: a script draws it from a clock or chance"
}

// isPackages says whether a file is a database of installed packages.
func isPackages(name string) bool {
	return slices.Contains([]string{"var/lib/dpkg/status", "lib/apk/db/installed", "var/lib/rpm/rpmdb.sqlite",
		"usr/lib/sysimage/rpm/rpmdb.sqlite"}, path.Clean(name))
}
