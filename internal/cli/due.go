package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/plan"
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
			in.note("Base %s is %s: %s", name, a.Org.Base(name).Release, foundBy(f))
		}
	}
	if in.json {
		err = in.writeJSON(list)
	} else if len(list) == 0 {
		_, err = fmt.Fprintln(in.out, "Nothing is due: every image's newest version is what a build would make")
	} else {
		var rows [][]string
		for _, d := range list {
			newest := dash(d.Newest)
			if d.Recalled {
				newest += ", recalled"
			}
			rows = append(rows, []string{d.Image, newest, dash(cut(strings.Join(d.Follows, ", "), 50)), d.Why})
		}
		err = in.columns([]string{"IMAGE", "NEWEST", "FOLLOWING IT", "WHY"}, rows)
		var todo []string
		for _, d := range list {
			do := d.Do
			if !d.Blocked {
				do = "zygos build --due"
			}
			if do != "" && !slices.Contains(todo, do) {
				todo = append(todo, do)
				in.next(do)
			}
		}
	}
	if err == nil && len(list) > 0 {
		err = &exitError{exitFailed}
	}
	return err
}
