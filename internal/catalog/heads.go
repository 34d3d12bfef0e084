package catalog

import (
	"context"
	"strings"

	"zygos/internal/definition"
)

// Heads is what most references mean, read at once: the newest version of each of some images and,
// once a tag is asked for, every version that one points at. It is not for several goroutines.
type Heads struct {
	catalog *Catalog
	newest  map[string]*Version // by image
	tagged  map[string]*Version // by IMAGE@TAG; nil until a tag is asked for
}

// Heads reads the newest versions of images.
func (c *Catalog) Heads(ctx context.Context, images []string) (*Heads, error) {
	h := &Heads{catalog: c, newest: map[string]*Version{}}
	for len(images) > 0 {
		some := images[:min(group, len(images))]
		images = images[len(some):]
		args := make([]any, len(some))
		for i := range some {
			args[i] = some[i]
		}
		list, err := c.versions(ctx, `WHERE (v.image, v.version) IN (SELECT i.column1, (SELECT w.version FROM versions w WHERE w.image = i.column1
			ORDER BY w.major DESC, w.minor DESC, w.patch DESC LIMIT 1) FROM (VALUES
				`+strings.TrimPrefix(strings.Repeat(", (?)", len(some)), ", ")+") AS i)", args...)
		if err != nil {
			return nil, err
		}
		for i := range list {
			h.newest[list[i].Image] = &list[i]
		}
	}
	return h, nil
}

func (h *Heads) readTagged(ctx context.Context) error {
	list, err := h.catalog.versions(ctx, "WHERE (v.image, v.version) IN (SELECT image, version FROM tags)")
	h.tagged = map[string]*Version{}
	for i := range list {
		for _, tag := range list[i].Tags {
			h.tagged[list[i].Image+"@"+tag] = &list[i]
		}
	}
	return err
}

// Newest is an image's newest version, recalled or not; nil if it has none.
func (h *Heads) Newest(image string) *Version { return h.newest[image] }

// Resolve finds the version that a reference means, as the catalog does.
func (h *Heads) Resolve(ctx context.Context, ref definition.Ref) (*Version, error) {
	if ref.IsTag() && h.tagged == nil {
		if err := h.readTagged(ctx); err != nil {
			return nil, err
		}
	}
	v := h.newest[ref.Image]
	switch {
	case ref.Selector == "" && v != nil && v.Usable() == nil:
		return v, nil
	case ref.IsVersion() && v != nil && v.Version == ref.Selector:
		return v, nil
	case h.tagged[ref.Image+"@"+ref.Selector] != nil:
		return h.tagged[ref.Image+"@"+ref.Selector], nil
	}
	return h.catalog.Resolve(ctx, ref)
}
