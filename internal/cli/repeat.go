package cli

import (
	"context"
	"strings"

	"zygos/internal/app"
	"zygos/internal/record"
	"zygos/internal/words"
)

var cmdRepeat = &command{
	name: "repeat", group: "judge", args: "REF", least: 1, most: 1,
	inside:  true,
	summary: "build a version again from its record and compare bits",
	text: `Builds again what the record of a version says, with its definition, scripts and files as they
were, in a state of its own and without reusing any stage, and compares all bits. If they differ
it names the first stage that does, the files, and in which way: times, order, random values, a
date, another version of a package. The result is kept with the version; a difference ends with
4. What the clock of one day hides, a date without a time say, shows only on another day.`,
	example: "zygos repeat turbine-link@2.3.0",
	run:     opened(app.Each, runRepeat),
}

func runRepeat(ctx context.Context, in *invocation, a *app.Session) error {
	l := in.live()
	a.Watch = func(e record.Event) {
		switch w := e.What.(type) {
		case record.StageBegan:
			stage, _ := w.Place()
			l.show("", strings.TrimSpace(e.Variant+" "+stage), 0, 0)
		case record.Progress:
			l.show("", w.Doing, w.Done, w.Total)
		}
	}
	v, o, err := a.Repeat(ctx, in.args[0])
	l.end()
	if o == nil {
		return err
	}
	if e := in.answer(o, func(pg *words.Page) { words.Repeat(pg, v.Ref(), o) }); e != nil {
		return e
	}
	if err != nil {
		return err
	}
	if !o.Identical {
		return &exitError{exitScript}
	}
	in.next("zygos show " + v.Ref())
	return nil
}
