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
	"sync"

	"github.com/pelletier/go-toml/v2"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/machine"
	"zygos/internal/plain"
	"zygos/internal/plan"
)

var cmdBuild = &command{
	lines: true,
	name:  "build", group: "build", args: "IMAGE…, or --due", most: -1,
	summary: "build images: run their stages, seal, capture, register a version",
	text: `Builds images and their variants, as many at once as --jobs says; an image waits for its
parent if that is built by the same command. One that fails does not stop the others. A
stage that an earlier build ran with the same content on the same tree is reused; the others
say why they run. If nothing changed since the newest version, no new version is made;
--force makes one, --from runs a stage and those after it anew. --due builds what 'zygos due'
lists and what follows from it, as long as it is still due when its turn comes. A build that fails registers
nothing; its finished stages are kept. Ctrl-C, or 'zygos cancel' from elsewhere, stops at
once and leaves nothing running.`,
	example: "zygos build ebb-base\nzygos build turbine-link tide-desk --jobs 2\nzygos build turbine-link --set site=south\nzygos build turbine-link --from link",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.force, "force", false, "make a version even if nothing changed")
		fs.BoolVar(&in.set.due, "due", false, "build every image that is due, and those that follow")
		fs.IntVar(&in.set.jobs, "jobs", runtime.NumCPU(), "run `N` stages and captures at once")
		planFlags(fs, in)
	},
	run: func(ctx context.Context, in *invocation) error {
		if len(in.args) == 0 && !in.set.due {
			return wrongUse("'zygos build' takes IMAGE… and got 0 arguments; name images, or say --due; 'zygos help build' shows how")
		}
		return opened(each, runBuild)(ctx, in)
	},
}

// planFlags are those of build and preview.
func planFlags(fs *flag.FlagSet, in *invocation) {
	fs.StringVar(&in.set.stage, "from", "", "run `STAGE` and those after it, even if they could be reused")
	fs.Var(&in.set.inputs, "set", "give an input its value, `NAME=VALUE`; may be repeated")
	fs.StringVar(&in.set.file, "inputs", "", "take values of inputs from `FILE`: lines NAME = \"VALUE\"")
}

// options reads what the flags say about the images.
func (in *invocation) options(p *place, images []string) (plan.Options, error) {
	o := plan.Options{Force: in.set.force, From: in.set.stage, Set: map[string]string{}}
	if in.set.file != "" {
		text, err := os.ReadFile(in.set.file)
		if err != nil {
			return o, wrongUse("%v; name a file with lines NAME = \"VALUE\"", err)
		}
		if err := toml.Unmarshal(text, &o.Set); err != nil {
			return o, wrongUse("%s: %v; write lines NAME = \"VALUE\"", in.set.file, err)
		}
	}
	for _, text := range in.set.inputs {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return o, wrongUse("--set %q has no '='; write --set NAME=VALUE", text)
		}
		o.Set[name] = value
	}
	var inputs, stages []string
	for _, name := range images {
		img, err := p.Image(name)
		if err != nil {
			return o, err
		}
		for _, input := range img.Inputs {
			inputs = append(inputs, input.Name)
		}
		for _, s := range img.Stages {
			stages = append(stages, s.Name)
		}
	}
	for name := range o.Set {
		if !slices.Contains(inputs, name) {
			return o, wrongUse("%s has no input %q; %s", strings.Join(images, ", "), name, guess(name, inputs))
		}
	}
	if o.From != "" && !slices.Contains(stages, o.From) {
		return o, wrongUse("%s has no stage %q; %s", strings.Join(images, ", "), o.From, guess(o.From, stages))
	}
	return o, nil
}

// guess proposes a word, or tells them all.
func guess(word string, known []string) string {
	if near := definition.Nearest(word, known); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	if len(known) == 0 {
		return "there is none"
	}
	slices.Sort(known)
	return "known are " + strings.Join(slices.Compact(known), ", ")
}

// upToDate is the event of an image that is not built.
type upToDate struct {
	Kind    string `json:"kind"`
	Image   string `json:"image"`
	Version string `json:"version"`
}

// nothingDue is the event of a command that has nothing to build.
type nothingDue struct {
	Kind string `json:"kind"`
}

// job is one image that a command builds.
type job struct {
	image  string
	parent *job // built by the same command, and waited for
	done   chan struct{}
	plan   *plan.Plan
	err    error
	idle   bool // not built, since its parent failed
}

func runBuild(ctx context.Context, in *invocation, p *place) error {
	if err := p.writable(); err != nil {
		return err
	}
	if in.set.due {
		if err := p.addDue(ctx, in); err != nil || len(in.args) == 0 {
			return err
		}
	}
	names := slices.Clone(in.args)
	slices.Sort(names)
	names = slices.Compact(names)
	o, err := in.options(p, names)
	if err != nil {
		return err
	}
	if in.set.jobs < 1 {
		return wrongUse("--jobs is %d; give 1 or more", in.set.jobs)
	}
	jobs := p.jobs(in.args)
	if _, ok := machine.Inside(); !ok {
		unchanged, err := p.allUnchanged(ctx, jobs, o)
		if err != nil {
			return err
		}
		if !unchanged {
			return p.inside(in)
		}
	}
	b := builder{in: in, p: p, options: o, many: len(jobs) > 1}
	return b.all(ctx, jobs)
}

