package registry

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	godigest "github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/errdef"
	oras "oras.land/oras-go/v2/registry/remote"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/manifest"
	"zygos/internal/region"
)

// document is where a document lies. Its folder names the repository, and its tag is VERSION for the manifest, else VERSION.FILE. A
// document
// of no version has its name without the ending as its tag.
func (g *registry) document(name string) (*oras.Repository, string, error) {
	dir, file := path.Split(name)
	if dir == "" {
		repo, err := g.repository(ours + "documents")
		return repo, strings.TrimSuffix(file, path.Ext(file)), err
	}
	image, version := path.Split(strings.TrimSuffix(dir, "/"))
	repo, err := g.repository(ours + "documents/" + strings.TrimSuffix(image, "/"))
	if _, _, isManifest := region.ManifestOf(name); !isManifest {
		version += "." + file
	}
	return repo, version, err
}

// documentNamed is the document of an image that has a tag; ok is false for a tag that no document has.
func documentNamed(image, tag string) (name string, ok bool) {
	if _, isVersion := definition.ParseVersion(tag); isVersion {
		return region.ManifestName(image, tag), true
	}
	parts := strings.SplitN(tag, ".", 4)
	if len(parts) < 4 {
		return "", false
	}
	name = image + "/" + strings.Join(parts[:3], ".") + "/" + parts[3]
	_, _, _, ok = region.DocumentOf(name)
	return name, ok
}

func (g *registry) Document(ctx context.Context, name string, text []byte) (string, error) {
	repo, tag, err := g.document(name)
	if err != nil {
		return "", err
	}
	if name == region.IndexName {
		if err := g.follow(ctx, text); err != nil {
			return "", err
		}
	}
	layer := ocispec.Descriptor{MediaType: documentType, Digest: godigest.FromBytes(text), Size: int64(len(text)),
		Annotations: map[string]string{ocispec.AnnotationTitle: path.Base(name)}}
	if _, err := push(ctx, repo, blob{layer, opener(text)}, func(string, int64) {}); err != nil {
		return "", again(err)
	}
	d, err := g.put(ctx, repo, tag, ocispec.Manifest{ArtifactType: documentType, Layers: []ocispec.Descriptor{layer},
		Annotations: map[string]string{ocispec.AnnotationCreated: time.Now().UTC().Format(time.RFC3339)}})
	return repo.Reference.Registry + "/" + repo.Reference.Repository + "@" + d.String(), err
}

// put writes a manifest without configuration under a tag.
func (g *registry) put(ctx context.Context, repo *oras.Repository, tag string, m ocispec.Manifest) (godigest.Digest, error) {
	m.Versioned, m.MediaType, m.Config = specs.Versioned{SchemaVersion: 2}, ocispec.MediaTypeImageManifest, ocispec.DescriptorEmptyJSON
	if len(m.Layers) == 0 {
		m.Layers = []ocispec.Descriptor{ocispec.DescriptorEmptyJSON}
	}
	if _, err := push(ctx, repo, empty(), func(string, int64) {}); err != nil {
		return "", again(err)
	}
	return tagged(ctx, repo, tag, m.MediaType, m)
}

// tagged writes a manifest or an index under a tag.
func tagged(ctx context.Context, repo *oras.Repository, tag, kind string, v any) (godigest.Digest, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	d := ocispec.Descriptor{MediaType: kind, Digest: godigest.FromBytes(text), Size: int64(len(text))}
	return d.Digest, again(repo.Manifests().PushReference(ctx, d, bytes.NewReader(text), tag))
}

func (g *registry) Read(ctx context.Context, name string) ([]byte, time.Time, error) {
	repo, tag, err := g.document(name)
	if err != nil {
		return nil, time.Time{}, err
	}
	_, text, err := content(ctx, repo, tag)
	if errors.Is(err, region.ErrAbsent) {
		return nil, time.Time{}, fs.ErrNotExist
	}
	var m ocispec.Manifest
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err == nil && (m.ArtifactType != documentType || len(m.Layers) != 1) {
		return nil, time.Time{}, fs.ErrNotExist
	}
	if err != nil {
		return nil, time.Time{}, err
	}
	text, err = small(ctx, repo, m.Layers[0], region.Most(name))
	if errors.Is(err, region.ErrAbsent) { // the server lost it
		return nil, time.Time{}, fs.ErrNotExist
	}
	written, _ := time.Parse(time.RFC3339, m.Annotations[ocispec.AnnotationCreated]) // else it is old
	return text, written, err
}

