package app

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/manifest"
	"zygos/internal/publish"
	"zygos/internal/state"
	"zygos/internal/supply"
)

// LocateRequest asks for one artifact of a version in a region.
type LocateRequest struct{ Ref, Region, Variant, Name, Format string }

// ManyError says that a request fits several artifacts of a version in a region.
type ManyError struct {
	Ref, Region string
	Shapes      []string
}

func (e *ManyError) Error() string {
	return fmt.Sprintf("%s holds %s as %s; choose one with --variant, --name or --format", e.Region, e.Ref, strings.Join(e.Shapes, ", "))
}

// Locate finds where one artifact of a usable version lies in a region.
func (a *Session) Locate(ctx context.Context, r LocateRequest) (*catalog.Version, *catalog.Placement, error) {
	v, err := a.Resolve(ctx, r.Ref)
	if err == nil {
		err = v.Usable()
	}
	var recalled *catalog.RecalledError
	if errors.As(err, &recalled) {
		return nil, nil, a.alternative(ctx, err, recalled.Image, r.Region)
	}
	if err != nil {
		return nil, nil, err
	}
	list, err := a.Catalog.Placements(ctx, v.Image, v.Version, r.Region)
	if err != nil {
		return nil, nil, err
	}
	keys := make([]artifact.Key, len(list))
	for i := range list {
		keys[i] = list[i].Key()
	}
	at, err := r.choose(v.Ref(), keys)
	if err == nil && at >= 0 {
		return v, &list[at], nil
	}
	if err == nil {
		_, err = a.Region(r.Region)
	}
	if err == nil {
		err = a.alternative(ctx, notThere(v, r.Region), v.Image, r.Region)
	}
	return nil, nil, err
}

// alternative adds to an error which usable version of an image a region holds.
func (a *Session) alternative(ctx context.Context, err error, image, region string) error {
	list, e := a.Catalog.Placements(ctx, image, "", region)
	for _, pl := range list { // newest first
		v, failed := a.Catalog.Resolve(ctx, definition.Ref{Image: image, Selector: pl.Version})
		if failed == nil && v.Usable() == nil {
			return fmt.Errorf("%w; %s holds %s", err, region, v.Ref())
		}
	}
	if e != nil {
		return e
	}
	return err
}

// choose finds the one artifact that is meant among those of a version in a region; -1 if there is none at all.
func (r *LocateRequest) choose(ref string, keys []artifact.Key) (int, error) {
	var shapes []string
	var fit []int
	for i, k := range keys {
		shapes = append(shapes, k.String())
		if (r.Format == "" || k.Format == r.Format) && (r.Variant == "" || k.Variant == r.Variant) && (r.Name == "" || k.Name == r.Name) {
			fit = append(fit, i)
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) > 1:
		return 0, &ManyError{ref, r.Region, shapes}
	case len(keys) > 0:
		return 0, fmt.Errorf("%s holds %s as %s, not as %s", r.Region, ref, strings.Join(shapes, ", "),
			strings.Join(strings.Fields(r.Variant+" "+r.Name+" "+r.Format), " "))
	}
	return -1, nil
}

// Everywhere is where the artifacts of a usable version lie.
func (a *Session) Everywhere(ctx context.Context, ref string) (*catalog.Version, []catalog.Placement, error) {
	v, err := a.Resolve(ctx, ref)
	if err == nil {
		err = v.Usable()
	}
	if err != nil {
		return nil, nil, err
	}
	list, err := a.Catalog.Placements(ctx, v.Image, v.Version, "")
	if err == nil && len(list) == 0 {
		err = &publish.IncompleteError{Text: fmt.Sprintf("%s is in no region; place it: zygos publish %s", v.Ref(), v.Ref())}
	}
	return v, list, err
}

// LocateIn is Locate by the index of a region, in a file or on a server, without workspace and catalog.
func LocateIn(ctx context.Context, index string, r LocateRequest) (*manifest.Version, *manifest.Local, error) {
	ref, err := definition.ParseRef(r.Ref)
	if err != nil {
		return nil, nil, state.Ask("%s", err)
	}
	var held []manifest.Version // of the image, newest first
	if r.Region, err = supply.Index(ctx, index, func(v *manifest.Version) {
		if v.Image == ref.Image {
			held = append(held, *v)
		}
	}); err != nil {
		return nil, nil, err
	}
	var first error // why the newest that is meant cannot be used
	usable := ""    // the newest that can be, whatever is meant
	known := []string{}
	for i := range held {
		v := &held[i]
		known = append(append(known, v.Version), v.Tags...)
		recalled := v.Recall != nil && v.Recall.Since <= time.Now().UTC().Format(time.RFC3339)
		if usable == "" && !recalled {
			usable = v.Image + "@" + v.Version
		}
		if !ref.Means(v.Version, v.Tags) {
			continue
		}
		if recalled {
			by, version, _ := strings.Cut(v.Recall.By, "@")
			since, _ := time.Parse(time.RFC3339, v.Recall.Since) // else nobody knows
			err := &catalog.RecalledError{Image: v.Image, Version: v.Version,
				Recall: catalog.Recall{Image: by, Version: version, Why: v.Recall.Why, Since: since}}
			if first == nil {
				first = err
			}
			continue
		}
		keys := make([]artifact.Key, len(v.Artifacts))
		for j, a := range v.Artifacts {
			keys[j] = artifact.Key{Variant: a.Variant, Name: a.Name, Format: a.Format}
		}
		at, err := r.choose(v.Image+"@"+v.Version, keys)
		if err != nil {
			return nil, nil, err
		}
		if at >= 0 {
			return v, &v.Artifacts[at], nil
		}
	}
	switch {
	case first != nil && usable != "":
		first = fmt.Errorf("%w; %s holds %s", first, r.Region, usable)
	case first != nil:
	case len(known) > 0:
		first = &publish.IncompleteError{Text: fmt.Sprintf(
			"%s is not in %s; of %s it holds %s", r.Ref, r.Region, ref.Image, strings.Join(known, ", "))}
	default:
		first = &publish.IncompleteError{Text: fmt.Sprintf("%s is not in %s", r.Ref, r.Region)}
	}
	return nil, nil, first
}
