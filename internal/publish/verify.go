package publish

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/manifest"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/session"
	"zygos/internal/supply"
)

// States of what is found in a region.
const (
	Sound       = "sound"
	Missing     = "missing"     // it is not there
	Changed     = "changed"     // it is there with other bytes
	Foreign     = "foreign"     // it is there, and nobody here placed it
	Settings    = "settings"    // it is there, and not kept as it should be
	Outdated    = "outdated"    // a document does not say what it should
	Another     = "another's"   // the region belongs to another catalog
	Left        = "left"        // a manifest of a version that the region does not hold any more
	Unreachable = "unreachable" // nothing is known
	Repaired    = "repaired"    // it was placed again
)

// Found is what was found of a placement, or of a document, in a region.
type Found struct {
	Region   string `json:"region"`
	Image    string `json:"image,omitempty"`
	Version  string `json:"version,omitempty"`
	Variant  string `json:"variant,omitempty"`
	Name     string `json:"name,omitempty"`
	Format   string `json:"format,omitempty"`
	ID       string `json:"id,omitempty"`
	Location string `json:"location,omitempty"` // or the document's name
	State    string `json:"state"`
	What     string `json:"what,omitempty"` // why it is not sound
}

// Key tells the artifact from the others of its version; a document has none.
func (f *Found) Key() artifact.Key {
	return artifact.Key{Variant: f.Variant, Name: f.Name, Format: f.Format}
}

// Mends says whether placing it again, or writing it anew, mends it.
func (f *Found) Mends() bool {
	return f.State == Missing || f.State == Changed || f.State == Settings || f.State == Outdated || f.State == Left
}

// Broken says whether it is not, or may not be, as it should.
func (f *Found) Broken() bool { return f.Mends() || f.State == Unreachable || f.State == Another }

// Tally is how many of what was found are what.
type Tally struct{ Sound, Regions, Mends, Broken, Foreign int }

// Count counts what was found.
func Count(list []Found) (t Tally) {
	regions := map[string]bool{}
	for i := range list {
		f := &list[i]
		regions[f.Region] = true
		for n, is := range map[*int]bool{&t.Sound: f.State == Sound, &t.Mends: f.Mends(), &t.Broken: f.Broken(), &t.Foreign: f.State == Foreign} {
			if is {
				*n++
			}
		}
	}
	t.Regions = len(regions)
	return t
}

// Ref is the version that it belongs to, "" for none.
func (f *Found) Ref() string {
	if f.Image == "" {
		return ""
	}
	return f.Image + "@" + f.Version
}

// Verification compares what the catalog knows with what is in regions.
type Verification struct {
	*session.Session
	Version *catalog.Version // nil for all
	Regions []*definition.Region
	Deep    bool // read the bytes, and do not trust sizes and what a region says of them
	// Progress is told the bytes of the placements that were looked at.
	Progress       supply.Tell
	RegionProgress func(region, doing string, done, total int64) // of what is placed again
	Who            string                                        // who repairs

	read []catalog.Placement // of which the content was read, and is not recorded to have been
}

// owner is what is wrong with whose a region is, nil for nothing.
func (c *Verification) owner(ctx context.Context, r *definition.Region, at region.Region) *Found {
	o, err := ReadOwner(ctx, at)
	if errors.Is(err, fs.ErrNotExist) { // nobody's yet
		return nil
	}
	if err != nil {
		return &Found{Region: r.Name, State: Unreachable, What: err.Error()}
	}
	id, err := c.Catalog.ID(ctx)
	if err != nil || o.Catalog == id { // what follows asks the catalog too
		return nil
	}
	return &Found{Region: r.Name, Location: region.OwnerName, State: Another, What: fmt.Sprintf(
		"the region belongs to the catalog %s of %s; zygos regions --claim %s takes it over", o.Catalog, o.Organisation, r.Name)}
}

// Find lists what is where it should be, and what is not. An error is one of this side; a region that does not answer is
// among what is found.
func (c *Verification) Find(ctx context.Context) (list []Found, err error) {
	image, version := "", ""
	if c.Version != nil {
		image, version = c.Version.Image, c.Version.Version
	}
	placements, err := c.Catalog.Placements(ctx, image, version, "")
	if err != nil {
		return nil, err
	}
	total, done := int64(0), int64(0)
	in := map[string][]catalog.Placement{}
	for _, pl := range placements {
		if slices.ContainsFunc(c.Regions, func(r *definition.Region) bool { return r.Name == pl.Region }) && !pl.Leaving {
			in[pl.Region] = append(in[pl.Region], pl)
			total += pl.Bytes
		}
	}
	for _, r := range c.Regions {
		at, err := kinds.Open(r, c.Path)
		if err != nil {
			list = append(list, Found{Region: r.Name, State: Unreachable, What: err.Error()})
			continue
		}
		if f := c.owner(ctx, r, at); f != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			list = append(list, *f)
			continue
		}
		silent := false
		for _, pl := range in[r.Name] {
			f := Found{Region: r.Name, Image: pl.Image, Version: pl.Version, Variant: pl.Variant, Name: pl.Name, Format: pl.Format,
				ID: pl.ID, Location: pl.Location}
			state, err := c.look(ctx, r, &pl)
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if f.State = state; err != nil {
				f.What = err.Error()
			}
			if again := (*region.AgainError)(nil); errors.As(err, &again) { // it would be the same with all others
				list = append(list, Found{Region: r.Name, State: Unreachable, What: err.Error()})
				silent = true
				break
			}
			if list = append(list, f); c.Deep && state == Sound && !pl.Read() {
				pl.VerifiedBy, pl.Verified = artifact.ByContent, c.Catalog.Now()
				c.read = append(c.read, pl)
			}
			done += pl.Bytes
			c.Progress("verify", done, total)
		}
		if silent {
			continue
		}
		more, err := c.documents(ctx, r, at, in[r.Name])
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	return list, nil
}