// follow brings versions and tags in the registry to what the region's index says: a version is an index of its artifacts
// under its number, and a tag another name of that. Only what changed since the last index is looked at.
func (g *registry) follow(ctx context.Context, text []byte) error {
	var now, was manifest.Index
	if err := json.Unmarshal(text, &now); err != nil {
		return err
	}
	old, _, err := g.Read(ctx, region.IndexName)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := manifest.ReadIndex(ctx, bytes.NewReader(old), region.IndexName, func(v *manifest.Version) {
		was.Versions = append(was.Versions, *v)
	}); err != nil { // there is none that says anything
		was = manifest.Index{}
	}
	had := map[string]string{} // what was said of a version
	stale := map[[2]string]bool{}
	for _, v := range was.Versions {
		said, _ := json.Marshal(v) // it was read from JSON
		had[v.Image+"@"+v.Version] = string(said)
		for _, tag := range append(v.Tags, v.Version) {
			stale[[2]string{v.Image, tag}] = true
		}
	}
	for _, v := range now.Versions {
		for _, tag := range append(v.Tags, v.Version) {
			delete(stale, [2]string{v.Image, tag})
		}
		if said, _ := json.Marshal(v); had[v.Image+"@"+v.Version] == string(said) {
			continue
		}
		if err := g.version(ctx, &v); err != nil {
			return fmt.Errorf("tags of %s@%s: %w", v.Image, v.Version, err)
		}
	}
	for at := range stale {
		repo, err := g.repository(at[0])
		if err == nil {
			err = g.mark(ctx, repo, at[1], "removed", "the region does not hold it any more under this name")
		}
		if err != nil {
			return fmt.Errorf("tag %s of %s: %w", at[1], at[0], err)
		}
	}
	return nil
}

// version writes a version's index and its tags, or says under all of them that it is recalled, and why.
func (g *registry) version(ctx context.Context, v *manifest.Version) error {
	repo, err := g.repository(v.Image)
	if err != nil {
		return err
	}
	tags := append([]string{v.Version}, v.Tags...)
	if v.Recall != nil && v.Recall.Since <= time.Now().UTC().Format(time.RFC3339) {
		for _, tag := range tags {
			if err := g.mark(ctx, repo, tag, "recalled", v.Recall.Why); err != nil {
				return err
			}
		}
		return nil
	}
	x := ocispec.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageIndex,
		Annotations: map[string]string{ocispec.AnnotationTitle: v.Image, ocispec.AnnotationVersion: v.Version}}
	for _, a := range v.Artifacts {
		_, digest, err := g.at(a.Location)
		if err != nil {
			return err
		}
		d, text, err := content(ctx, repo, digest.String())
		if err != nil {
			return err
		}
		var m ocispec.Manifest
		if err := json.Unmarshal(text, &m); err != nil {
			return err
		}
		d = ocispec.Descriptor{MediaType: d.MediaType, Digest: d.Digest, Size: d.Size, ArtifactType: m.ArtifactType,
			Annotations: map[string]string{naming + "id": a.ID, naming + "artifact": a.Name, naming + "format": a.Format,
				naming + "digest": a.Digest.String()}}
		if a.Variant != "" {
			d.Annotations[naming+"variant"] = a.Variant
		}
		if m.ArtifactType == "" { // tools for containers choose by it
			var platform ocispec.Platform
			if text, err := small(ctx, repo, m.Config, bounded.Document); err != nil {
				return err
			} else if json.Unmarshal(text, &platform) == nil && platform.OS != "" {
				d.Platform = &ocispec.Platform{Architecture: platform.Architecture, OS: platform.OS}
			}
		}
		x.Manifests = append(x.Manifests, d)
	}
	slices.SortStableFunc(x.Manifests, func(a, b ocispec.Descriptor) int { // container images first
		return cmp.Compare(len(a.ArtifactType), len(b.ArtifactType))
	})
	for _, tag := range tags {
		if _, err := tagged(ctx, repo, tag, x.MediaType, x); err != nil {
			return err
		}
	}
	return nil
}

// mark lets a tag say what became of what it named: many servers cannot take a tag away alone.
func (g *registry) mark(ctx context.Context, repo *oras.Repository, tag, state, why string) error {
	_, err := g.put(ctx, repo, tag, ocispec.Manifest{ArtifactType: markerType,
		Annotations: map[string]string{naming + "state": state, naming + "why": why}})
	return err
}

func opener(text []byte) func() (io.ReadSeekCloser, error) {
	return func() (io.ReadSeekCloser, error) { return unclosed{bytes.NewReader(text)}, nil }
}

