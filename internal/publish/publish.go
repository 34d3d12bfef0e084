// Package publish places artifacts in regions, and writes the documents that tell what belongs there.
package publish

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/record"
	"zygos/internal/session"
	"zygos/internal/supply"
)

// IncompleteError says that some regions did not get what they should.
type IncompleteError struct{ Text string }

func (e *IncompleteError) Error() string { return e.Text }

// Incomplete is an *IncompleteError that says which regions did not get a version, and why; nil if all did.
func Incomplete(v *catalog.Version, done []record.Delivery) error {
	var failed, why []string
	said := map[string][]string{} // artifacts, by region and error
	whole := false
	for _, d := range done {
		if d.Error == "" {
			whole = true
			continue
		}
		if !slices.Contains(failed, d.Region) {
			failed = append(failed, d.Region)
		}
		line := d.Region + "\n" + d.Error
		if said[line] == nil {
			why = append(why, line)
		}
		said[line] = append(said[line], d.Key().String())
	}
	for i, line := range why {
		region, text, _ := strings.Cut(line, "\n")
		why[i] = fmt.Sprintf("  %s: %s", strings.TrimSpace(region+" "+strings.Join(said[line], ", ")), text)
	}
	if len(failed) == 0 {
		return nil
	}
	rest := ""
	if whole {
		rest = "; what else was placed stays, and the manifest names only what was verified"
	}
	return &IncompleteError{fmt.Sprintf("%s is not complete in %s%s\n%s\nRun the command again once the cause is mended; what is there is "+
		"not copied again. An artifact that is missing or damaged in the store is made anew by 'zygos build %s --force'",
		v.Ref(), strings.Join(failed, ", "), rest, strings.Join(why, "\n"), v.Image)}
}

// Again is the state of a placement that failed and is tried again.
const Again = "again"

// Regions lists the regions a version goes to: those named, or those of its image.
func Regions(s *session.Session, v *catalog.Version, names []string) ([]*definition.Region, error) {
	if len(names) == 0 {
		img, err := s.Image(v.Image)
		if err != nil {
			return nil, err
		}
		if names = img.Regions; len(names) == 0 {
			return nil, fmt.Errorf("%s names no regions; add [publish] regions = […], or name one with --region", img.File)
		}
	}
	var list []*definition.Region
	for _, name := range names {
		r, err := s.Region(name)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, nil
}

// Publication places a version.
type Publication struct {
	*session.Session
	Version *catalog.Version
	Regions []*definition.Region
	Host    string // where this runs
	// Progress gets what is fetched, RegionProgress how many bytes of how many are in a region, Watch what happens to an artifact, from
	// several goroutines.
	Progress       supply.Tell
	RegionProgress func(region, doing string, done, total int64)
	Watch          func(record.Delivery)
	// Capture makes an artifact that a region wants and the version lacks; nil for nobody who can.
	Capture func(ctx context.Context, variant, format string) error
}
