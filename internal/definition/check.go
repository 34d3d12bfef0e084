package definition

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"zygos/internal/artifact"
)

// Ref names a version of an image: IMAGE, IMAGE@2.3.1, IMAGE@2.3 or IMAGE@TAG.
type Ref struct {
	Image    string
	Selector string // "" for the newest
}

// Version is a version number, MAJOR.MINOR.PATCH, as Semantic Versioning 2.0.0 orders it; pre-releases
// and build metadata have no place in an image's version.
type Version struct{ Major, Minor, Patch int64 }

// ParseVersion reads a version.
func ParseVersion(text string) (Version, bool) {
	n, ok := numbers(text, 3)
	if !ok {
		return Version{}, false
	}
	return Version{n[0], n[1], n[2]}, true
}

// ParseSeries reads a series, MAJOR.MINOR.
func ParseSeries(text string) (major, minor int64, ok bool) {
	n, ok := numbers(text, 2)
	if !ok {
		return 0, 0, false
	}
	return n[0], n[1], true
}

// numbers reads count numbers without leading zeros, nine digits at most, with dots between them.
func numbers(text string, count int) ([]int64, bool) {
	parts := strings.Split(text, ".")
	list := make([]int64, count)
	if len(parts) != count {
		return nil, false
	}
	for i, p := range parts {
		n, err := strconv.ParseUint(p, 10, 30)
		if err != nil || strconv.FormatUint(n, 10) != p || len(p) > 9 {
			return nil, false
		}
		list[i] = int64(n)
	}
	return list, true
}

// ParseRef reads a reference.
func ParseRef(text string) (Ref, error) {
	image, selector, at := strings.Cut(text, "@")
	if !IsName(image) || (at && !IsName(selector)) {
		return Ref{}, fmt.Errorf("%q is no reference; write IMAGE, IMAGE@VERSION or IMAGE@TAG, for instance turbine-link@stable", text)
	}
	return Ref{image, selector}, nil
}

func (r Ref) String() string {
	if r.Selector == "" {
		return r.Image
	}
	return r.Image + "@" + r.Selector
}

// IsVersion says whether the selector is an exact version.
func (r Ref) IsVersion() bool {
	_, ok := ParseVersion(r.Selector)
	return ok
}

// IsSeries says whether the selector is a series.
func (r Ref) IsSeries() bool {
	_, _, ok := ParseSeries(r.Selector)
	return ok
}

// IsTag says whether the selector is a tag.
func (r Ref) IsTag() bool { return r.Selector != "" && !r.IsVersion() && !r.IsSeries() }

// Means says whether the reference fits a version with its tags.
func (r Ref) Means(version string, tags []string) bool {
	switch {
	case r.Selector == "":
		return true
	case r.IsSeries():
		return strings.HasPrefix(version, r.Selector+".")
	}
	return version == r.Selector || slices.Contains(tags, r.Selector)
}

// CheckTag says why a word cannot be a tag, "" if it can.
func CheckTag(tag string) string {
	ref := Ref{Selector: tag}
	switch {
	case !IsName(tag):
		return fmt.Sprintf("%q is no tag; use lower-case letters, digits, '-' and '.'", tag)
	case ref.IsVersion() || ref.IsSeries():
		return fmt.Sprintf("%q looks like a version and cannot be a tag", tag)
	}
	return ""
}

// CheckAll finds what is wrong between the files: references to nothing, cycles, clashes of names,
// regions that ask for formats nobody makes.
func CheckAll(o *Organisation, images []*Image, problems *Problems) {
	byName := map[string]*Image{}
	var names []string
	for _, img := range images {
		byName[img.Name] = img
		names = append(names, img.Name)
		if img.Name != "" && (slices.Contains(o.taken, img.Name) || strings.HasSuffix(img.Name, ".json")) {
			problems.add(Pos{img.File, 1, 1}, fmt.Sprintf("an image cannot be called %q: regions have something of their own of that name",
				img.Name),
				"rename "+img.File)
		}
		if b := o.Base(img.Name); b != nil {
			problems.add(b.Pos, fmt.Sprintf("base %q has the name of an image (%s)", b.Name, img.File), "rename one of them")
		}
	}
	for _, b := range o.Bases {
		names = append(names, b.Name)
	}
	for _, img := range images {
		checkBase(o, img, byName, names, problems)
		checkRegions(o, img, problems)
	}
	checkCycles(o, images, byName, problems)
}

