package cli

import (
	"context"
	"flag"

	"zygos/internal/app"
	"zygos/internal/words"
)

var cmdHunt = &command{
	name: "hunt", group: "judge", args: "IMAGE --check NAME", least: 1, most: 1,
	inside:  true,
	summary: "find which version and which stage broke a check",
	text: `Judges versions of an image by one check of its definition as it is today, halving between one on
which it passes and one on which it fails, then their trees after each stage, those of parents
too: the cause is the first stage after which the one passes and the other fails. Nothing is
built; versions whose trees are not kept any more are passed over.`,
	example: "zygos hunt turbine-link --check 'the link runs'\nzygos hunt turbine-link --check 'house rules' " +
		"--passes turbine-link@2.3.0 --variant edge",
	flags: func() flags { return &huntFlags{} },
	run:   opened(app.Each, runHunt),
}

// huntFlags are those of hunt.
type huntFlags struct{ check, passes, fails, variant string }

func (f *huntFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.check, "check", "", "the check called `NAME`")
	fs.StringVar(&f.passes, "passes", "", "it passes on `REF`; default the oldest that is kept")
	fs.StringVar(&f.fails, "fails", "", "it fails on `REF`; default the newest")
	fs.StringVar(&f.variant, "variant", "", "in the variant `NAME`; default the first that has the check")
}

func runHunt(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*huntFlags)
	if f.check == "" {
		return wrongUse("name the check: zygos hunt %s --check NAME", in.args[0])
	}
	l := in.live()
	found, err := a.Hunt(ctx, app.HuntRequest{Image: in.args[0], Check: f.check, Variant: f.variant, Passes: f.passes, Fails: f.fails},
		func(text string) {
			if !in.json {
				l.line("  " + text)
			}
		})
	l.end()
	if err != nil {
		return err
	}
	return in.answer(found, func(pg *words.Page) { words.Hunt(pg, f.check, found) })
}
