package app

import (
	"context"
	"slices"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/publish"
	"zygos/internal/state"
)

// CaptureRequest asks for one more artifact of a version.
type CaptureRequest struct {
	Ref, Variant string
	Format, Name string
	Boot, Size   string // as definitions say them, "" for the default
}

// Capture makes one more artifact of a version from its layers.
func (a *Session) Capture(ctx context.Context, r CaptureRequest) (*catalog.Version, *catalog.Artifact, error) {
	v, err := a.Resolve(ctx, r.Ref)
	if err != nil {
		return nil, nil, err
	}
	format := artifact.Find(r.Format)
	if format == nil {
		return nil, nil, state.Ask("there is no format %q; choose from %s", r.Format, strings.Join(artifact.Names(), ", "))
	}
	made := definition.Artifact{Format: r.Format}
	if r.Name != r.Format {
		made.Name = r.Name
	}
	if r.Name != "" && !definition.IsName(r.Name) {
		return nil, nil, state.Ask("%q is no name for an artifact; use lower-case letters, digits, '-' and '.', 63 at most", r.Name)
	}
	for name, value := range map[string]string{"size": r.Size, "boot": r.Boot} {
		if value != "" && !format.Takes(name) {
			return nil, nil, state.Ask("an artifact of the format %s has no %s; formats that have are %s", r.Format, name,
				strings.Join(artifact.Taking(name), ", "))
		}
	}
	if r.Size != "" {
		var what, do string
		if made.Size, what, do = definition.ParseSize(r.Size); what != "" {
			return nil, nil, state.Ask("%s; %s", what, do)
		}
	}
	if r.Boot != "" {
		i := slices.IndexFunc(format.Options, func(o *artifact.Option) bool { return o.Name == "boot" })
		if words := format.Options[i].Words; !slices.Contains(words, r.Boot) {
			return nil, nil, state.Ask("unknown boot %q; choose from %s", r.Boot, strings.Join(words, ", "))
		} else {
			made.Says = artifact.Says{"boot": r.Boot}
		}
	}
	variant := r.Variant
	if variant == "" && len(v.Trees) > 1 {
		var names []string
		for _, t := range v.Trees {
			names = append(names, t.Variant)
		}
		return nil, nil, state.Ask("%s has the variants %s; choose one with --variant", v.Ref(), strings.Join(names, ", "))
	}
	if variant == "" {
		variant = v.Trees[0].Variant
	}
	engine, err := a.engine()
	if err != nil {
		return nil, nil, err
	}
	file, err := engine.CaptureMore(ctx, v, variant, made)
	if err == nil && len(v.Regions) > 0 { // their manifests tell of it
		err = publish.WriteManifest(ctx, a.Session, v, nil)
	}
	return v, file, err
}
