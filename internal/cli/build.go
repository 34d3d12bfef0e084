package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"zygos/internal/app"
	"zygos/internal/feed"
	"zygos/internal/machine"
	"zygos/internal/plain"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/words"
)

// afterBuild is what is left of a build that was stopped.
const afterBuild = "; nothing was registered, finished stages are kept and the next build goes on from them"

var cmdBuild = &command{
	lines: true,
	after: afterBuild,
	name:  "build", group: "build", args: "IMAGE…, or --due", most: -1,
	summary: "build images: run their stages, seal, capture, register a version",
	text: `Builds images and their variants, as many at once as --jobs says; an image waits for its
parent if that is built by the same command. One that fails does not stop the others. A
stage that an earlier build ran with the same content on the same tree is reused; the others
say why they run. If nothing changed since the newest version, no new version is made;
--force makes one, --from runs a stage and those after it anew. --due builds what 'zygos due'
lists and what follows from it, as long as it is still due when its turn comes. A build that
fails registers nothing; its finished stages are kept. Ctrl-C, or 'zygos cancel' from
elsewhere, stops at once and leaves nothing running.`,
	example: "zygos build ebb-base\nzygos build turbine-link tide-desk --jobs 2\nzygos build turbine-link --set site=south\nzygos build " +
		"turbine-link --from link",
	flags: func() flags { return &buildFlags{} },
	run: func(ctx context.Context, in *invocation) error {
		if len(in.args) == 0 && !in.flags.(*buildFlags).due {
			return wrongUse("'zygos build' takes IMAGE… and got 0 arguments; name images, or say --due; 'zygos help build' shows how")
		}
		return opened(app.Each, runBuild)(ctx, in)
	},
}

// buildFlags are those of build.
type buildFlags struct {
	planFlags
	due  bool
	jobs int
}

func (f *buildFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.force, "force", false, "make a version even if nothing changed")
	fs.BoolVar(&f.due, "due", false, "build every image that is due, and those that follow")
	fs.IntVar(&f.jobs, "jobs", runtime.NumCPU(), "run `N` stages and captures at once")
	f.planFlags.declare(fs)
}

// planFlags are those of build and preview.
type planFlags struct {
	force  bool
	from   string
	set    wordsFlag
	inputs string
}

func (f *planFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.from, "from", "", "run `STAGE` and those after it, even if they could be reused")
	fs.Var(&f.set, "set", "give an input its value, `NAME=VALUE`; may be repeated")
	fs.StringVar(&f.inputs, "inputs", "", "take values of inputs from `FILE`: lines NAME = \"VALUE\"")
}

// options reads what the flags say about the images.
func (f *planFlags) options(a *app.Session, images []string) (plan.Options, error) {
	o := plan.Options{Force: f.force, From: f.from, Set: map[string]string{}}
	if f.inputs != "" {
		text, err := os.ReadFile(f.inputs)
		if err != nil {
			return o, wrongUse("%v; name a file with lines NAME = \"VALUE\"", err)
		}
		if err := toml.Unmarshal(text, &o.Set); err != nil {
			return o, wrongUse("%s: %v; write lines NAME = \"VALUE\"", f.inputs, err)
		}
	}
	for _, text := range f.set {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return o, wrongUse("--set %q has no '='; write --set NAME=VALUE", text)
		}
		o.Set[name] = value
	}
	return o, a.CheckOptions(images, o)
}

// heard tells what feeds answered before a build.
func (in *invocation) heard(list []feed.Answer) error {
	if !in.json {
		in.answered(list)
		return nil
	}
	for _, a := range list {
		if err := in.event("", record.Heard{Base: a.Base, Release: a.Release, Digest: a.Digest, From: a.From, Was: a.Was, Newer: a.Newer,
			Asked: a.Asked, Doubt: a.Doubt, Do: a.Do}); err != nil {
			return err
		}
	}
	return nil
}