// repositories lists those below the region's url, by their names there; none if the server tells nobody.
func (g *registry) repositories(ctx context.Context) (list []string, err error) {
	server, err := g.server()
	if err != nil {
		return nil, err
	}
	pages := bounded.Pages{What: "the list of repositories of " + g.host}
	err = server.Repositories(ctx, "", func(names []string) error {
		if err := pages.Next(len(names), last(names)); err != nil {
			return err
		}
		for _, name := range names {
			if name, ok := strings.CutPrefix(name, strings.TrimPrefix(g.prefix+"/", "/")); ok {
				list = append(list, name)
			}
		}
		return nil
	})
	if unsupported(err) {
		return nil, nil
	}
	return list, again(err)
}

func (g *registry) List(ctx context.Context) (list []string, err error) {
	ctx, done := g.access.Patient(ctx, g.name)
	defer done()
	names, err := g.repositories(ctx)
	if err != nil {
		return nil, err
	}
	for _, image := range names {
		if strings.HasPrefix(image, ours) {
			continue
		}
		repo, err := g.repository(image)
		if err != nil {
			return nil, err
		}
		found, pages := map[string]bool{}, bounded.Pages{What: "the list of tags of " + repo.Reference.Repository}
		err = repo.Tags(ctx, "", func(tags []string) error {
			if err := pages.Next(len(tags), last(tags)); err != nil {
				return err
			}
			for _, tag := range tags {
				d, text, err := content(ctx, repo, tag)
				if err != nil {
					return err
				}
				for _, digest := range named(d, text) {
					found[g.location(image, digest)] = true
				}
			}
			return nil
		})
		if err != nil && !unsupported(err) && !errors.Is(err, region.ErrAbsent) {
			return nil, cmp.Or(context.Cause(ctx), again(err))
		}
		list = append(list, slices.Sorted(maps.Keys(found))...)
	}
	return list, nil
}

// last is the last name of a page, from which the next one goes on; "" if it has none.
func last(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return names[len(names)-1]
}

// named are the artifacts that a tag leads to.
func named(d ocispec.Descriptor, text []byte) (list []godigest.Digest) {
	if d.MediaType == ocispec.MediaTypeImageIndex {
		var x ocispec.Index
		if json.Unmarshal(text, &x) == nil {
			for _, m := range x.Manifests {
				list = append(list, m.Digest)
			}
		}
		return list
	}
	var m ocispec.Manifest
	if json.Unmarshal(text, &m) == nil && (m.ArtifactType == markerType || m.ArtifactType == documentType) {
		return nil
	}
	return []godigest.Digest{d.Digest}
}

func (g *registry) Documents(ctx context.Context, below string) (names []string, err error) {
	ctx, done := g.access.Patient(ctx, g.name)
	defer done()
	var all []string
	if image, _ := path.Split(below); image != "" {
		all = []string{ours + "documents/" + strings.TrimSuffix(image, "/")}
	} else if all, err = g.repositories(ctx); err != nil {
		return nil, err
	}
	for _, name := range all {
		image, ok := strings.CutPrefix(name, ours+"documents/")
		if !ok {
			continue
		}
		repo, err := g.repository(name)
		if err != nil {
			return nil, err
		}
		pages := bounded.Pages{What: "the list of tags of " + repo.Reference.Repository}
		err = repo.Tags(ctx, "", func(tags []string) error {
			for _, tag := range tags {
				name, ok := documentNamed(image, tag)
				if !ok || (below != "" && !strings.HasPrefix(name, below+"/")) {
					continue
				}
				if _, _, err := g.Read(ctx, name); err == nil {
					names = append(names, name)
				} else if !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
			return pages.Next(len(tags), last(tags))
		})
		if err != nil && !unsupported(err) && !errors.Is(err, errdef.ErrNotFound) {
			return nil, again(err)
		}
	}
	return names, nil
}

// Withdraw lets the document's tag say that it is gone: many servers cannot take a tag away.
func (g *registry) Withdraw(ctx context.Context, name string) error {
	if _, _, err := g.Read(ctx, name); errors.Is(err, fs.ErrNotExist) {
		return nil
	} else if err != nil {
		return err
	}
	repo, tag, err := g.document(name)
	if err != nil {
		return err
	}
	return g.mark(ctx, repo, tag, "removed", "the region does not hold the version any more")
}

// Remove deletes the artifact's manifest; the server's own collection takes the bytes. Where deleting is off, the tags alone go,
// with the region's next index.
func (g *registry) Remove(ctx context.Context, location string) error {
	repo, digest, err := g.at(location)
	if err != nil {
		return err
	}
	d, _, err := content(ctx, repo, digest.String())
	if errors.Is(err, region.ErrAbsent) {
		return nil
	}
	if err == nil {
		if err = repo.Manifests().Delete(ctx, d); unsupported(err) {
			return nil
		}
	}
	return again(err)
}

// Sweep has nothing to take away: a server drops uploads that were not ended.
func (g *registry) Sweep(context.Context) ([]string, error) { return nil, nil }
