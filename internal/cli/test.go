package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"

	"zygos/internal/app"
	"zygos/internal/record"
	"zygos/internal/report"
	"zygos/internal/store"
	"zygos/internal/words"
)

var cmdTest = &command{
	name: "test", group: "judge", args: "REF", least: 1, most: 1,
	inside:  true,
	summary: "judge a version by its checks, in fresh instances and a started machine",
	text: `Judges what was captured by the [[check]]s of the image's definition as it is today: scripts run
in fresh instances of the sealed tree, several at once, and what they change is thrown away;
expectations are judged without starting anything. Checks with in = "vm" are judged one after the
other in one machine that is started from the disk. What comes of it is kept with the version, so
that tags may need it, unless --check or --in leaves some out. --recorded judges by the definition
that the version was built with; --region what lies in a region: archive and disk are fetched,
verified, and unpacked or started. A check that must pass and fails ends with 4.`,
	example: "zygos test turbine-link@2.3.0\nzygos test turbine-link --check 'link is configured'\n" +
		"zygos test field-machine --in vm --region north-pier\nzygos test turbine-link --junit checks.xml",
	flags: func() flags { return &testFlags{} },
	run:   opened(app.Each, runTest),
}

// testFlags are those of test.
type testFlags struct {
	checks   wordsFlag
	in       string
	region   string
	recorded bool
	junit    string
	tap      bool
}

func (f *testFlags) declare(fs *flag.FlagSet) {
	fs.Var(&f.checks, "check", "only the check `NAME`; may be repeated")
	fs.StringVar(&f.in, "in", "", "only those that judge in a `PLACE`: sandbox or vm")
	fs.StringVar(&f.region, "region", "", "judge what lies in the region `NAME`")
	fs.BoolVar(&f.recorded, "recorded", false, "judge by the definition that it was built with")
	fs.StringVar(&f.junit, "junit", "", "also write the results to `FILE`, as JUnit's XML")
	fs.BoolVar(&f.tap, "tap", false, "print the results in the Test Anything Protocol, version 14")
}

func runTest(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*testFlags)
	if !slices.Contains([]string{"", "sandbox", "vm"}, f.in) {
		return wrongUse("--in has %q; write sandbox or vm", f.in)
	}
	l := in.follow(a)
	done := 0
	t, err := a.Test(ctx, app.TestRequest{Ref: in.args[0], Checks: f.checks, In: f.in, Region: f.region,
		Recorded: f.recorded}, func(r record.CheckResult) {
		done++
		l.show("", fmt.Sprintf("%d checks judged", done), 0, 0)
	})
	l.end()
	if t == nil {
		return err
	}
	if f.junit != "" {
		text, e := report.JUnit(t.Version.Ref(), t.Results)
		if e == nil {
			e = store.WriteFile(f.junit, text)
		}
		if e != nil {
			return e
		}
	}
	counts := record.Count(t.Results)
	switch {
	case in.json:
		if e := in.writeJSON(map[string]any{"image": t.Version.Image, "version": t.Version.Version, "results": t.Results, "spent": t.Spent,
			"judgement": t.Judgement}); e != nil {
			return e
		}
	case f.tap:
		if _, e := in.out.Write(report.TAP(t.Results)); e != nil {
			return e
		}
	default:
		pg := in.page()
		words.Tested(pg, t)
		if e := in.show(pg); e != nil {
			return e
		}
	}
	switch {
	case err != nil:
		return err
	case counts.Failed > 0:
		if !in.json && !f.tap {
			in.next("zygos enter " + t.Version.Ref() + "   a shell in what was judged")
		}
		return &exitError{exitScript}
	}
	if !f.tap {
		in.next("zygos show " + t.Version.Ref())
	}
	return nil
}
