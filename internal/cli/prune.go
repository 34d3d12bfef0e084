package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"zygos/internal/app"
	"zygos/internal/words"
)

var cmdPrune = &command{
	name: "prune", group: "keep", args: "[IMAGE…]", most: -1,
	summary: "remove old versions as [keep] says; shows the plan, --yes carries it out",
	text: `[keep] in zygos.toml or in an image says how many versions stay, and for how many days; with
tagged = true, those that a tag once pointed at stay too. A version goes only if none keeps it,
and never one that a tag points at, that is the newest in a region, that a running build starts
from, or that a version which stays was built on. With IMAGE…, only versions of these go.
Removed are copies in regions, layers that nothing else needs, rows and bytes; when interrupted,
run it again. --all shows what stays, and why.`,
	example: "zygos prune\nzygos prune turbine-link --all\nzygos prune --yes",
	flags:   func() flags { return &pruneFlags{} },
	run:     opened(app.Each, runPrune),
}

// pruneFlags are those of prune.
type pruneFlags struct {
	yes bool
	all bool
}

func (f *pruneFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.yes, "yes", false, "carry it out")
	fs.BoolVar(&f.all, "all", false, "show what stays too, and why")
}

func runPrune(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*pruneFlags)
	if f.yes {
		if err := a.EndDead(ctx); err != nil {
			return err
		}
	}
	r := app.PruneRequest{Images: in.args, Whole: in.json}
	l := in.follow(a)
	plan, err := a.PlanPrune(ctx, r)
	l.end()
	if err != nil {
		return err
	}
	err = in.answer(map[string]any{"goes": plan.Goes, "stays": plan.Stays, "bytes": plan.Bytes, "done": f.yes},
		func(pg *words.Page) { words.Prune(pg, plan, f.all) })
	if err != nil || !f.yes {
		if len(plan.Goes) > 0 {
			in.next(strings.TrimSpace("zygos prune --yes " + strings.Join(in.args, " ")))
		}
		return err
	}
	r = app.PruneRequest{Images: in.args, Expect: []string{}}
	for _, v := range plan.Goes {
		r.Expect = append(r.Expect, v.Ref())
	}
	l = in.follow(a)
	done, err := a.Prune(ctx, r)
	l.end()
	if err != nil || len(plan.Goes) == 0 {
		return err
	}
	if !in.json {
		_, err = fmt.Fprintf(in.out, "Removed %s\n", counted(done.Removed, "version"))
	}
	if n := len(plan.Goes) - done.Removed; n > 0 {
		in.note("%s stay: somebody came to need them just now", counted(n, "version"))
	}
	return err
}
