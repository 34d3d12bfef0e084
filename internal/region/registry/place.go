package registry

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	godigest "github.com/opencontainers/go-digest"
	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/errdef"
	oras "oras.land/oras-go/v2/registry/remote"

	"zygos/internal/artifact"
	"zygos/internal/bounded"
	"zygos/internal/digest"
	"zygos/internal/region"
)

// Types and names of ours in manifests.
const (
	artifactType = "application/vnd.zygos.artifact.v1"
	documentType = "application/vnd.zygos.document.v1+json"
	markerType   = "application/vnd.zygos.marker.v1"
	naming       = "vnd.zygos."
)

// annotations are what a manifest says of an item.
func annotations(item region.Item) map[string]string {
	list := map[string]string{ocispec.AnnotationTitle: item.Image, ocispec.AnnotationVersion: item.Version, naming + "format": item.Format,
		naming + "artifact": item.Name}
	if item.Variant != "" {
		list[naming+"variant"] = item.Variant
	}
	for name, value := range item.Labels {
		list[naming+"label."+name] = value
	}
	return list
}

// blob is some content that a manifest names.
type blob struct {
	ocispec.Descriptor
	open func() (io.ReadSeekCloser, error)
}

func (g *registry) Place(ctx context.Context, item region.Item, told region.Told) (region.Placed, error) {
	p := region.Placed{ID: region.ID(g.name, item)}
	repo, err := g.repository(item.Image)
	if err != nil {
		return p, err
	}
	var blobs []blob
	var text []byte
	if item.Format == "oci" {
		var done func()
		if text, blobs, done, err = unpacked(ctx, item); err != nil {
			return p, err
		}
		defer done()
	} else if text, blobs, err = single(ctx, item); err != nil {
		return p, err
	}
	p.By = artifact.ByDigest
	for _, b := range blobs {
		copied, by, err := g.bring(ctx, repo, b, &item, told)
		if err != nil {
			return p, fmt.Errorf("copy %s: %w", item.File, again(err))
		}
		if p.Copied = p.Copied || copied; by == artifact.BySize {
			p.By = by
		}
	}
	d := ocispec.Descriptor{MediaType: ocispec.MediaTypeImageManifest, Digest: godigest.FromBytes(text), Size: int64(len(text))}
	there, err := repo.Manifests().Exists(ctx, d)
	if err == nil && !there {
		p.Copied = true
		err = repo.Manifests().Push(ctx, d, bytes.NewReader(text))
	}
	if err != nil {
		return p, fmt.Errorf("write the manifest of %s: %w", item.File, again(err))
	}
	p.Location = g.location(item.Image, d.Digest)
	told(region.Verifying, 0)
	_, _, err = g.Stat(ctx, p.Location)
	return p, err
}

// single is the manifest of an artifact that is one file.
func single(ctx context.Context, item region.Item) ([]byte, []blob, error) {
	format := artifact.Find(item.Format)
	if format == nil {
		return nil, nil, &artifact.UnknownError{Format: item.Format}
	}
	layer := ocispec.Descriptor{MediaType: format.MediaType, Digest: godigest.Digest(item.Digest.String()), Size: item.Bytes,
		Annotations: map[string]string{ocispec.AnnotationTitle: item.File}}
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest, ArtifactType: artifactType,
		Config: ocispec.DescriptorEmptyJSON, Layers: []ocispec.Descriptor{layer}, Annotations: annotations(item)}
	text, err := json.Marshal(m)
	return text, []blob{{layer, func() (io.ReadSeekCloser, error) {
		content, err := item.Open(ctx)
		if err != nil {
			return nil, err
		}
		return struct {
			io.ReadSeeker
			io.Closer
		}{io.NewSectionReader(content, 0, item.Bytes), content}, nil
	}}, empty()}, err
}

// empty is the content of a manifest that has no other configuration.
func empty() blob {
	return blob{ocispec.DescriptorEmptyJSON, opener(ocispec.DescriptorEmptyJSON.Data)}
}

