package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"zygos/internal/app"
	"zygos/internal/catalog"
	"zygos/internal/rules"
	"zygos/internal/words"
)

var cmdRecall = &command{
	name: "recall", group: "keep", args: "REF --why TEXT", least: 1, most: 1,
	summary: "withdraw a version, with a reason, now or from a date, alone or with its descendants",
	text: `Shows first what it touches and asks, or takes --yes. From then on the version is refused with
the reason by locate, publish, tag and builds on it, and references that leave the choice pass
it over. --from plans it for a time. Regions learn of it in their index. 'zygos reinstate'
undoes it.`,
	example: "zygos recall turbine-link@2.3.0 --why 'drops packets'\nzygos recall ebb-base@1.4.0 --why 'weak key' --descendants " +
		"--yes\nzygos recall tide-desk@1.0.0 --why 'end of life' --from 2027-01-01T00:00:00Z",
	flags: func() flags { return &recallFlags{} },
	run:   opened(app.Lenient, runRecall),
}

// recallFlags are those of recall.
type recallFlags struct {
	why         string
	from        string
	descendants bool
	yes, again  bool
}

func (f *recallFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.why, "why", "", "the reason, `TEXT`")
	fs.StringVar(&f.from, "from", "", "in force from `TIME`, for instance 2027-01-01 or 2027-01-01T12:00:00Z; default now")
	fs.BoolVar(&f.descendants, "descendants", false, "with every version built on it")
	fs.BoolVar(&f.yes, "yes", false, "do not ask")
	fs.BoolVar(&f.again, "again", false, "recall what REF means now, also if the same was said less than an hour ago")
}

func runRecall(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*recallFlags)
	var since time.Time // now, by the catalog's clock
	if f.why == "" {
		return wrongUse("say why: zygos recall %s --why 'the reason'", in.args[0])
	}
	if f.from != "" {
		t, err := parseTime(f.from)
		if err != nil {
			return wrongUse("--from is %q; write a time as 2027-01-01 or 2027-01-01T12:00:00Z", f.from)
		}
		since = t
	}
	request := app.RecallRequest{Ref: in.args[0], Why: f.why, Since: since, Descendants: f.descendants}
	if !f.again {
		if had, err := a.Repeated(ctx, request); had != nil || err != nil {
			return in.recalledBefore(had, err)
		}
	}
	v, list, err := a.Touches(ctx, request)
	if err != nil {
		return err
	}
	if !in.json {
		pg := in.page()
		words.Touched(pg, list)
		if err := in.show(pg); err != nil {
			return err
		}
		if !f.descendants && list[0].Children > 0 {
			in.note("%s built on it stay as they are; --descendants recalls them too", counted(list[0].Children, "version"))
		}
	}
	if !f.yes {
		if err := in.confirm(fmt.Sprintf("Recall %s?", counted(len(list), "version"))); err != nil {
			return err
		}
		for _, t := range list {
			request.Expect = append(request.Expect, t.Ref)
		}
	}
	r, list, failed := a.Recall(ctx, request)
	if r == nil {
		return failed
	}
	if in.json {
		return errors.Join(in.writeJSON(map[string]any{"recall": r, "touches": list}), failed)
	}
	state := "Recalled"
	if !r.InForce() {
		state = "Planned from " + when(since) + ": recall of"
	}
	with := ""
	if n := len(list) - 1; n > 0 {
		with = " and " + counted(n, "descendant")
	}
	fmt.Fprintf(in.out, "%s %s%s: %s\n", state, v.Ref(), with, r.Why)
	for _, t := range list {
		for _, command := range t.Back {
			in.next(command)
		}
	}
	return failed
}

// recalledBefore answers with the recall that the same words made a while ago.
func (in *invocation) recalledBefore(r *catalog.Recall, failed error) error {
	if r == nil {
		return failed
	}
	if in.json {
		return errors.Join(in.writeJSON(map[string]any{"recall": r, "repeated": true}), failed)
	}
	fmt.Fprintf(in.out, "%s@%s was recalled by the same words at %s; nothing is changed\n", r.Image, r.Version, when(r.At))
	in.next(fmt.Sprintf("zygos recall %s --why … --again   if another version is to be recalled for this reason too", in.args[0]))
	return failed
}

func parseTime(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return time.Parse(time.DateOnly, text)
}

// confirm asks whoever sits at the terminal; without one, --yes is needed.
func (in *invocation) confirm(question string) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) || in.json {
		return wrongUse("nothing was done: there is nobody to ask; add --yes")
	}
	fmt.Fprintf(in.err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n') // an end of input is a no
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return &rules.Error{Text: "nothing was done"}
	}
	return nil
}

var cmdReinstate = &command{
	name: "reinstate", group: "keep", args: "REF", least: 1, most: 1,
	summary: "undo the recall of a version",
	text:    "REF names the version that was recalled itself; its descendants come back with it.",
	example: "zygos reinstate turbine-link@2.3.0",
	run: opened(app.Lenient, func(ctx context.Context, in *invocation, a *app.Session) error {
		v, list, err := a.Reinstate(ctx, in.args[0])
		if err != nil {
			return err
		}
		if in.json {
			return in.writeJSON(list)
		}
		_, err = fmt.Fprintf(in.out, "Reinstated %s\n", v.Ref())
		in.next("zygos show " + v.Ref())
		return err
	}),
}