// look is what became of a placement, and why it is not sound.
func (c *Verification) look(ctx context.Context, r *definition.Region, pl *catalog.Placement) (state string, err error) {
	img, err := c.Image(pl.Image)
	if err != nil {
		img = nil // its definition is gone, the region's own terms hold
	}
	at, err := kinds.Open(r.For(img), c.Path)
	if err != nil {
		return Unreachable, err
	}
	var size int64
	got, err := patiently(ctx, func() (d digest.Digest, err error) {
		size, d, err = at.Stat(ctx, pl.Location)
		return d, err
	})
	switch {
	case errors.Is(err, region.ErrAbsent):
		return Missing, err
	case err != nil:
		return Unreachable, err
	case size != pl.Bytes:
		return Changed, fmt.Errorf("it has %d bytes instead of %d", size, pl.Bytes)
	case !got.IsZero() && got != pl.Artifact:
		return Changed, fmt.Errorf("it has the digest %s instead of %s", got, pl.Artifact)
	}
	if aligner, ok := at.(region.Aligner); ok {
		differs, err := patiently(ctx, func() ([]string, error) { return aligner.Align(ctx, pl.Location, false) })
		if err != nil {
			return Unreachable, err
		}
		if len(differs) > 0 {
			return Settings, errors.New(strings.Join(differs, ", "))
		}
	}
	if !c.Deep {
		return Sound, nil
	}
	if err = at.Verify(ctx, pl.Location, pl.Artifact); errors.Is(err, region.ErrAbsent) {
		return Changed, err
	} else if err != nil {
		return Unreachable, err
	}
	return Sound, nil
}

// documents finds documents that do not say what they should, and what nobody here placed.
func (c *Verification) documents(ctx context.Context, r *definition.Region, at region.Region,
	placed []catalog.Placement) (list []Found, err error) {
	differs := func(image, version, name string, want []byte) {
		f := Found{Region: r.Name, Image: image, Version: version, Location: name}
		text, err := patiently(ctx, func() (text []byte, err error) {
			text, _, err = at.Read(ctx, name)
			return text, err
		})
		switch {
		case errors.Is(err, fs.ErrNotExist):
			f.State, f.What = Outdated, "the document is not there"
		case err != nil:
			f.State, f.What = Unreachable, err.Error()
		case !manifest.Agree(text, want):
			f.State, f.What = Outdated, "it does not say what the catalog knows"
		default:
			return
		}
		list = append(list, f)
	}
	known, seen := map[string]bool{}, map[string]bool{}
	for _, pl := range placed {
		known[pl.Location] = true
		if ref := pl.Image + "@" + pl.Version; !seen[ref] {
			seen[ref] = true
			v, err := c.Catalog.Resolve(ctx, definition.Ref{Image: pl.Image, Selector: pl.Version})
			if err != nil {
				continue // pruned meanwhile
			}
			m, err := Manifest(ctx, c.Session, v)
			if err != nil {
				return nil, err
			}
			text, err := manifest.Canonical(m)
			if err != nil {
				return nil, err
			}
			differs(pl.Image, pl.Version, region.ManifestName(pl.Image, pl.Version), text)
		}
	}
	if c.Version != nil {
		return list, nil
	}
	text, err := index(ctx, c.Session, r)
	if err != nil {
		return nil, err
	}
	if len(placed) > 0 {
		differs("", "", region.IndexName, text)
	}
	there, err := patiently(ctx, func() ([]string, error) { return at.List(ctx) })
	if err != nil {
		return append(list, Found{Region: r.Name, State: Unreachable, What: err.Error()}), nil
	}
	for _, location := range there {
		if !known[location] {
			list = append(list, Found{Region: r.Name, Location: location, State: Foreign, What: "no version of this catalog was placed there"})
		}
	}
	left, err := c.leftovers(ctx, r, at, seen)
	return append(list, left...), err
}

// leftovers finds manifests of ours in a region that holds nothing of their version: a publication or a removal left them that met
// another one. What other catalogs put there is none.
func (c *Verification) leftovers(ctx context.Context, r *definition.Region, at region.Region, held map[string]bool) (list []Found,
	err error) {
	names, err := patiently(ctx, func() ([]string, error) { return at.Documents(ctx, "") })
	if err != nil {
		return []Found{{Region: r.Name, State: Unreachable, What: err.Error()}}, ctx.Err()
	}
	for _, name := range names {
		image, version, ok := region.ManifestOf(name)
		if !ok || held[image+"@"+version] {
			continue
		}
		text, _, err := at.Read(ctx, name)
		if err != nil {
			continue // it is gone meanwhile, or nothing that can be read
		}
		m, err := manifest.Read(text)
		if err != nil || m.Schema != manifest.Schema || m.Image != image || m.Version != version {
			continue
		}
		b, err := c.Catalog.Build(ctx, m.Build)
		var unknown *catalog.NotFoundError
		if errors.As(err, &unknown) || err == nil && b.ID != m.Build {
			continue
		}
		if err != nil {
			return nil, err
		}
		list = append(list, Found{Region: r.Name, Image: image, Version: version, Location: name, State: Left,
			What: "the region holds no artifact of this version any more"})
	}
	return list, nil
}