// addDue makes the images that are due, and those that follow, the ones to build.
func (p *place) addDue(ctx context.Context, in *invocation) error {
	for _, name := range in.args {
		if _, err := p.Image(name); err != nil {
			return err
		}
	}
	list, err := p.due(ctx, in.args, plan.Options{})
	if err != nil {
		return err
	}
	in.args = nil
	for _, d := range list {
		for _, name := range append([]string{d.Image}, d.Follows...) {
			if !slices.Contains(in.args, name) {
				in.args = append(in.args, name)
			}
		}
	}
	switch {
	case len(list) > 0:
	case in.json:
		err = in.jsonLine(nothingDue{"nothing due"})
	default:
		_, err = fmt.Fprintln(in.out, "Nothing is due")
	}
	return err
}

// jobs lists the images to build, each with the one among them that it is built on.
func (p *place) jobs(images []string) (list []*job) {
	for _, name := range images {
		if !slices.ContainsFunc(list, func(j *job) bool { return j.image == name }) {
			list = append(list, &job{image: name, done: make(chan struct{})})
		}
	}
	for _, j := range list {
		img, err := p.Image(j.image)
		if err != nil || p.Org.Base(img.Base) != nil {
			continue
		}
		ref, err := definition.ParseRef(img.Base)
		if i := slices.IndexFunc(list, func(o *job) bool { return o.image == ref.Image }); err == nil && i >= 0 && !ref.IsTag() {
			j.parent = list[i]
		}
	}
	return list
}

// allUnchanged says that there is nothing to build.
func (p *place) allUnchanged(ctx context.Context, jobs []*job, o plan.Options) (bool, error) {
	for _, j := range jobs {
		if p.Wrong(j.image) != nil {
			continue // it is told when its turn comes
		}
		made, err := p.plans(ctx, j.image, o)
		if err != nil && j.parent == nil {
			return false, err
		}
		if err != nil || made.Unchanged == "" {
			return false, nil
		}
	}
	return true, nil
}

// inside goes on in a user namespace, where an ordinary user may build.
func (p *place) inside(in *invocation) error {
	if ids, missing := machine.Planned(); ids.Limited() {
		in.note("note: %s, so only the user root exists while stages run: steps for other users, and packages\n"+
			"that set other owners, will fail. Owners of the base are kept. 'zygos doctor' says how to change it.", missing)
	}
	p.use.Close() // what goes on there uses the state
	return in.again()
}

// again runs the same command line in a user namespace where an ordinary user may make sandboxes.
func (in *invocation) again() error {
	code, err := machine.Enter(in.line)
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}

// builder carries out several builds at once.
type builder struct {
	in      *invocation
	p       *place
	options plan.Options
	many    bool
	engine  *build.Engine
	live    *live
	mu      sync.Mutex // for what is written to the result
	swept   sync.Once  // before the first build
	unswept error      // why that failed
}

const queue = "waiting" // whose line at the foot tells of images that wait

func (b *builder) all(ctx context.Context, jobs []*job) error {
	b.live = b.in.live()
	b.live.many = b.many
	for _, j := range jobs {
		if img, err := b.p.Image(j.image); err == nil {
			for _, variant := range img.VariantNames() {
				b.live.width = max(b.live.width, len(label(build.Event{Image: j.image, Variant: variant}, b.many)))
			}
		}
	}
	b.engine = b.p.engine(b.in, b.live)
	b.engine.Slots = make(chan struct{}, b.in.set.jobs)
	turns := make(chan struct{}, b.in.set.jobs)
	waiting := len(jobs)
	begin := func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		waiting--
		if more := waiting - (cap(turns) - len(turns)); more > 0 { // the others begin this moment
			b.live.show(queue, fmt.Sprintf("%d more", more), 0, 0)
		} else {
			b.live.idle(queue)
		}
	}
	var group sync.WaitGroup
	for _, j := range jobs {
		group.Go(func() {
			defer close(j.done)
			if j.parent != nil {
				<-j.parent.done
				if j.parent.err != nil {
					begin()
					j.idle, j.err = true, fmt.Errorf("%s was not built: its parent %s failed", j.image, j.parent.image)
					return
				}
			}
			turns <- struct{}{}
			defer func() { <-turns }()
			begin()
			if j.err = ctx.Err(); j.err == nil {
				j.err = b.one(ctx, j)
			}
		})
	}
	group.Wait()
	b.live.end()
	return b.finish(ctx, jobs)
}

