package app

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"

	"zygos/internal/catalog"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/repeat"
	"zygos/internal/session"
	"zygos/internal/state"
)

// Repeat builds a version again from its record, and says whether the same bits come out; that is kept with the version. a.Watch is
// told of the build.
func (a *Session) Repeat(ctx context.Context, ref string) (*catalog.Version, *repeat.Outcome, error) {
	v, err := a.ResolveAny(ctx, ref)
	if err == nil {
		err = a.Writable()
	}
	if err != nil {
		return nil, nil, err
	}
	var pins []string
	for _, t := range v.Trees {
		pins = append(pins, t.Layers...)
	}
	engine, err := a.engine()
	if err != nil {
		return nil, nil, err
	}
	r := repeat.Repeat{Engine: engine, Root: a.Root, Secret: func(ctx context.Context, name string) (plan.Mark, error) {
		img, err := a.Definition(v.Image)
		if err != nil {
			return plan.Mark{}, err
		}
		return plan.SecretOf(ctx, a.Root, img, session.Known{Session: a.Session}, name)
	}}
	var o *repeat.Outcome
	err = a.During(ctx, "repeat-"+rand.Text(), pins, func(dir string) (err error) {
		r.Dir = state.Dir(dir)
		o, err = r.Run(ctx, v)
		return err
	})
	if err != nil {
		return v, nil, err
	}
	return v, o, a.keepRepeat(ctx, v, o)
}

// keepRepeat records what came of it.
func (a *Session) keepRepeat(ctx context.Context, v *catalog.Version, o *repeat.Outcome) error {
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	j := catalog.Judgement{Image: v.Image, Version: v.Version, At: a.Catalog.Now().UTC(), Who: a.Who, Host: a.Host, How: record.Repeated,
		Digest: "sha256:" + plan.Digest(text), Document: string(text)}
	if o.Identical {
		j.Passed = 1
	} else {
		j.Failed = 1
	}
	return a.Catalog.Judge(ctx, j)
}

// Repeats says how often a version was built again, and how often the same bits came out; "" for never.
func (a *Session) Repeats(ctx context.Context, v *catalog.Version) (string, error) {
	list, err := a.Catalog.Judgements(ctx, v.Image, v.Version)
	times, same := 0, 0
	for _, j := range list {
		if j.How == record.Repeated {
			times++
			same += j.Passed
		}
	}
	switch {
	case times == 0:
		return "", err
	case times == 1:
		return map[bool]string{true: "once, identical", false: "once, different"}[same == 1], err
	case same == times:
		return fmt.Sprintf("%d times, identical", times), err
	}
	return fmt.Sprintf("%d times, identical %d times", times, same), err
}
