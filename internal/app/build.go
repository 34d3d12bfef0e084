package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/family"
	"zygos/internal/plain"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/session"
	"zygos/internal/state"
)

// BuildRequest says what to build.
type BuildRequest struct {
	Images  []string
	Options plan.Options
	Jobs    int // stages and captures at once
}

// Built is what became of one image.
type Built struct {
	Image string
	Plan  *plan.Plan     // nil if it came to none
	Made  *record.Record // nil if nothing was made
	Err   error
	Idle  bool // not built, since its parent failed
}

// Unchanged is the version that already is what a build would make, "" if there was something to build.
func (b *Built) Unchanged() string {
	if b.Plan == nil {
		return ""
	}
	return b.Plan.Unchanged
}

// BuildWatch is told what a build of several images comes to while it goes on.
type BuildWatch struct {
	Ended   func(*Built) error // one image is done, without an error; telling that may fail
	Waiting func(more int)     // so many images wait for their turn
}

// CheckOptions says what in options does not fit the images.
func (a *Session) CheckOptions(images []string, o plan.Options) error {
	var inputs, stages []string
	for _, name := range images {
		img, err := a.Image(name)
		if err != nil {
			return err
		}
		for _, input := range img.Inputs {
			inputs = append(inputs, input.Name)
		}
		for _, s := range img.Stages {
			stages = append(stages, s.Name)
		}
	}
	for name, value := range o.Set {
		if !slices.Contains(inputs, name) {
			return state.Ask("%s has no input %q; %s", strings.Join(images, ", "), name, guess(name, inputs))
		}
		if unfit := plain.Unfit(value); unfit != "" {
			return state.Ask("the value of input %q cannot be used: %s; give it another one", name, unfit)
		}
	}
	if o.From != "" && !slices.Contains(stages, o.From) {
		return state.Ask("%s has no stage %q; %s", strings.Join(images, ", "), o.From, guess(o.From, stages))
	}
	return nil
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

// DueImages lists the images that are due, of those named or of all, and those that follow.
func (a *Session) DueImages(ctx context.Context, images []string) (names []string, err error) {
	list, err := a.Due(ctx, images)
	for _, img := range a.Images { // that it cannot be built is told when its turn comes
		if a.unheard[img.Base] != nil && (len(images) == 0 || slices.Contains(images, img.Name)) {
			list = append(list, family.Due{Image: img.Name})
		}
	}
	for _, d := range list {
		for _, name := range append([]string{d.Image}, d.Follows...) {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names, err
}

// Due lists the images, of those named or of all, of which a build would make a new version.
func (a *Session) Due(ctx context.Context, images []string) ([]family.Due, error) {
	for _, name := range images {
		if _, err := a.Image(name); err != nil {
			return nil, err
		}
	}
	return family.DueOf(ctx, a.Session, images)
}

// job is one image that is built.
type job struct {
	Built
	parent *job // built by the same request, and waited for
	done   chan struct{}
}

// jobs lists the images to build, each with the one among them that it is built on.
func (a *Session) jobs(images []string) (list []*job) {
	for _, name := range images {
		if !slices.ContainsFunc(list, func(j *job) bool { return j.Image == name }) {
			list = append(list, &job{Built: Built{Image: name}, done: make(chan struct{})})
		}
	}
	for _, j := range list {
		img, err := a.Image(j.Image)
		if err != nil || a.Org.Base(img.Base) != nil {
			continue
		}
		ref, err := definition.ParseRef(img.Base)
		if i := slices.IndexFunc(list, func(o *job) bool { return o.Image == ref.Image }); err == nil && i >= 0 && !ref.IsTag() {
			j.parent = list[i]
		}
	}
	return list
}

// AllUnchanged says that there is nothing to build.
func (a *Session) AllUnchanged(ctx context.Context, r BuildRequest) (bool, error) {
	for _, j := range a.jobs(r.Images) {
		if a.Wrong(j.Image) != nil {
			continue // it is told when its turn comes
		}
		if img, err := a.Image(j.Image); err == nil && a.unheard[img.Base] != nil {
			return false, nil
		}
		made, err := a.Plan(ctx, j.Image, session.Known{Session: a.Session}, r.Options)
		if err != nil && j.parent == nil {
			return false, err
		}
		if err != nil || made.Unchanged == "" {
			return false, nil
		}
	}
	return true, nil
}

// builder carries out several builds at once.
type builder struct {
	*Session
	options plan.Options
	engine  *build.Engine
	swept   sync.Once // before the first build
	unswept error     // why that failed
}

// Build builds images, as many at once as there are jobs; one waits for its parent if that is built too.
// One that fails does not stop the others.
func (a *Session) Build(ctx context.Context, r BuildRequest, watch BuildWatch) ([]Built, error) {
	engine, outside := a.engine()
	if outside != nil { // what is unchanged needs no sandbox
		unchanged, err := a.AllUnchanged(ctx, r)
		if err != nil || !unchanged {
			return nil, cmp.Or(err, outside)
		}
		engine = &build.Engine{}
	}
	engine.Jobs = r.Jobs
	b := builder{Session: a, options: r.Options, engine: engine}
	turns := make(chan struct{}, r.Jobs)
	jobs := a.jobs(r.Images)
	var mu sync.Mutex
	waiting := len(jobs)
	begin := func() {
		mu.Lock()
		defer mu.Unlock()
		waiting--
		watch.Waiting(max(0, waiting-(cap(turns)-len(turns)))) // the others begin this moment
	}
	var group sync.WaitGroup
	for _, j := range jobs {
		group.Go(func() {
			defer close(j.done)
			if j.parent != nil {
				<-j.parent.done
				if j.parent.Err != nil {
					begin()
					j.Idle, j.Err = true, fmt.Errorf("%s was not built: its parent %s failed", j.Image, j.parent.Image)
					return
				}
			}
			turns <- struct{}{}
			defer func() { <-turns }()
			begin()
			if j.Err = ctx.Err(); j.Err == nil {
				j.Err = b.one(ctx, &j.Built)
			}
			mu.Lock()
			defer mu.Unlock()
			if j.Err == nil {
				j.Err = watch.Ended(&j.Built)
			}
		})
	}
	group.Wait()
	var list []Built
	for _, j := range jobs {
		list = append(list, j.Built)
	}
	return list, nil
}

// one plans and builds one image.
func (b *builder) one(ctx context.Context, j *Built) (err error) {
	if wrong := b.Wrong(j.Image); wrong != nil {
		return wrong
	}
	o := b.options
	if img, err := b.Image(j.Image); err == nil {
		if wrong := b.unheard[img.Base]; wrong != nil {
			return wrong
		}
		if !slices.ContainsFunc(img.Stages, func(s definition.Stage) bool { return s.Name == o.From }) {
			o.From = ""
		}
	}
	known := session.Known{Session: b.Session.Session}
	j.Plan, err = b.Plan(ctx, j.Image, known, o)
	b.noteBehind(j.Plan)
	if err != nil || j.Plan.Unchanged != "" {
		return err
	}
	b.swept.Do(func() { _, _, b.unswept = b.Sweep(ctx, false) })
	if b.unswept != nil {
		return b.unswept
	}
	for {
		j.Made, err = b.engine.Run(ctx, j.Plan)
		var taken *catalog.TakenError
		if img, e := b.Image(j.Image); e != nil || img.Version != "" || !errors.As(err, &taken) || ctx.Err() != nil {
			return err
		}
		// Another build took the number that was planned: the next one.
		if j.Plan, err = b.Plan(ctx, j.Image, known, o); err != nil {
			return err
		}
		if j.Plan.Unchanged != "" { // the other build made what this one was to make
			o.Force = true
			if j.Plan, err = b.Plan(ctx, j.Image, known, o); err != nil {
				return err
			}
		}
	}
}

// Stale is a tag that an image starts from and that stays behind when its parent was built.
type Stale struct{ Image, Base, Now, Parent, Built, Tag string }

// StaleTags lists the images among those built that start from a tag of another one that was made: a tag
// stays where it is.
func (a *Session) StaleTags(all []Built) (list []Stale) {
	for _, j := range all {
		img, err := a.Image(j.Image)
		if err != nil || j.Plan == nil {
			continue
		}
		ref, err := definition.ParseRef(img.Base)
		for _, parent := range all {
			if err == nil && parent.Made != nil && parent.Err == nil && parent.Image == ref.Image && ref.IsTag() {
				list = append(list, Stale{j.Image, img.Base, j.Plan.Base.Version, parent.Image, parent.Plan.Version, ref.Selector})
			}
		}
	}
	return list
}
