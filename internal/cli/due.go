package cli

import (
	"context"

	"zygos/internal/app"
	"zygos/internal/plan"
	"zygos/internal/words"
)

var cmdDue = &command{
	name: "due", group: "keep", args: "[IMAGE…]", most: -1,
	summary: "list images whose newest version no longer matches their definition, base or age",
	text: `Plans every image and lists those of which a build would make a new version, with the reason,
and the images that follow: those built on them without a tag between. Ends with 1 if any is
due. 'zygos build --due' builds them. No feed of a base is asked: what it last listed counts,
and how long ago that was is told.`,
	example: "zygos due\nzygos build --due",
	run:     opened(app.Each, runDue),
}

func runDue(ctx context.Context, in *invocation, a *app.Session) error {
	list, err := a.Due(ctx, in.args)
	if err != nil {
		return err
	}
	for _, name := range a.Feeds(in.args) {
		if f := plan.FoundBy(a.Org.Base(name)); f.From != "" {
			in.note("Base %s is %s: %s", name, a.Org.Base(name).Release, words.FoundBy(f))
		}
	}
	err = in.answer(list, func(pg *words.Page) { words.Due(pg, list) })
	if err == nil && len(list) > 0 {
		err = &exitError{exitFailed}
	}
	return err
}
