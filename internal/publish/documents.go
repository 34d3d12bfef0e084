package publish

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/manifest"
	"zygos/internal/region"
	"zygos/internal/session"
	"zygos/internal/store"
)

// Manifest is that of a version, as the catalog has it.
func Manifest(ctx context.Context, s *session.Session, v *catalog.Version) (*manifest.Manifest, error) {
	placements, err := s.Catalog.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return nil, err
	}
	return manifest.For(v, placements), nil
}

// WriteManifest writes a version's manifest into the state and into each region that holds the version, and takes it out of those
// just tried that do not. It does so again while another process changes what the manifest says.
func WriteManifest(ctx context.Context, s *session.Session, v *catalog.Version, tried []*definition.Region) error {
	own := s.Dir.Manifest(v.Image, v.Version)
	name := region.ManifestName(v.Image, v.Version)
	wrote := map[string]bool{} // by region
	var text []byte
	for {
		now, err := s.Catalog.Resolve(ctx, definition.Ref{Image: v.Image, Selector: v.Version})
		var gone *catalog.NotFoundError
		if errors.As(err, &gone) { // pruned meanwhile
			now, err = v, nil
		}
		if err != nil {
			return err
		}
		m, err := Manifest(ctx, s, now)
		if err != nil {
			return err
		}
		was := text
		if text, err = manifest.Canonical(m); err != nil {
			return err
		}
		if bytes.Equal(text, was) {
			return nil
		}
		if gone == nil {
			if err := os.MkdirAll(filepath.Dir(own), 0o755); err != nil {
				return err
			}
			if err := store.WriteFile(own, text); err != nil {
				return err
			}
		}
		var failed error
		for i := range s.Org.Regions {
			r := &s.Org.Regions[i]
			switch holds := m.Regions[r.Name] != nil; {
			case holds:
				wrote[r.Name] = true
				err = write(ctx, s, r, name, text)
			case wrote[r.Name] || slices.Contains(tried, r):
				err = Withdraw(ctx, s, r, v.Image, v.Version)
			default:
				continue
			}
			if err != nil {
				failed = errors.Join(failed, &IncompleteError{fmt.Sprintf("the manifest could not be written to %s: %v", r.Name, err)})
			}
		}
		if failed != nil {
			return failed
		}
	}
}

// withdraw takes a document out of a region.
func withdraw(ctx context.Context, s *session.Session, r *definition.Region, name string) error {
	from, err := open(ctx, s, r)
	if err == nil {
		_, err = patiently(ctx, func() (struct{}, error) { return struct{}{}, from.Withdraw(ctx, name) })
	}
	return err
}

// Refresh writes the indexes of the regions that hold versions of an image, and of those just tried.
func Refresh(ctx context.Context, s *session.Session, image string, tried ...*definition.Region) error {
	lock, err := lockRegions(ctx, s)
	if err != nil {
		return err
	}
	defer lock.Close()
	var failed error
	for i := range s.Org.Regions {
		r := &s.Org.Regions[i]
		held, err := s.Catalog.Placements(ctx, image, "", r.Name)
		if err != nil {
			return err
		}
		if len(held) == 0 && !slices.Contains(tried, r) {
			continue
		}
		if err := writeIndex(ctx, s, r); err != nil {
			failed = errors.Join(failed, &IncompleteError{fmt.Sprintf("the index of %s could not be written: %v", r.Name, err)})
		}
	}
	return failed
}

// lockRegions lets no other process of this state write indexes until the lock is closed.
func lockRegions(ctx context.Context, s *session.Session) (io.Closer, error) {
	lock, err := os.OpenFile(s.Dir.RegionsLock(), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	if err := flock.Take(ctx, lock); err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	return lock, nil
}

// RefreshRegion writes the index of one region.
func RefreshRegion(ctx context.Context, s *session.Session, r *definition.Region) error {
	lock, err := lockRegions(ctx, s)
	if err != nil {
		return err
	}
	defer lock.Close()
	return writeIndex(ctx, s, r)
}

// write writes a document into a region.
func write(ctx context.Context, s *session.Session, r *definition.Region, name string, text []byte) error {
	to, err := open(ctx, s, r)
	if err == nil {
		_, err = patiently(ctx, func() (string, error) { return to.Document(ctx, name, text) })
	}
	return err
}

// patiently asks a region something small, again where that may help.
func patiently[T any](ctx context.Context, do func() (T, error)) (T, error) {
	return region.Retry(ctx, 3, func() int64 { return 0 }, nil, do)
}

// writeIndex writes a region's index, and again while another machine changes what it says.
func writeIndex(ctx context.Context, s *session.Session, r *definition.Region) error {
	text, err := index(ctx, s, r)
	for err == nil {
		written := text
		if err = write(ctx, s, r, region.IndexName, written); err != nil {
			return err
		}
		if text, err = index(ctx, s, r); bytes.Equal(text, written) {
			break
		}
	}
	return err
}

// index is what the index of a region has to say; versions that prune removes are in it no more.
func index(ctx context.Context, s *session.Session, r *definition.Region) ([]byte, error) {
	placements, err := s.Catalog.Placements(ctx, "", "", r.Name)
	if err != nil {
		return nil, err
	}
	placements = slices.DeleteFunc(placements, func(pl catalog.Placement) bool { return pl.Leaving })
	tags, err := s.Catalog.Tags(ctx)
	if err != nil {
		return nil, err
	}
	recalled, err := s.Catalog.Recalled(ctx)
	if err != nil {
		return nil, err
	}
	return manifest.Canonical(manifest.IndexOf(r.Name, placements, func(ref string) []string { return tags[ref] },
		func(ref string) *catalog.Recall { return recalled[ref] }))
}