// unpacked is the manifest of a container image in an image layout in a tar, and what it names; done closes the file.
func unpacked(ctx context.Context, item region.Item) (text []byte, blobs []blob, done func(), err error) {
	content, err := item.Open(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	file := io.NewSectionReader(content, 0, item.Bytes)
	done = func() { content.Close() }
	defer func() {
		if err != nil {
			done()
		}
	}()
	places := map[string]*io.SectionReader{}
	for in := tar.NewReader(file); ; {
		head, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, done, fmt.Errorf("%s: %w", item.File, err)
		}
		at, err := file.Seek(0, io.SeekCurrent)
		if err != nil {
			return nil, nil, done, err
		}
		places[head.Name] = io.NewSectionReader(file, at, head.Size)
	}
	find := func(d ocispec.Descriptor) (*io.SectionReader, error) {
		if r := places[path.Join(ocispec.ImageBlobsDir, "sha256", d.Digest.Encoded())]; r != nil && d.Digest.Validate() == nil {
			return r, nil
		}
		return nil, fmt.Errorf("%s lacks %s, which it names", item.File, d.Digest)
	}
	var index ocispec.Index
	var m ocispec.Manifest
	if places[ocispec.ImageIndexFile] == nil {
		return nil, nil, done, fmt.Errorf("%s is no image layout", item.File)
	}
	if err = bounded.JSON(ctx, places[ocispec.ImageIndexFile], "it", bounded.Document, &index); err == nil && len(index.Manifests) != 1 {
		err = errors.New("it has not one manifest")
	}
	if err != nil {
		return nil, nil, done, fmt.Errorf("the index in %s: %w", item.File, err)
	}
	r, err := find(index.Manifests[0])
	if err != nil {
		return nil, nil, done, err
	}
	if text, err = bounded.All(ctx, r, "it", bounded.Document); err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil {
		return nil, nil, done, fmt.Errorf("the manifest in %s: %w", item.File, err)
	}
	for _, d := range append(m.Layers, m.Config) {
		r, err := find(d)
		if err != nil {
			return nil, nil, done, err
		}
		blobs = append(blobs, blob{d, func() (io.ReadSeekCloser, error) {
			_, err := r.Seek(0, io.SeekStart)
			return unclosed{r}, err
		}})
	}
	return text, blobs, done, nil
}

// unclosed stays open when it is closed.
type unclosed struct{ io.ReadSeeker }

func (unclosed) Close() error { return nil }

// bring brings a blob to a repository, and says how its content was verified. A server takes what is pushed only if it has the digest
// (OCI Distribution Specification 1.1, Pushing a blob); of what it says that it has already, the end is read.
func (g *registry) bring(ctx context.Context, repo *oras.Repository, b blob, item *region.Item, told region.Told) (copied bool, by string,
	err error) {
	there, err := repo.Blobs().Exists(ctx, b.Descriptor)
	if err != nil {
		return false, "", err
	}
	if !there {
		if there, err = g.mount(ctx, repo, b, item.Near, told); err != nil {
			return false, "", err
		}
		copied = there
	} else {
		told(region.Verifying, b.Size)
	}
	if there {
		if item.Known {
			return copied, artifact.BySize, nil
		}
		switch same, err := sample(ctx, repo, b); {
		case err != nil:
			return copied, "", err
		case same && copied: // it was verified where it was taken from, and has the same digest
			return copied, artifact.ByDigest, nil
		case same && b.Size <= sampled:
			return copied, artifact.ByContent, nil
		case same:
			return copied, artifact.BySize, nil
		}
		told(region.Verifying, -b.Size) // it has not what it says
	}
	if err := send(ctx, repo, b, told); err != nil {
		return copied, "", err
	}
	same, err := sample(ctx, repo, b)
	if err == nil && !same {
		err = region.Missing("%s took %s and does not give it back", g.host, b.Digest)
	}
	return true, artifact.ByDigest, err
}

const sampled = 64 << 10 // bytes at the end of a blob that are read back

