package app

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"

	"zygos/internal/catalog"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/repeat"
	"zygos/internal/state"
)

// Repeat builds a version again from its record, and says whether the same bits come out; that is kept with the version. a.Watch is
// told of the build.
func (a *App) Repeat(ctx context.Context, ref string) (*catalog.Version, *repeat.Outcome, error) {
	v, err := a.Look(ctx, ref)
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
	engine := a.Engine()
	dir, hold, err := engine.Hold(ctx, "repeat-"+rand.Text(), pins)
	if err != nil {
		return nil, nil, err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	r := repeat.Repeat{Engine: engine, Dir: state.Dir(dir), Root: a.Root, Secret: func(ctx context.Context, name string) (plan.Mark, error) {
		img, err := a.Definition(v.Image)
		if err != nil {
			return plan.Mark{}, err
		}
		return plan.SecretOf(ctx, a.Root, img, state.Known{State: a.State}, name)
	}}
	o, err := r.Run(ctx, v)
	if err != nil {
		return v, nil, err
	}
	return v, o, a.keepRepeat(ctx, v, o)
}

// keepRepeat records what came of it.
func (a *App) keepRepeat(ctx context.Context, v *catalog.Version, o *repeat.Outcome) error {
	host, _ := os.Hostname() // a host without a name has none to record
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	j := catalog.Judgement{Image: v.Image, Version: v.Version, At: a.Catalog.Now().UTC(), Who: a.Who, Host: host, How: record.Repeated,
		Digest: "sha256:" + plan.Digest(text), Document: string(text)}
	if o.Identical {
		j.Passed = 1
	} else {
		j.Failed = 1
	}
	return a.Catalog.Judge(ctx, j)
}

// Repeats says how often a version was built again, and how often the same bits came out; "" for never.
func (a *App) Repeats(ctx context.Context, v *catalog.Version) (string, error) {
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
