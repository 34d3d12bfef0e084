package retention

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"zygos/internal/catalog"
)

// Policy says how many versions of an image stay: the newest so many, those younger than so many
// days, and with Tagged those that a tag once pointed at. Without numbers all stay.
type Policy struct {
	Versions int64
	Days     int64
	Tagged   bool
}

// Verdict says of a version why it stays; nothing if it may go.
type Verdict struct {
	*catalog.Version
	Why []string `json:"why"`
}

// Facts are what decides which versions go.
type Facts struct {
	Versions []catalog.Version // by image, newest first
	Held     []catalog.Held
	Running  []catalog.Build
	Once     map[string]bool                 // references that a tag ever pointed at
	Asked    func(image string) (why string) // why an image was not asked for, "" if it was
	Keep     func(image string) Policy
}

// Prunable judges all versions, which come by image, newest first: what the retention does not keep
// may go, but never the newest of an image, a version that a tag points at, that is the newest usable
// one of its image in a region, that a running build starts from, or that a version which stays was
// built on. Recalled versions do not count among the newest. Of images that are not asked for all versions stay. What prune began to
// remove goes in any case.
func Prunable(f Facts, now time.Time) []Verdict {
	versions := f.Versions
	list := make([]Verdict, len(versions))
	at := make(map[string]int, len(versions)) // in the list
	counts := map[string]int64{}              // usable versions of images, so far
	met := map[string]bool{}                  // images
	for i := range versions {
		v := &list[i]
		v.Version = &versions[i]
		at[v.Ref()] = i
		say := func(form string, args ...any) { v.Why = append(v.Why, fmt.Sprintf(form, args...)) }
		r := f.Keep(v.Image)
		first, newer, usable := !met[v.Image], counts[v.Image], v.Usable() == nil
		if met[v.Image] = true; usable {
			counts[v.Image]++
		}
		switch {
		case v.Leaving:
			continue
		case f.Asked(v.Image) != "":
			say("%s", f.Asked(v.Image))
		case r.Versions == 0 && r.Days == 0:
			say("no [keep] says how many stay")
		case first:
			say("the newest of the image")
		case usable && newer == 0:
			say("the newest of the image that is not recalled")
		case newer < r.Versions:
			say("among the newest %d", r.Versions)
		case r.Days > 0 && v.Created.After(now.Add(catalog.Skew)):
			say("registered in the future (%s), so its age is not known", v.Created.UTC().Format(time.RFC3339))
		case r.Days > 0 && now.Sub(v.Created) < time.Duration(r.Days)*24*time.Hour:
			say("younger than %d days", r.Days)
		}
		for _, tag := range v.Tags {
			say("tagged %s", tag)
		}
		if r.Tagged && len(v.Tags) == 0 && f.Once[v.Ref()] {
			say("once tagged")
		}
	}
	newest := map[[2]string]int{} // by region and image
	for _, h := range f.Held {
		i, ok := at[h.Image+"@"+h.Version]
		if !ok || list[i].Usable() != nil {
			continue
		}
		if n, ok := newest[[2]string{h.Region, h.Image}]; !ok || i < n {
			newest[[2]string{h.Region, h.Image}] = i
		}
	}
	for _, where := range slices.SortedFunc(maps.Keys(newest), func(a, b [2]string) int { return strings.Compare(a[0], b[0]) }) {
		v := &list[newest[where]]
		v.Why = append(v.Why, "the newest in "+where[0])
	}
	for _, b := range f.Running {
		if i, ok := at[b.Base]; ok && !list[i].Leaving {
			v := &list[i]
			v.Why = append(v.Why, fmt.Sprintf("build %s starts from it", b.ID))
		}
	}
	for i := range list {
		for v := &list[i]; len(v.Why) > 0; {
			i, ok := at[v.BaseName+"@"+v.BaseVersion]
			if !ok || !v.BaseImage {
				break
			}
			parent := &list[i]
			if len(parent.Why) > 0 {
				break // its own ancestors are seen to when it is met, or were
			}
			parent.Why = append(parent.Why, v.Ref()+" is built on it")
			v = parent
		}
	}
	return list
}