// sample reports whether a server gives the end of a blob as it is.
func sample(ctx context.Context, repo *oras.Repository, b blob) (same bool, err error) {
	from := max(b.Size-sampled, 0)
	own, err := b.open()
	if err != nil {
		return false, err
	}
	defer own.Close()
	if _, err := own.Seek(from, io.SeekStart); err != nil {
		return false, err
	}
	want, err := bounded.All(ctx, own, b.Digest.String(), sampled)
	if err != nil {
		return false, err
	}
	body, err := repo.Blobs().Fetch(ctx, b.Descriptor)
	if errors.Is(err, errdef.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, again(err)
	}
	defer func() { body.Close() }()
	if body, err = skip(ctx, repo, b.Descriptor, body, from); err != nil {
		return false, again(err)
	}
	got, err := bounded.All(ctx, body, b.Digest.String(), sampled)
	if large := (*bounded.TooLargeError)(nil); errors.As(err, &large) {
		return false, nil
	}
	return bytes.Equal(got, want), again(err)
}

// mount first asks the server to take the blob from where it has it already (OCI Distribution Specification 1.1,
// Mounting a blob from another repository).
func (g *registry) mount(ctx context.Context, repo *oras.Repository, b blob, near []string, told region.Told) (done bool, err error) {
	for _, location := range near {
		name, _, _ := strings.Cut(location, "@")
		from, ok := strings.CutPrefix(name, g.host+"/")
		if !ok || from == repo.Reference.Repository {
			continue
		}
		err := repo.Mount(ctx, b.Descriptor, from, func() (io.ReadCloser, error) { return nil, errElsewhere })
		if err == nil {
			told(region.Copying, b.Size)
			return true, nil
		}
		if ctx.Err() != nil {
			return false, err
		} // else it is pushed from here
	}
	return false, nil
}

// errElsewhere ends a mount that the server does not do.
var errElsewhere = errors.New("the server wants the bytes")

// push brings a blob to a repository, unless it is there. The server takes it only if it has its digest.
func push(ctx context.Context, repo *oras.Repository, b blob, told region.Told) (copied bool, err error) {
	there, err := repo.Blobs().Exists(ctx, b.Descriptor)
	if err != nil {
		return false, err
	}
	if there {
		told(region.Verifying, b.Size)
		return false, nil
	}
	return true, send(ctx, repo, b, told)
}

func send(ctx context.Context, repo *oras.Repository, b blob, told region.Told) error {
	from, err := b.open()
	if err != nil {
		return err
	}
	defer from.Close()
	in := &telling{from, told, 0}
	if err = repo.Blobs().Push(ctx, b.Descriptor, in); errors.Is(err, errdef.ErrAlreadyExists) {
		return nil
	}
	if err != nil {
		told(region.Copying, -in.sent) // it begins anew
	}
	return err
}

// telling tells what is read of it.
type telling struct {
	io.Reader
	told region.Told
	sent int64
}

func (t *telling) Read(p []byte) (int, error) {
	n, err := t.Reader.Read(p)
	t.told(region.Copying, int64(n))
	t.sent += int64(n)
	return n, err
}

func (g *registry) Stat(ctx context.Context, location string) (int64, digest.Digest, error) {
	repo, text, m, err := g.manifest(ctx, location)
	if err != nil {
		return 0, digest.Digest{}, err
	}
	for _, d := range m.Layers {
		there, err := repo.Blobs().Exists(ctx, d)
		if err == nil && !there {
			err = region.Missing("%s lacks %s, which it names", location, d.Digest)
		}
		if err != nil {
			return 0, digest.Digest{}, again(err)
		}
	}
	if m.ArtifactType == artifactType {
		d, err := digest.Parse(m.Layers[0].Digest.String())
		return m.Layers[0].Size, d, err
	}
	layout, err := g.layout(ctx, repo, text, m)
	if err != nil {
		return 0, digest.Digest{}, err
	}
	return layout.size, digest.Digest{}, nil
}