func checkBase(o *Organisation, img *Image, byName map[string]*Image, names []string, problems *Problems) {
	if img.Base == "" || o.Base(img.Base) != nil {
		return
	}
	ref, err := ParseRef(img.Base)
	if err != nil {
		problems.add(img.BasePos, fmt.Sprintf("base %q is no base and no reference", img.Base),
			"write a base of zygos.toml, or IMAGE, IMAGE@VERSION or IMAGE@TAG")
		return
	}
	if byName[ref.Image] == nil {
		what := fmt.Sprintf("base %q is neither in zygos.toml nor an image", ref.Image)
		if o.Base(ref.Image) != nil {
			problems.add(img.BasePos, fmt.Sprintf("%q is a base of zygos.toml, which says itself which release it is", ref.Image),
				fmt.Sprintf("write base = %q", ref.Image))
			return
		}
		problems.add(img.BasePos, what, suggest(ref.Image, names, "known are "+strings.Join(names, ", ")))
	}
}

func checkRegions(o *Organisation, img *Image, problems *Problems) {
	for _, name := range img.Regions {
		at := img.pos["region "+name]
		region := o.Region(name)
		if region == nil {
			problems.add(at, fmt.Sprintf("region %q is not in zygos.toml", name),
				suggest(name, o.RegionNames(), "known are "+strings.Join(o.RegionNames(), ", ")))
		}
	}
	checkNaming(o, img, problems)
	for _, name := range slices.Sorted(maps.Keys(img.Terms)) {
		at := img.pos["terms "+name]
		region := o.Region(name)
		switch {
		case region == nil:
			problems.add(at, fmt.Sprintf("region %q is not in zygos.toml", name),
				suggest(name, o.RegionNames(), "known are "+strings.Join(o.RegionNames(), ", ")))
		case !slices.Contains(img.Regions, name):
			problems.add(at, fmt.Sprintf("%s is not published to region %q", img.Name, name), "name the region in regions, or take this out")
		default:
			img.asked[name].can(region.Kind, region.can, problems)
		}
	}
}

// checkNaming finds artifacts that would have one name in a region, which publishing refuses.
func checkNaming(o *Organisation, img *Image, problems *Problems) {
	for _, name := range img.Regions {
		region := o.Region(name)
		if region == nil || region.For(img).Naming == "" { // names that Zygos chooses differ
			continue
		}
		terms, had := region.For(img), map[string]string{}
		for _, variant := range img.VariantNames() {
			for i := range img.Artifacts {
				a := &img.Artifacts[i]
				if !a.In(variant) || !terms.Takes(a.Format) {
					continue
				}
				called := Called(terms.Naming, map[string]string{"image": img.Name, "version": "1.0.0", "variant": variant, "artifact": a.Called(),
					"build": "b"})
				own := artifact.Key{Variant: variant, Name: a.Called(), Format: a.Format}.String()
				if other, taken := had[called]; taken {
					problems.add(img.pos["region "+name], fmt.Sprintf("%s and %s would have one name in %s, by name = %q", other, own, name, terms.Naming),
						"tell them apart with ${variant} and ${artifact} in the region's name")
					return
				}
				had[called] = own
			}
		}
	}
}

// mostLayers is how many layers the kernel stacks: see machine.MostLayers.
const mostLayers = 999

// checkCycles follows each image to its base; an image that comes to itself is on a cycle, and a way
// of too many stages gives a tree that cannot be stacked.
func checkCycles(o *Organisation, images []*Image, byName map[string]*Image, problems *Problems) {
	reported := map[string]bool{}
	for _, img := range images {
		way, layers := []string{img.Name}, 1+len(img.Stages)+1 // a base, stages, a seal
		for at := img; ; {
			ref, err := ParseRef(at.Base)
			next := byName[ref.Image]
			if err != nil || next == nil || o.Base(at.Base) != nil {
				if layers > mostLayers {
					problems.add(img.BasePos, fmt.Sprintf("with the images that it is built on, %s has %d stages, and a tree is stacked from %d at most",
						img.Name, layers-1-len(way), mostLayers-1-len(way)), "merge stages")
				}
				break
			}
			layers += len(next.Stages) + 1
			if i := slices.Index(way, next.Name); i >= 0 {
				way = append(way[i:], next.Name)
				key := strings.Join(slices.Sorted(slices.Values(way[1:])), " ")
				if !reported[key] {
					reported[key] = true
					problems.add(byName[way[0]].BasePos, "images are each other's base: "+strings.Join(way, " -> "),
						"let one of them start from a base of zygos.toml")
				}
				break
			}
			way = append(way, next.Name)
			at = next
		}
	}
}
