package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/words"
)

var cmdTag = &command{
	name: "tag", group: "keep", args: "REF [REF…] [TAG…]", least: 1, most: -1,
	summary: "let tags point at versions; without TAG, show an image's tags and their moves",
	text: `A tag is a movable name for one version of an image; each move is kept with its time, who made
it and why. Several REFs, each with an '@', move the tags of all their images together or not
at all. --back lets tags point where they pointed before; --remove takes them away. A move
that breaks a rule of [tag.NAME] in zygos.toml, or points at a recalled version, is refused.
Regions that hold the versions learn of the move in their index.`,
	example: "zygos tag turbine-link@2.3.0 stable\nzygos tag turbine-link@2.3.1 tide-desk@1.0.1 stable --why 'passed the trials'\nzygos " +
		"tag turbine-link stable --back\nzygos tag turbine-link",
	flags: func() flags { return &tagFlags{} },
	run:   opened(app.Lenient, runTag),
}

// tagFlags are those of tag.
type tagFlags struct {
	back   bool
	remove bool
	why    string
}

func (f *tagFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.back, "back", false, "point where the tags pointed before")
	fs.BoolVar(&f.remove, "remove", false, "take the tags away")
	fs.StringVar(&f.why, "why", "", "the reason, `TEXT`")
}

func runTag(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*tagFlags)
	refs := 1
	for refs < len(in.args) && strings.Contains(in.args[refs], "@") {
		refs++
	}
	tags := in.args[refs:]
	if len(tags) == 0 {
		if refs > 1 || f.back || f.remove {
			return wrongUse("name the tags to move, after the versions: zygos tag %s TAG", strings.Join(in.args, " "))
		}
		return in.writeMoves(ctx, a)
	}
	moves, err := a.Tag(ctx, app.TagRequest{Refs: in.args[:refs], Tags: tags, Back: f.back, Remove: f.remove, Why: f.why})
	if moves == nil {
		return err
	}
	return in.moved(a, moves, err)
}

// moved says what moved; failed is why the regions could not be told.
func (in *invocation) moved(a *app.Session, moves []catalog.Move, failed error) error {
	for _, m := range moves {
		if !in.json {
			fmt.Fprintln(in.out, words.Move(m))
		}
	}
	if in.json {
		if err := in.writeJSON(moves); err != nil {
			return err
		}
	}
	if m := moves[0]; failed == nil && m.Version == "" {
		in.next("zygos tag " + m.Image)
	} else if failed == nil && a.Publishes(m.Image) {
		in.next("zygos publish " + m.Image + "@" + m.Tag)
	} else if failed == nil {
		in.next("zygos show " + m.Image + "@" + m.Tag)
	}
	return failed
}

func (in *invocation) writeMoves(ctx context.Context, a *app.Session) error {
	image, moves, err := a.TagMoves(ctx, in.args[0])
	if err != nil {
		return err
	}
	return in.answer(append([]catalog.Move{}, moves...), func(pg *words.Page) {
		if len(moves) == 0 {
			pg.Note("%s has no tags yet", image)
			pg.Next(fmt.Sprintf("zygos tag %s stable", image))
			return
		}
		words.Moves(pg, moves)
	})
}
