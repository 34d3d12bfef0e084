// Package manifest writes the documents that tell what belongs where: the manifest of a version
// (zygos.manifest/1) and a region's index (zygos.region/1). They come in the one canonical form of
// RFC 8785.
package manifest

import (
	"cmp"
	_ "embed"
	"encoding/json"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/digest"
	"zygos/internal/plain"
)

// Schemas by name: JSON Schema, draft 2020-12.
var Schemas = map[string][]byte{"manifest": manifestSchema, "region": regionSchema}

//go:embed manifest.schema.json
var manifestSchema []byte

//go:embed region.schema.json
var regionSchema []byte

// Schema is the schema of manifests.
const Schema = "zygos.manifest/1"

// Manifest is zygos.manifest/1: one version, its artifacts, and which of them belong to each region.
type Manifest struct {
	Schema    string             `json:"schema"`
	Image     string             `json:"image"`
	Version   string             `json:"version"`
	Build     string             `json:"build"`
	Created   string             `json:"created"`
	Base      Base               `json:"base"`
	Labels    map[string]string  `json:"labels"`
	Checks    Checks             `json:"checks"`
	Artifacts []Artifact         `json:"artifacts"`
	Regions   map[string][]Place `json:"regions"`
}

// Base is what the version was built on.
type Base struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
}

// Checks counts what checks said of the version when it was last judged.
type Checks struct {
	Passed   int    `json:"passed"`
	Failed   int    `json:"failed"`
	Warned   int    `json:"warned,omitempty"`
	Skipped  int    `json:"skipped,omitempty"`
	Document string `json:"document,omitempty"` // digest of the last judgement; "" for none
}

// Artifact is a file captured from the build.
type Artifact struct {
	Digest  digest.Digest     `json:"digest"`
	Variant string            `json:"variant,omitempty"`
	Name    string            `json:"name"` // the format's, unless the definition gives another
	Format  string            `json:"format"`
	Bytes   int64             `json:"bytes"`
	Labels  map[string]string `json:"labels,omitempty"` // the variant's own
}

// Place is an artifact that was verified in a region.
type Place struct {
	Artifact digest.Digest `json:"artifact"`
	Variant  string        `json:"variant,omitempty"`
	Name     string        `json:"name"` // of the artifact
	ID       string        `json:"id"`
	Location string        `json:"location"`
	Verified string        `json:"verified"`
	// VerifiedBy says how: "content", "digest" or "size"; "" if that was not recorded.
	VerifiedBy string `json:"verified_by,omitempty"`
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// For makes the manifest of a version from its verified placements.
func For(v *catalog.Version, placements []catalog.Placement) *Manifest {
	m := &Manifest{Schema: Schema, Image: v.Image, Version: v.Version, Build: v.Build, Created: stamp(v.Created),
		Base: Base{v.BaseName, v.BaseVersion, v.BaseDigest}, Labels: v.Labels, Artifacts: []Artifact{}, Regions: map[string][]Place{}}
	if j := v.Judged; j != nil {
		m.Checks = Checks{j.Passed, j.Failed, j.Warned, j.Skipped, j.Digest}
	}
	if m.Labels == nil {
		m.Labels = map[string]string{}
	}
	for _, a := range v.Artifacts {
		var labels map[string]string
		if tree := v.Tree(a.Variant); tree != nil {
			labels = tree.Labels
		}
		m.Artifacts = append(m.Artifacts, Artifact{a.Digest, a.Variant, cmp.Or(a.Name, a.Format), a.Format, a.Bytes, labels})
	}
	for _, p := range placements {
		m.Regions[p.Region] = append(m.Regions[p.Region],
			Place{p.Artifact, p.Variant, cmp.Or(p.Name, p.Format), p.ID, p.Location, stamp(p.Verified), p.VerifiedBy})
	}
	for _, list := range m.Regions {
		sort.Slice(list, func(i, j int) bool { return list[i].ID < list[j].ID })
	}
	return m
}

// Read reads a manifest.
func Read(text []byte) (*Manifest, error) {
	var m Manifest
	err := json.Unmarshal(text, &m)
	return &m, err
}

// Only leaves no other region in the manifest than one.
func (m *Manifest) Only(region string) {
	for name := range m.Regions {
		if name != region {
			delete(m.Regions, name)
		}
	}
}

// Environment is what a manifest says of ids, as lines KEY=value for a shell: IMAGE_VERSION, and IMAGE_REGION_VARIANT_ARTIFACT for each
// placement.
func (m *Manifest) Environment() (lines []string) {
	list := []variable{{[]string{m.Image, "version"}, m.Version}}
	for _, region := range slices.Sorted(maps.Keys(m.Regions)) {
		for _, pl := range m.Regions[region] {
			list = append(list, variable{[]string{m.Image, region, pl.Variant, pl.Name}, pl.ID})
		}
	}
	times := map[string]int{}
	for _, v := range list {
		times[v.name()]++
	}
	for _, v := range list {
		name := v.name()
		if times[name] > 1 {
			name = v.spelled()
		}
		lines = append(lines, name+"="+plain.Shell(v.value))
	}
	slices.Sort(lines[1:])
	return lines
}

// variable is one of a shell, whose name comes from words. Empty ones count for nothing.
type variable struct {
	words []string
	value string
}

// name is what the variable is called: EBB_BASE_NORTH_TAR.
func (v variable) name() string {
	words := slices.DeleteFunc(slices.Clone(v.words), func(w string) bool { return w == "" })
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r - 'a' + 'A'
		}
		if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.Join(words, "_"))
	if name != "" && name[0] >= '0' && name[0] <= '9' { // which begins no name (POSIX.1-2024, 3.216)
		name = "_" + name
	}
	return name
}

