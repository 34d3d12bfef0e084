package judge

import (
	"cmp"

	apk "github.com/knqyf263/go-apk-version"
	deb "github.com/knqyf263/go-deb-version"
	rpm "github.com/knqyf263/go-rpm-version"
)

// compare orders two versions of a package as the tree's package manager does: negative if a is the older one.
func (t *Tree) compare(a, b string) int {
	switch {
	case t.Read("lib/apk/db/installed") != nil:
		if !apk.Valid(a) || !apk.Valid(b) {
			break
		}
		return apk.Version(a).Compare(apk.Version(b))
	case t.node("/var/lib/rpm") != nil || t.node("/usr/lib/sysimage/rpm") != nil:
		return rpm.NewVersion(a).Compare(rpm.NewVersion(b))
	}
	x, err1 := deb.NewVersion(a)
	y, err2 := deb.NewVersion(b)
	if err1 != nil || err2 != nil {
		return cmp.Compare(a, b)
	}
	return x.Compare(y)
}
