package cli

import (
	"context"
	"flag"
	"fmt"

	"zygos/internal/app"
	"zygos/internal/publish"
	"zygos/internal/words"
)

var cmdVerify = &command{
	name: "verify", group: "publish", args: "[REF]", most: 1,
	summary: "compare what regions hold with what they should, and repair it",
	text: `Looks at each placement of a version, or of all, and at the documents beside them: what is
missing, changed, outdated, or there without anybody here having placed it. Sizes and what a
region says of digests are compared; --deep reads all bytes, from the medium and not from the
memory of this host. --repair places again what is missing or changed and writes documents
anew; what is foreign stays. Damage that is left ends with 6. --index needs neither workspace nor
catalog: it looks beside the index of a folder or of a store that anybody may read.`,
	example: "zygos verify\nzygos verify --index regions/north-sound/index.json --deep\n" +
		"zygos verify turbine-link@stable --region far-skerry --deep\nzygos verify --repair",
	flags: func() flags { return &verifyFlags{} },
	run: func(ctx context.Context, in *invocation) error {
		if f := in.flags.(*verifyFlags); f.index != "" {
			return in.verifyIndex(ctx, f)
		}
		return opened(app.Lenient, runVerify)(ctx, in)
	},
}

// verifyFlags are those of verify.
type verifyFlags struct {
	regions      namesFlag
	index        string
	deep, repair bool
}

func (f *verifyFlags) declare(fs *flag.FlagSet) {
	fs.Var(&f.regions, "region", "only the region `NAME`; may be repeated")
	fs.StringVar(&f.index, "index", "", "look at what a region's index, `FILE` or URL, speaks of, and nothing else")
	fs.BoolVar(&f.deep, "deep", false, "read all bytes")
	fs.BoolVar(&f.repair, "repair", false, "place again what is missing or changed")
}

func runVerify(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*verifyFlags)
	r := app.VerifyRequest{Regions: f.regions, Deep: f.deep, Repair: f.repair}
	if len(in.args) > 0 {
		r.Ref = in.args[0]
	}
	l := in.follow(a)
	list, err := a.Verify(ctx, r)
	l.end()
	if list == nil && err != nil {
		return err
	}
	return in.found(list, f.how(), err, f.repair)
}

// how is how it was looked.
func (f *verifyFlags) how() string {
	if f.deep {
		return "by all their bytes"
	}
	return "by size"
}

// verifyIndex looks at an index alone.
func (in *invocation) verifyIndex(ctx context.Context, f *verifyFlags) error {
	if len(in.args) > 0 || len(f.regions) > 0 || f.repair {
		return wrongUse("--index looks at what the index speaks of, and takes neither a version nor --region or --repair")
	}
	l := in.live()
	list, err := app.VerifyIndex(ctx, f.index, f.deep, func(doing string, done, total int64) { l.show("", doing, done, total) })
	l.end()
	if err != nil {
		return err
	}
	return in.found(list, f.how(), nil, true)
}

// found writes what was found; how is how it was looked, failed what went wrong beside it.
func (in *invocation) found(list []publish.Found, how string, failed error, repaired bool) error {
	n := publish.Count(list)
	if in.json {
		if e := in.writeJSON(append([]publish.Found{}, list...)); e != nil || (n.Broken == 0 && failed == nil) {
			return e
		}
		return &exitError{exitIncomplete}
	}
	pg := in.page()
	words.Found(pg, list, how)
	if err := in.show(pg); err != nil {
		return err
	}
	switch {
	case failed != nil:
		return failed
	case n.Mends > 0 && !repaired:
		return &publish.IncompleteError{Text: counted(n.Broken, "problem") + "; 'zygos verify --repair' places again what is missing or changed"}
	case n.Broken > 0:
		return &publish.IncompleteError{Text: counted(n.Broken, "problem") + " left; the reasons stand above"}
	case n.Foreign > 0:
		in.note("what is foreign was placed by somebody else, or by a catalog that is gone; nothing here removes it")
	}
	if how == (&verifyFlags{}).how() {
		in.next("zygos verify --deep   reads all bytes")
	}
	return nil
}

var cmdFetch = &command{
	after: "; what came so far is kept, and the same command goes on from there",
	name:  "fetch", group: "publish", args: "REF --region REGION --out FILE", least: 1, most: 1,
	summary: "bring a version's artifact from a region into a file, verified",
	text: `Writes under a temporary name beside FILE until all bytes are there and have the digest that
was recorded; a transfer that breaks is gone on with, also by the next run. FILE may be a
folder. A version that is recalled is refused.`,
	example: "zygos fetch turbine-link@stable --region north-sound --variant edge --format qcow2 --out disk.qcow2",
	flags:   func() flags { return &fetchFlags{} },
	run:     opened(app.Lenient, runFetch),
}

// fetchFlags are those of fetch.
type fetchFlags struct {
	chosen
	out string
}

func (f *fetchFlags) declare(fs *flag.FlagSet) {
	f.chosen.declare(fs)
	fs.StringVar(&f.out, "out", "", "write to `FILE`, or below a folder")
}

func runFetch(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*fetchFlags)
	if f.region == "" || f.out == "" {
		return wrongUse("fetch needs --region NAME and --out FILE")
	}
	l := in.follow(a)
	v, pl, out, err := a.Fetch(ctx, app.FetchRequest{Out: f.out, LocateRequest: f.request(in.args[0])})
	l.end()
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]string{"file": out, "id": pl.ID, "digest": pl.Artifact.String()})
	}
	fmt.Fprintf(in.out, "%s\n", out)
	in.note("%s %s from %s, verified: %s", v.Ref(), pl.Key(), pl.Region, pl.Artifact)
	return nil
}
