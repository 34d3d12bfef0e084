package catalog

import (
	"fmt"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
)

// Check refuses a version from outside, such as a record's, whose names cannot be names: they become paths and keys.
func (v *Version) Check() error {
	if _, ok := definition.ParseVersion(v.Version); !ok || !definition.IsName(v.Image) {
		return fmt.Errorf("%.80q is no version of an image", v.Ref())
	}
	for i := range v.Artifacts {
		a := &v.Artifacts[i]
		if artifact.Find(a.Format) == nil || a.Digest.IsZero() || a.Bytes < 0 || a.Variant != "" && !definition.IsName(a.Variant) ||
			a.Name != "" && !definition.IsName(a.Name) {
			return fmt.Errorf("%s: %.80q is no artifact", v.Ref(), a.Key().String())
		}
	}
	for _, t := range v.Trees {
		if t.Variant != "" && !definition.IsName(t.Variant) {
			return fmt.Errorf("%s: %.80q is no variant", v.Ref(), t.Variant)
		}
		for _, layer := range t.Layers {
			if _, err := digest.Parse(layer); err != nil {
				return fmt.Errorf("%s: layer: %w", v.Ref(), err)
			}
		}
	}
	return nil
}