func runBuild(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*buildFlags)
	if err := a.Writable(); err != nil {
		return err
	}
	var answers []feed.Answer
	if bases := a.Feeds(in.args); bases != nil {
		l := in.follow(a)
		answers, _ = a.Refresh(ctx, bases, false) // an error is told when its image's turn comes
		l.end()
	}
	if ids, ok := machine.Inside(); !ok || ids.User == 0 { // else whoever went inside has told
		_ = in.heard(answers) // Main says that it could not be written
	}
	if f.due {
		var err error
		if in.args, err = a.DueImages(ctx, in.args); err != nil || len(in.args) == 0 {
			return errors.Join(err, in.nothingDue(err))
		}
	}
	names := slices.Clone(in.args)
	slices.Sort(names)
	names = slices.Compact(names)
	o, err := f.options(a, names)
	if err != nil {
		return err
	}
	if f.jobs < 1 {
		return wrongUse("--jobs is %d; give 1 or more", f.jobs)
	}
	r := app.BuildRequest{Images: in.args, Options: o, Jobs: f.jobs}
	l := in.follow(a)
	l.many = len(names) > 1
	for _, name := range names {
		if img, err := a.Image(name); err == nil {
			for _, variant := range img.VariantNames() {
				l.width = max(l.width, len(words.Label(record.Event{Image: name, Variant: variant}, l.many)))
			}
		}
	}
	built, err := a.Build(ctx, r, app.BuildWatch{Ended: func(b *app.Built) error {
		_ = in.built(l, b) // Main says that it could not be written
		return nil
	}, Waiting: l.queue})
	l.end()
	if err != nil {
		return err
	}
	return in.finish(ctx, a, built)
}

// nothingDue says that there is nothing to build, unless that is not known.
func (in *invocation) nothingDue(unknown error) (err error) {
	if unknown == nil && in.json {
		return in.event("", record.NothingDue{})
	} else if unknown == nil {
		_, err = fmt.Fprintln(in.out, "Nothing is due")
	}
	return err
}

// built tells what became of an image.
func (in *invocation) built(l *live, b *app.Built) error {
	switch {
	case in.json && b.Made != nil:
		return nil // the events said it
	case in.json:
		return in.event(b.Image, record.Unchanged{Version: b.Unchanged()})
	}
	if !l.many {
		l.end()
	}
	switch {
	case b.Made == nil:
		return l.result(fmt.Sprintf("%s@%s is up to date: nothing changed since it was built", b.Image, b.Unchanged()))
	case in.quiet:
		return l.result(b.Made.Version.Ref())
	}
	return l.result(fmt.Sprintf("%s %s in %s", in.paint(words.Green, "Registered"), b.Made.Version.Ref(), human(b.Made.Took)))
}

// finish reports what failed, and says what to do next.
func (in *invocation) finish(ctx context.Context, a *app.Session, all []app.Built) error {
	var failed, made []*app.Built
	var names []string // of those that failed
	for i := range all {
		if b := &all[i]; b.Err != nil {
			failed, names = append(failed, b), append(names, b.Image)
		} else if b.Made != nil {
			made = append(made, b)
		}
	}
	for _, t := range a.StaleTags(all) {
		in.note("note: %s starts from %s, which is %s; %s was built now. To build on it: zygos tag %s@%s %s, then zygos build %s",
			t.Image, t.Base, t.Now, t.Built, t.Parent, t.Built, t.Tag, t.Image)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if len(failed) == 1 && len(all) == 1 {
		return failed[0].Err
	}
	code := 0
	for _, b := range failed {
		c := exitDefinition
		if wrong := a.Wrong(b.Image); wrong != nil && !in.json {
			in.complain(func(pg *words.Page) { words.Problems(pg, wrong, "the definition of "+b.Image+", which was not built") })
		} else {
			if wrong == nil && !strings.Contains(b.Err.Error(), b.Image) {
				b.Err = fmt.Errorf("%s: %w", b.Image, b.Err)
			}
			c = in.report(b.Err)
		}
		if code == 0 && !b.Idle {
			code = c
		}
	}
	if len(failed) > 0 {
		in.note("\n%d of %d images built or up to date; not %s", len(all)-len(failed), len(all), strings.Join(names, ", "))
		return &exitError{code}
	}
	switch {
	case len(made) == 0:
		in.next(fmt.Sprintf("zygos build %s --force   makes a new version all the same", strings.Join(in.args, " ")))
	case len(made) > 1:
		in.next("zygos list")
	case a.Publishes(made[0].Image):
		ref := made[0].Made.Version.Ref()
		in.next(fmt.Sprintf("zygos tag %s stable · zygos publish %s", ref, ref))
	default:
		in.next("zygos show " + made[0].Made.Version.Ref())
	}
	return nil
}

// event writes what happened outside a build.
func (in *invocation) event(image string, what record.What) error {
	return in.jsonLine(record.Event{Time: time.Now().UTC(), Image: image, What: what})
}

func (in *invocation) jsonLine(v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		_, err = raw(in.out).Write(append(plain.JSON(text), '\n'))
	}
	return err
}
