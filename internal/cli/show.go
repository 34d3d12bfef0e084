package cli

import (
	"context"

	"zygos/internal/app"
	"zygos/internal/words"
)

var cmdShow = &command{
	name: "show", group: "keep", args: "REF", least: 1, most: 1,
	summary: "show a version: where from, what, where, who depends on it",
	text: `REF is IMAGE for its newest version, IMAGE@2.3.1 for exactly one, IMAGE@2.3 for the newest
of a series, or IMAGE@TAG.`,
	example: "zygos show turbine-link\nzygos show turbine-link@stable",
	run:     opened(app.Lenient, runShow),
}

func runShow(ctx context.Context, in *invocation, a *app.Session) error {
	t, err := a.Show(ctx, in.args[0])
	if err != nil {
		return err
	}
	return in.answer(t, func(pg *words.Page) {
		words.Show(pg, t)
		if len(t.Placements) == 0 && a.Publishes(t.Image) {
			pg.Next("zygos publish " + t.Ref())
		} else {
			pg.Next("zygos manifest " + t.Ref())
		}
	})
}