// one plans and builds one image.
func (b *builder) one(ctx context.Context, j *job) (err error) {
	if wrong := b.p.Wrong(j.image); wrong != nil {
		return wrong
	}
	o := b.options
	if img, err := b.p.Image(j.image); err == nil && !slices.ContainsFunc(img.Stages, func(s definition.Stage) bool { return s.Name == o.From }) {
		o.From = ""
	}
	if j.plan, err = b.p.plans(ctx, j.image, o); err != nil {
		return err
	}
	if j.plan.Unchanged != "" {
		b.mu.Lock()
		defer b.mu.Unlock()
		return b.in.unchanged(j.plan)
	}
	b.swept.Do(func() { _, _, b.unswept = b.p.sweep(ctx, b.engine, false) })
	if b.unswept != nil {
		return b.unswept
	}
	record, err := b.run(ctx, j, o)
	if err != nil || b.in.json {
		return err // the events said it
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.many {
		b.live.end()
	}
	text := record.Version.Ref()
	if !b.in.quiet {
		text = fmt.Sprintf("%s %s in %s", b.in.paint(green, "Registered"), record.Version.Ref(), human(record.Took))
	}
	return b.live.result(text)
}

// run builds an image, with the next number if another build took the one that was planned.
func (b *builder) run(ctx context.Context, j *job, o plan.Options) (*build.Record, error) {
	for {
		record, err := b.engine.Run(ctx, j.plan)
		var taken *catalog.TakenError
		if img, e := b.p.Image(j.image); e != nil || img.Version != "" || !errors.As(err, &taken) || ctx.Err() != nil {
			return record, err
		}
		if j.plan, err = b.p.plans(ctx, j.image, o); err != nil {
			return nil, err
		}
		if j.plan.Unchanged != "" { // the other build made what this one was to make
			o.Force = true
			if j.plan, err = b.p.plans(ctx, j.image, o); err != nil {
				return nil, err
			}
		}
	}
}

// finish reports what failed, and says what to do next.
func (b *builder) finish(ctx context.Context, jobs []*job) error {
	var failed, made []*job
	for _, j := range jobs {
		if j.err != nil {
			failed = append(failed, j)
		} else if j.plan.Unchanged == "" {
			made = append(made, j)
		}
	}
	for _, j := range jobs {
		b.warnTag(j, made)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if len(failed) == 1 && len(jobs) == 1 {
		return failed[0].err
	}
	code := 0
	for _, j := range failed {
		c := exitDefinition
		if wrong := b.p.Wrong(j.image); wrong != nil && !b.in.json {
			b.in.reportProblems(wrong, "the definition of "+j.image+", which was not built")
		} else {
			if wrong == nil && !strings.Contains(j.err.Error(), j.image) {
				j.err = fmt.Errorf("%s: %w", j.image, j.err)
			}
			c = b.in.report(j.err)
		}
		if code == 0 && !j.idle {
			code = c
		}
	}
	if len(failed) > 0 {
		b.in.note("\n%d of %d images built or up to date; not %s", len(jobs)-len(failed), len(jobs), names(failed))
		return &exitError{code}
	}
	switch {
	case len(made) == 0:
		b.in.next(fmt.Sprintf("zygos build %s --force   makes a new version all the same", strings.Join(b.in.args, " ")))
	case len(made) > 1:
		b.in.next("zygos list")
	case b.p.publishes(made[0].image):
		ref := made[0].image + "@" + made[0].plan.Version
		b.in.next(fmt.Sprintf("zygos tag %s stable · zygos publish %s", ref, ref))
	default:
		b.in.next("zygos show " + made[0].image + "@" + made[0].plan.Version)
	}
	return nil
}

func names(jobs []*job) string {
	var list []string
	for _, j := range jobs {
		list = append(list, j.image)
	}
	return strings.Join(list, ", ")
}

// warnTag tells of an image that starts from a tag of one that was just built: a tag stays where it is.
func (b *builder) warnTag(j *job, made []*job) {
	img, err := b.p.Image(j.image)
	if err != nil || j.plan == nil {
		return
	}
	ref, err := definition.ParseRef(img.Base)
	for _, parent := range made {
		if err == nil && parent.image == ref.Image && ref.IsTag() {
			b.in.note("note: %s starts from %s, which is %s; %s was built now. To build on it: zygos tag %s@%s %s, then zygos build %s", j.image, img.Base,
				j.plan.Base.Version, parent.plan.Version, parent.image, parent.plan.Version, ref.Selector, j.image)
		}
	}
}

func (in *invocation) unchanged(made *plan.Plan) error {
	if in.json {
		return in.jsonLine(upToDate{"unchanged", made.Image, made.Unchanged})
	}
	_, err := fmt.Fprintf(in.out, "%s@%s is up to date: nothing changed since it was built\n", made.Image, made.Unchanged)
	return err
}

func (in *invocation) jsonLine(v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		_, err = raw(in.out).Write(append(plain.JSON(text), '\n'))
	}
	return err
}

// engine carries out plans in this place.
func (p *place) engine(in *invocation, l *live) *build.Engine {
	ids, _ := machine.Inside()
	return &build.Engine{State: p.State, Place: p.id, Root: p.Root, Who: who(), Layers: p.layers, Store: p.store, IDs: ids, Budget: p.Org.Budget, Commit: p.Commit(),
		Machine: machine.Sandbox{IDs: ids}, Catalog: p.catalog, Watch: in.watchBuild(l),
		Base: p.bring}
}