// layout is the image layout in a tar that a container image was placed from.
func (g *registry) layout(ctx context.Context, repo *oras.Repository, text []byte, m *ocispec.Manifest) (*layout, error) {
	config, err := small(ctx, repo, m.Config, bounded.Document)
	if err != nil {
		return nil, err
	}
	parts, err := artifact.Layout(text, config)
	if err != nil {
		return nil, &region.Absent{Err: err}
	}
	l := &layout{ctx: ctx, repo: repo, parts: parts}
	for _, p := range parts {
		l.size += int64(len(p.Text)) + p.Blob.Size
	}
	return l, nil
}

// small reads a blob that fits into memory: a configuration, a document.
func small(ctx context.Context, repo *oras.Repository, d ocispec.Descriptor, most int64) ([]byte, error) {
	if d.Size > most {
		return nil, region.Missing("%s is larger than it may be", d.Digest)
	}
	body, err := repo.Blobs().Fetch(ctx, d)
	if errors.Is(err, errdef.ErrNotFound) {
		return nil, &region.Absent{Err: err}
	}
	if err != nil {
		return nil, again(err)
	}
	defer body.Close()
	text, err := bounded.All(ctx, body, d.Digest.String(), max(d.Size, 0))
	if err == nil && godigest.FromBytes(text) != d.Digest {
		err = region.Missing("%s has other bytes than its digest says", d.Digest)
	}
	return text, again(err)
}

// layout reads the parts of a tar one after another.
type layout struct {
	ctx   context.Context
	repo  *oras.Repository
	parts []artifact.Part
	size  int64
	now   io.ReadCloser
}

func (l *layout) Read(p []byte) (int, error) {
	for {
		if l.now == nil {
			if len(l.parts) == 0 {
				return 0, io.EOF
			}
			part := l.parts[0]
			l.parts = l.parts[1:]
			l.now = io.NopCloser(bytes.NewReader(part.Text))
			if part.Blob.Size > 0 {
				body, err := l.repo.Blobs().Fetch(l.ctx, part.Blob)
				if err != nil {
					return 0, again(err)
				}
				l.now = body
			}
		}
		n, err := l.now.Read(p)
		if errors.Is(err, io.EOF) {
			err = l.now.Close()
			l.now = nil
		}
		if n > 0 || err != nil {
			return n, again(err)
		}
	}
}

func (l *layout) Close() error {
	if l.now != nil {
		return l.now.Close()
	}
	return nil
}

func (g *registry) Fetch(ctx context.Context, location string, from int64) (io.ReadCloser, error) {
	repo, text, m, err := g.manifest(ctx, location)
	if err != nil {
		return nil, err
	}
	var body io.ReadCloser
	if m.ArtifactType == artifactType {
		body, err = repo.Blobs().Fetch(ctx, m.Layers[0])
	} else {
		body, err = g.layout(ctx, repo, text, m)
	}
	if err != nil {
		return nil, again(err)
	}
	if m.ArtifactType == artifactType {
		body, err = skip(ctx, repo, m.Layers[0], body, from)
	} else {
		_, err = bounded.Copy(ctx, io.Discard, io.LimitReader(body, from), location, from)
	}
	if err != nil {
		return nil, errors.Join(again(err), body.Close())
	}
	return region.Body(body, again), nil
}

// skip goes on in a blob from so many bytes on. A server that says that it gives parts and does not is asked for all.
func skip(ctx context.Context, repo *oras.Repository, d ocispec.Descriptor, body io.ReadCloser, from int64) (io.ReadCloser, error) {
	if from == 0 {
		return body, nil
	}
	if s, ok := body.(io.Seeker); ok {
		_, err := s.Seek(from, io.SeekStart)
		if err == nil || ctx.Err() != nil {
			return body, err
		}
		body.Close()
		if body, err = repo.Blobs().Fetch(ctx, d); err != nil {
			return io.NopCloser(bytes.NewReader(nil)), err
		}
	}
	_, err := bounded.Copy(ctx, io.Discard, io.LimitReader(body, from), d.Digest.String(), from)
	return body, err
}

func (g *registry) Verify(ctx context.Context, location string, d digest.Digest) error {
	return region.VerifyByReading(ctx, g, location, d)
}
