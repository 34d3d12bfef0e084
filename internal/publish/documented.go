package publish

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path"
	"path/filepath"

	"zygos/internal/bounded"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/manifest"
	"zygos/internal/region"
	"zygos/internal/session"
	"zygos/internal/supply"
)

// Documented compares what documents say with what is in regions, without a catalog.
type Documented struct {
	Deep     bool // read the bytes
	Progress supply.Tell
}

// Index finds what the index of a region speaks of: beside the file, or below its address on a server, as folders and stores have it.
func (d *Documented) Index(ctx context.Context, from string) (list []Found, err error) {
	x := manifest.Index{}
	if x.Region, err = supply.Index(ctx, from, func(v *manifest.Version) { x.Versions = append(x.Versions, *v) }); err != nil {
		return nil, err
	}
	total, done := int64(0), int64(0)
	for _, v := range x.Versions {
		for _, a := range v.Artifacts {
			total += a.Bytes
		}
	}
	for _, v := range x.Versions {
		for _, a := range v.Artifacts {
			f := Found{Region: x.Region, Image: v.Image, Version: v.Version, Variant: a.Variant, Name: a.Name, Format: a.Format, ID: a.ID,
				Location: a.Location, State: Sound}
			if err := d.beside(ctx, from, path.Join(v.Image, v.Version, path.Base(a.Location)), a); err != nil {
				f.State, f.What = Unreachable, err.Error()
				var changed *changedError
				switch {
				case ctx.Err() != nil:
					return nil, ctx.Err()
				case errors.As(err, &changed):
					f.State = Changed
				case errors.Is(err, region.ErrAbsent) || errors.Is(err, os.ErrNotExist):
					f.State = Missing
				}
			}
			list = append(list, f)
			done += a.Bytes
			d.Progress("verify", done, total)
		}
	}
	return list, nil
}

// changedError says that other bytes are there.
type changedError struct{ what string }

func (e *changedError) Error() string { return e.what }

// beside compares what lies beside an index with what that says of it.
func (d *Documented) beside(ctx context.Context, index, name string, a manifest.Local) error {
	if !filepath.IsLocal(name) {
		return fmt.Errorf("%q is no name of a file below the index", name)
	}
	most := a.Bytes
	if most == 0 { // an old index does not say it
		most = math.MaxInt64
	}
	size, got, err := supply.Beside(ctx, index, name, most, d.Deep)
	var large *bounded.TooLargeError
	switch {
	case errors.As(err, &large):
		return &changedError{fmt.Sprintf("it has more than %d bytes", a.Bytes)}
	case err != nil:
		return err
	case a.Bytes > 0 && size >= 0 && size != a.Bytes:
		return &changedError{fmt.Sprintf("it has %d bytes instead of %d", size, a.Bytes)}
	case d.Deep && got != a.Digest:
		return &changedError{fmt.Sprintf("it has the digest %s instead of %s", got, a.Digest)}
	}
	return nil
}

// ReadManifest reads a manifest from a file; one that its schema does not allow is refused.
func ReadManifest(file string) (*manifest.Manifest, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if err := manifest.Check("manifest", text); err != nil {
		return nil, fmt.Errorf("%s is no manifest: %w", file, err)
	}
	return manifest.Read(text)
}

// Manifest finds what a manifest speaks of in the regions of a workspace.
func (d *Documented) Manifest(ctx context.Context, s *session.Session, m *manifest.Manifest, regions []*definition.Region) (list []Found,
	err error) {
	c := Verification{Session: s, Deep: d.Deep}
	known := map[string]manifest.Artifact{}
	for _, a := range m.Artifacts {
		known[a.Variant+"/"+a.Name] = a
	}
	for _, r := range regions {
		for _, place := range m.Regions[r.Name] {
			a := known[place.Variant+"/"+place.Name]
			f := Found{Region: r.Name, Image: m.Image, Version: m.Version, Variant: place.Variant, Name: place.Name, Format: a.Format, ID: place.ID,
				Location: place.Location}
			pl := catalog.Placement{Image: m.Image, Version: m.Version, Region: r.Name, Artifact: place.Artifact, Bytes: a.Bytes,
				Location: place.Location}
			if f.State, err = c.look(ctx, r, &pl); err != nil {
				f.What = err.Error()
			}
			if a.Digest != place.Artifact {
				f.State, f.What = Changed, "the manifest says two things of its digest"
			}
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			list = append(list, f)
		}
	}
	return list, nil
}
