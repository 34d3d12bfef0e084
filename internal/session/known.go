package session

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"os"
	"slices"
	"strings"

	"zygos/internal/base"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
)

// Known answers a plan that is to be carried out.
type Known struct{ *Session }

var _ plan.Known = Known{}

// NextVersion is the number that the next build of an image gets.
func (k Known) NextVersion(ctx context.Context, image, series, version string) (string, error) {
	return k.Catalog.NextVersion(ctx, image, series, version, k.Runs)
}

// Parent is the version that a reference means, as a base.
func (k Known) Parent(ctx context.Context, ref definition.Ref) (*plan.Parent, error) {
	v, err := k.Catalog.Resolve(ctx, ref)
	if err != nil {
		return nil, err
	}
	return k.parent(v, func(b *definition.Base) *layer.Snapshot { return k.Base(ctx, b) })
}

// Newest is an image's newest version, or the exact one if given.
func (k Known) Newest(ctx context.Context, image, version string) (*plan.Newest, error) {
	heads, err := k.Catalog.Heads(ctx, []string{image})
	if err != nil {
		return nil, err
	}
	return newest(ctx, heads, image, version)
}

// Base is a base that was unpacked.
func (k Known) Base(ctx context.Context, b *definition.Base) *layer.Snapshot {
	k.Layers.Touch(base.Key(b))
	return k.Layers.Find(ctx, base.Key(b))
}

// Snapshot is what a stage with a key left.
func (k Known) Snapshot(ctx context.Context, key string) *layer.Snapshot {
	return k.Layers.Find(ctx, key)
}

// Text is a file's content as an earlier build saw it, nil if it was not kept, or is nothing that people compare.
func (s *Session) Text(digest string) []byte {
	text := s.Dir.ReadText(digest)
	if len(text) > textSize || bytes.IndexByte(text, 0) >= 0 {
		return nil
	}
	return text
}

const textSize = 256 << 10 // larger files are no text that people compare

// Previewer answers a plan for somebody who only looks: it checks and changes nothing.
type Previewer struct {
	Known
	// heads is what versions there are, if that was read once for many images; nil if not.
	heads *catalog.Heads
}

// Previewer is a looker that plans some images one by one.
func (s *Session) Previewer() Previewer { return Previewer{Known: Known{s}} }

// Glance is a looker that plans many images, and reads once for all what versions they have.
func (s *Session) Glance(heads *catalog.Heads) Previewer { return Previewer{Known{s}, heads} }

// NextVersion gives none at a glance: nothing is built.
func (l Previewer) NextVersion(ctx context.Context, image, series, version string) (string, error) {
	if l.heads != nil {
		return "", nil
	}
	return l.Known.NextVersion(ctx, image, series, version)
}

// Parent is the version that a reference means, as a base.
func (l Previewer) Parent(ctx context.Context, ref definition.Ref) (*plan.Parent, error) {
	resolve := l.Catalog.Resolve
	if l.heads != nil {
		resolve = l.heads.Resolve
	}
	v, err := resolve(ctx, ref)
	if err != nil {
		return nil, err
	}
	return l.parent(v, func(b *definition.Base) *layer.Snapshot { return l.Base(ctx, b) })
}

// Newest is an image's newest version, or the exact one if given.
func (l Previewer) Newest(ctx context.Context, image, version string) (*plan.Newest, error) {
	if l.heads == nil {
		return l.Known.Newest(ctx, image, version)
	}
	return newest(ctx, l.heads, image, version)
}

// Base is a base that was unpacked.
func (l Previewer) Base(_ context.Context, b *definition.Base) *layer.Snapshot {
	return l.Layers.Peek(base.Key(b))
}

// Snapshot is what a stage with a key left.
func (l Previewer) Snapshot(_ context.Context, key string) *layer.Snapshot { return l.Layers.Peek(key) }

// SecretKey is one that marks nothing as it was if there is none yet: then nothing was built.
func (l Previewer) SecretKey(ctx context.Context) ([]byte, error) {
	if l.Org.Catalog.URL != "" {
		key, err := l.Catalog.SecretKey(ctx, nil)
		return []byte(key), err
	}
	key, err := os.ReadFile(l.Dir.SecretKey())
	if errors.Is(err, os.ErrNotExist) {
		return []byte(rand.Text()), nil
	}
	return key, err
}

// Plan makes the plan of one image with what somebody knows.
func (s *Session) Plan(ctx context.Context, image string, known plan.Known, o plan.Options) (*plan.Plan, error) {
	img, err := s.Image(image)
	if err != nil {
		return nil, err
	}
	set := map[string]string{}
	for _, in := range img.Inputs {
		if value, ok := o.Set[in.Name]; ok {
			set[in.Name] = value
		}
	}
	o.Set, o.Epoch = set, s.Epoch
	return plan.Make(ctx, s.Root, s.Org, img, known, o)
}

// newest is an image's newest version, or the exact one if given, as a plan knows it; nil if there is none.
func newest(ctx context.Context, heads *catalog.Heads, image, version string) (*plan.Newest, error) {
	v, err := heads.Resolve(ctx, definition.Ref{Image: image, Selector: version})
	var missing *catalog.NotFoundError
	var recalled *catalog.RecalledError
	switch {
	case errors.As(err, &missing):
		return nil, nil
	case errors.As(err, &recalled): // all of them; none has what a build would make
		return &plan.Newest{Version: recalled.Version, Recalled: strings.TrimPrefix(recalled.Short(), image+"@")}, nil
	case err != nil:
		return nil, err
	}
	n := &plan.Newest{Version: v.Version, Fingerprint: v.Fingerprint, Created: v.Created,
		Base: plan.Base{Name: v.BaseName, Version: v.BaseVersion, Digest: v.BaseDigest}}
	if version == "" && heads.Newest(image) != nil && errors.As(heads.Newest(image).Usable(), &recalled) {
		n.Recalled = strings.TrimPrefix(recalled.Short(), image+"@")
	}
	return n, nil
}

// parent is a version as a base: what it consists of, and the layers that make the same here. A
// version of another state has none until its archive was brought; base finds it then.
func (s *Session) parent(v *catalog.Version, base func(*definition.Base) *layer.Snapshot) (*plan.Parent, error) {
	if err := v.Usable(); err != nil {
		return nil, err
	}
	parent := &plan.Parent{Version: v.Version, Trees: map[string][]string{}, Here: map[string][]string{}, Epoch: v.Epoch}
	for _, t := range v.Trees {
		parent.Trees[t.Variant] = t.Layers
		if !slices.ContainsFunc(t.Layers, func(digest string) bool { return !s.Layers.Has(digest) }) {
			parent.Here[t.Variant] = t.Layers
		} else if a := Archive(v, t.Variant); a != nil {
			if snap := base(a); snap != nil {
				parent.Here[t.Variant] = []string{snap.Layer}
			}
		}
	}
	return parent, nil
}

// Archive is the root archive of a variant of a version as a base from nowhere yet, nil if it has none.
func Archive(v *catalog.Version, variant string) *definition.Base {
	i := slices.IndexFunc(v.Artifacts, func(a catalog.Artifact) bool { return a.Variant == variant && a.Format == "tar" })
	if i < 0 {
		return nil
	}
	return &definition.Base{Name: v.Image, Release: v.Version, SHA256: v.Artifacts[i].Digest}
}