// spelled is what it is called if another one has the same name. No two have one: between words stands _x_, for a dot _dot_, and
// small letters stand for nothing else.
func (v variable) spelled() string {
	parts := make([]string, len(v.words))
	for i, w := range v.words {
		parts[i] = strings.ReplaceAll(strings.ToUpper(w), ".", "_dot_")
	}
	return "_" + strings.ReplaceAll(strings.Join(parts, "_x_"), "-", "_")
}

// Index is zygos.region/1: everything that belongs to a region.
type Index struct {
	Schema   string    `json:"schema"`
	Region   string    `json:"region"`
	Versions []Version `json:"versions"` // by image, newest first
}

// Version is a version in a region's index.
type Version struct {
	Image     string   `json:"image"`
	Version   string   `json:"version"`
	Tags      []string `json:"tags"`
	Artifacts []Local  `json:"artifacts"`
	Recall    *Recall  `json:"recall,omitempty"`
}

// Recall says that a version must not be used from a time on.
type Recall struct {
	Since string `json:"since"`
	Why   string `json:"why"`
	By    string `json:"by"` // version that was recalled: this one or an ancestor
}

// Local is an artifact as a region holds it.
type Local struct {
	ID       string        `json:"id"`
	Variant  string        `json:"variant,omitempty"`
	Name     string        `json:"name"`
	Format   string        `json:"format"`
	Digest   digest.Digest `json:"digest"`
	Bytes    int64         `json:"bytes"`
	Location string        `json:"location"`
}

// IndexSchema is the schema of a region's index.
const IndexSchema = "zygos.region/1"

// IndexOf makes a region's index from its placements, which come by image, newest version first.
func IndexOf(region string, placements []catalog.Placement, tags func(ref string) []string,
	recall func(ref string) *catalog.Recall) *Index {
	x := &Index{Schema: IndexSchema, Region: region, Versions: []Version{}}
	for _, p := range placements {
		last := len(x.Versions) - 1
		if last < 0 || x.Versions[last].Image != p.Image || x.Versions[last].Version != p.Version {
			v := Version{Image: p.Image, Version: p.Version, Tags: append([]string{}, tags(p.Image+"@"+p.Version)...)}
			if r := recall(p.Image + "@" + p.Version); r != nil {
				v.Recall = &Recall{Since: stamp(r.Since), Why: r.Why, By: r.Image + "@" + r.Version}
			}
			x.Versions = append(x.Versions, v)
			last++
		}
		x.Versions[last].Artifacts = append(x.Versions[last].Artifacts,
			Local{p.ID, p.Variant, cmp.Or(p.Name, p.Format), p.Format, p.Artifact, p.Bytes, p.Location})
	}
	return x
}
