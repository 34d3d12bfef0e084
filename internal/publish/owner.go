package publish

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/manifest"
	"zygos/internal/plain"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/session"
)

// ownerSchema is the schema of that document.
const ownerSchema = "zygos.owner/1"

// Owner is zygos.owner/1: the catalog whose versions a region holds. Two catalogs would give the same numbers to different versions.
type Owner struct {
	Schema       string `json:"schema"`
	Organisation string `json:"organisation"`
	Region       string `json:"region"`
	Catalog      string `json:"catalog"`
}

// OwnedError refuses to write into a region that belongs to another catalog, or may do so.
type OwnedError struct {
	Region, Place, Why string
	Renamed            bool // it is another region of the same catalog
}

func (e *OwnedError) Error() string {
	if e.Renamed {
		return fmt.Sprintf("%s (%s) %s. If it was renamed: zygos regions --claim %s", e.Region, e.Place, e.Why, e.Region)
	}
	return fmt.Sprintf("%s (%s) %s. Two catalogs would overwrite each other's versions: let both use one ([catalog] in zygos.toml), or give "+
		"this one another place. If this catalog takes the region over: zygos regions --claim %s", e.Region, e.Place, e.Why, e.Region)
}

// ReadOwner reads who writes into a region; fs.ErrNotExist if that is not said there.
func ReadOwner(ctx context.Context, at region.Region) (*Owner, error) {
	text, _, err := at.Read(ctx, region.OwnerName)
	if err != nil {
		return nil, err
	}
	var o Owner
	if err := json.Unmarshal(text, &o); err != nil || o.Schema != ownerSchema || o.Catalog == "" {
		return nil, fmt.Errorf("its %s cannot be understood", region.OwnerName)
	}
	o.Organisation, o.Catalog = plain.Text(o.Organisation), plain.Text(o.Catalog)
	return &o, nil
}

// open opens a region to write there, and makes sure that it belongs to this catalog. One without a mark gets one, if nothing there
// speaks of another catalog.
func open(ctx context.Context, s *session.Session, r *definition.Region) (region.Region, error) {
	at, err := kinds.Open(r, s.Path)
	if err == nil {
		_, err = patiently(ctx, func() (struct{}, error) { return struct{}{}, own(ctx, s, r, at) })
	}
	return at, err
}

const believed = 10 * time.Second // for which a region that was this catalog's still is

func own(ctx context.Context, s *session.Session, r *definition.Region, at region.Region) error {
	if seen, ok := s.Owned.Load(r.Name); ok && time.Since(seen.(time.Time)) < believed {
		return nil
	}
	had, err := ReadOwner(ctx, at)
	if errors.Is(err, fs.ErrNotExist) {
		why := ""
		if why, err = speaksOfAnother(ctx, s, at); err == nil && why != "" {
			err = &OwnedError{Region: r.Name, Place: kinds.Where(r), Why: why}
		}
		if err == nil {
			had, err = mark(ctx, s, r, at)
		}
	}
	if err != nil {
		return err
	}
	id, err := s.Catalog.ID(ctx)
	if err != nil {
		return err
	}
	if had.Catalog != id {
		return &OwnedError{Region: r.Name, Place: kinds.Where(r), Why: fmt.Sprintf("belongs to the catalog %s of %s, and this one is %s",
			had.Catalog, had.Organisation, id)}
	}
	if had.Region != r.Name {
		return &OwnedError{r.Name, kinds.Where(r), fmt.Sprintf("is the place of the region %s of this catalog", plain.Text(had.Region)), true}
	}
	s.Owned.Store(r.Name, time.Now())
	return nil
}

// mark says in a region that it is this catalog's, and reads what is said there then: another process may have been faster.
func mark(ctx context.Context, s *session.Session, r *definition.Region, at region.Region) (*Owner, error) {
	id, err := s.Catalog.ID(ctx)
	if err != nil {
		return nil, err
	}
	text, err := manifest.Canonical(Owner{ownerSchema, s.Org.Name, r.Name, id})
	if err != nil {
		return nil, err
	}
	if _, err := at.Document(ctx, region.OwnerName, text); err != nil {
		return nil, err
	}
	return ReadOwner(ctx, at)
}

// Claim makes a region this catalog's, whosever it was.
func Claim(ctx context.Context, s *session.Session, r *definition.Region) (was *Owner, err error) {
	at, err := kinds.Open(r, s.Path)
	if err != nil {
		return nil, err
	}
	was, _ = ReadOwner(ctx, at) // one that cannot be read is none
	_, err = patiently(ctx, func() (*Owner, error) { return mark(ctx, s, r, at) })
	return was, err
}

// speaksOfAnother says what in a region without a mark is not of this catalog, "" if nothing is.
func speaksOfAnother(ctx context.Context, s *session.Session, at region.Region) (why string, err error) {
	text, _, err := at.Read(ctx, region.IndexName)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	var versions []*manifest.Version
	if _, err := manifest.ReadIndex(ctx, bytes.NewReader(text), region.IndexName, func(v *manifest.Version) {
		versions = append(versions,
			v)
	}); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "has an index that cannot be read", nil
	}
	asked := map[string]bool{} // images
	for _, v := range versions {
		own, err := s.Catalog.Resolve(ctx, definition.Ref{Image: v.Image, Selector: v.Version})
		var unknown *catalog.NotFoundError
		if err != nil && !errors.As(err, &unknown) {
			return "", err
		}
		for _, a := range v.Artifacts {
			if err != nil || !slices.ContainsFunc(own.Artifacts, func(o catalog.Artifact) bool { return o.Digest == a.Digest }) {
				return fmt.Sprintf("has an index that names %s@%s, and this catalog knows no such version", v.Image, v.Version), nil
			}
		}
		if asked[v.Image] {
			continue
		}
		asked[v.Image] = true // the same inputs give the same bits: of one version each it is asked which build made them
		text, _, err := at.Read(ctx, region.ManifestName(v.Image, v.Version))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		if m, wrong := manifest.Read(text); err == nil && wrong == nil && m.Build != own.Build {
			return fmt.Sprintf("has an index that names %s@%s, which another catalog made", v.Image, v.Version), nil
		}
	}
	return "", nil
}

// RemoveCopy takes the bytes of a placement out of its region. Where versions share a location, they stay as long as another one is placed
// there. The lease of the placement must be held.
func RemoveCopy(ctx context.Context, s *session.Session, pl *catalog.Placement) error {
	shared, err := s.Catalog.Shared(ctx, pl)
	if err != nil || shared {
		return err
	}
	at, err := open(ctx, s, s.Org.Region(pl.Region))
	if err == nil {
		_, err = patiently(ctx, func() (struct{}, error) { return struct{}{}, at.Remove(ctx, pl.Location) })
	}
	return err
}

// Withdraw takes all documents of a version out of a region.
func Withdraw(ctx context.Context, s *session.Session, r *definition.Region, image, version string) error {
	manifest := region.ManifestName(image, version)
	at, err := open(ctx, s, r)
	if err != nil {
		return err
	}
	names, err := patiently(ctx, func() ([]string, error) { return at.Documents(ctx, path.Dir(manifest)) })
	for _, name := range names {
		err = errors.Join(err, withdraw(ctx, s, r, name))
	}
	return errors.Join(err, withdraw(ctx, s, r, manifest)) // also where a server lists nothing
}
