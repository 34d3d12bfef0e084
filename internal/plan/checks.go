package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/definition"
)

// Checks is what an image's definition says of checks today, for each variant of a version; values of inputs are those of today.
func Checks(ctx context.Context, root string, img *definition.Image, known Known, version, build string, variants []string,
	o Options) (map[string][]Check, error) {
	p := &Plan{Image: img.Name}
	d := describer{ctx: ctx, root: root, img: img, plan: p, options: o, known: known, files: map[string]content{},
		values: map[string]string{}, seen: map[Source]bool{}}
	all := map[string][]Check{}
	for _, variant := range variants {
		var given map[string]string
		if i := slices.IndexFunc(img.Variants, func(v definition.Variant) bool { return v.Name == variant }); i >= 0 {
			given = img.Variants[i].Inputs
		}
		values := map[string]string{"image": img.Name, "version": version, "variant": variant, "build": build}
		if err := d.inputs(img.Inputs, o.Set, given, values); err != nil {
			return nil, err
		}
		shape := Shape{Variant: variant}
		if err := d.checks(&shape, values); err != nil {
			return nil, err
		}
		all[variant] = shape.Checks
	}
	return all, nil
}

// SecretOf is the value of a secret that a stage or a check of an image gets, as it is today.
func SecretOf(ctx context.Context, root string, img *definition.Image, known Known, name string) (Mark, error) {
	d := describer{ctx: ctx, root: root, img: img, plan: &Plan{Image: img.Name}, known: known, files: map[string]content{},
		values: map[string]string{}, seen: map[Source]bool{}}
	inputs := slices.Clone(img.Inputs)
	for _, s := range img.Stages {
		inputs = append(inputs, s.Inputs...)
	}
	for i := range inputs {
		if inputs[i].Name == name && inputs[i].Secret {
			return d.secret(&inputs[i], "", nil)
		}
	}
	return Mark{}, fmt.Errorf("%s has no secret %q any more, which the version was built with", img.File, name)
}

// checks describes what judges a shape.
func (d *describer) checks(shape *Shape, values map[string]string) error {
	shape.Checks = nil
	for i := range d.img.Checks {
		c := &d.img.Checks[i]
		if !c.In(shape.Variant) {
			continue
		}
		def := definition.Stage{Name: c.Name, Shared: c.Shared, Inputs: c.Inputs, Given: c.Given, Env: c.Env, Secrets: c.Secrets, User: c.User,
			Dir: c.Dir, Timeout: c.Timeout, Network: c.Network}
		if c.Script != nil {
			def.Scripts = []definition.Script{*c.Script}
		}
		s, err := d.stage(&def, values)
		if err != nil {
			return err
		}
		s.Env = slices.DeleteFunc(s.Env, func(v string) bool { // nothing is built any more
			return strings.HasPrefix(v, "ZYGOS_BUILDING=") || strings.HasPrefix(v, "ZYGOS_STAGE=")
		})
		for _, name := range []string{"image", "version", "variant"} {
			s.Env = append(s.Env, "ZYGOS_"+strings.ToUpper(name)+"="+values[name])
		}
		shape.Checks = append(shape.Checks, Check{Stage: *s, Booted: c.Booted, Warn: c.Warn, Expect: c.Expect})
	}
	return nil
}
