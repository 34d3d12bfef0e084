package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/hunt"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/session"
	"zygos/internal/state"
)

// HuntRequest asks what broke a check of an image.
type HuntRequest struct {
	Image, Check  string
	Variant       string // "" for the first that the check belongs to
	Passes, Fails string // references; "" for the oldest and the newest version that are kept
}

// Hunt finds the version and the stage that broke a check; tell is told of each try.
func (a *Session) Hunt(ctx context.Context, r HuntRequest, tell func(string)) (*hunt.Cause, error) {
	img, err := a.Definition(r.Image)
	if err != nil {
		return nil, err
	}
	check, variant, err := a.huntedCheck(ctx, img, r)
	if err != nil {
		return nil, err
	}
	versions, err := a.Catalog.Versions(ctx, r.Image)
	if err != nil {
		return nil, err
	}
	slices.Reverse(versions) // the oldest first
	if versions, err = a.between(ctx, versions, r.Passes, r.Fails); err != nil {
		return nil, err
	}
	var pins []string
	for _, v := range versions {
		for _, t := range v.Trees {
			pins = append(pins, t.Layers...)
		}
	}
	engine, err := a.engine()
	if err != nil {
		return nil, err
	}
	dir := ""
	h := hunt.Hunt{Variant: variant, Layers: a.Layers, Tell: tell, Known: session.Known{Session: a.Session}, Root: a.Root,
		Record: func(v *catalog.Version) (*record.Record, error) { return record.Read(a.Dir, v.Build) },
		Find: func(ctx context.Context, image, version string) (*catalog.Version, error) {
			return a.Catalog.Resolve(ctx, definition.Ref{Image: image, Selector: version})
		},
		Judge: func(ctx context.Context, layers []string) (record.CheckResult, error) {
			on := bench{dir: dir, store: a.Layers, layers: layers, variant: variant, limits: machine.Limits(img.Limits)}
			b, err := on.judge(ctx, engine, r.Image, []plan.Check{*check})
			if err != nil {
				return record.CheckResult{}, err
			}
			list, err := b.Judge(ctx, []plan.Check{*check}, func(record.CheckResult) {})
			if err != nil {
				return record.CheckResult{}, err
			}
			return list[0], nil
		}}
	var found *hunt.Cause
	err = a.During(ctx, "hunt-"+rand.Text(), pins, func(at string) (err error) {
		dir = at
		found, err = h.Run(ctx, versions)
		return err
	})
	return found, err
}

// huntedCheck finds the check, and a variant that it belongs to.
func (a *Session) huntedCheck(ctx context.Context, img *definition.Image, r HuntRequest) (*plan.Check, string, error) {
	all, err := plan.Checks(ctx, a.Root, img, session.Known{Session: a.Session}, "0.0.0", "", img.VariantNames(), plan.Options{})
	if err != nil {
		return nil, "", err
	}
	var known []string
	for _, variant := range img.VariantNames() {
		for i, c := range all[variant] {
			if c.Name == r.Check && (r.Variant == "" || r.Variant == variant) {
				if c.Booted {
					return nil, "", fmt.Errorf("check %q judges a machine that was started, and hunt starts none: it judges trees; "+
						"write a check for a sandbox that tells the same", c.Name)
				}
				return &all[variant][i], variant, nil
			}
			if !slices.Contains(known, c.Name) {
				known = append(known, c.Name)
			}
		}
	}
	if len(known) == 0 {
		return nil, "", errors.New(img.File + " has no check; add [[check]] with a name, and a script or expect")
	}
	return nil, "", state.Ask("%s has no check %q for it; it has %s", img.File, r.Check, strings.Join(known, ", "))
}

// between leaves the versions from one to another, the oldest first.
func (a *Session) between(ctx context.Context, versions []catalog.Version, first, last string) ([]catalog.Version, error) {
	at := func(ref string, none int) (int, error) {
		if ref == "" {
			return none, nil
		}
		v, err := a.ResolveAny(ctx, ref)
		if err != nil {
			return 0, err
		}
		i := slices.IndexFunc(versions, func(o catalog.Version) bool { return o.Ref() == v.Ref() })
		if i < 0 {
			return 0, state.Ask("%s is no version of the image", ref)
		}
		return i, nil
	}
	from, err := at(first, 0)
	if err != nil {
		return nil, err
	}
	to, err := at(last, len(versions)-1)
	if err == nil && from >= to {
		err = state.Ask("the version on which it passes must be older than the one on which it fails")
	}
	if err != nil {
		return nil, err
	}
	return versions[from : to+1], nil
}
