// Package record is what is written of work that was done: records and journals of builds, the table of events, what checks said, and
// views of what builds left. It does none of the work.
package record

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/seal"
)

// Event is one thing that happened in a build. As JSON it is one object: time, build, kind, image, variant, and beside
// them what its kind says.
type Event struct {
	Time    time.Time
	Build   string
	Image   string
	Variant string
	What
}

// What happened, of one of the kinds of the table.
type What interface {
	Kind() string
	// Place is the stage and the step that it happened in, "" for none.
	Place() (stage, step string)
}

// Kind is a line of the table of events.
type Kind struct {
	Zero What   // of its type
	Says string // when it happens, for who reads logs with other programs
}

// Keys are the keys that the kind's events have in JSON, as far as they have something to say.
func (k Kind) Keys() (names []string) {
	for _, f := range reflect.VisibleFields(reflect.TypeOf(k.Zero)) {
		if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); name != "" {
			names = append(names, name)
		}
	}
	return names
}

// Kinds are the kinds of event, in the order in which a build meets them. Whoever reads a log passes over kinds and
// keys that it does not know.
var Kinds = []Kind{
	{Heard{}, "the feed of a base was asked, before all builds; asked is when it listed that, doubt what is not as it should be"},
	{NothingDue{}, "nothing is built, since nothing is due"},
	{Unchanged{}, "an image is not built: version is what it has, and nothing changed since"},
	{Started{}, "a build begins; text is why"},
	{BaseReady{}, "the base is a tree here; text is its reference"},
	{Reused{}, "a stage's layer is taken from the build in from; took_ns is what it took there"},
	{Waiting{}, "the build in from runs the same stage; this one waits for it"},
	{StageBegan{}, "a stage runs; text is why"},
	{StepBegan{}, "a step runs; sha256 is of what it carries out"},
	{Output{}, "a step prints a line, to out or err"},
	{Cut{}, "so many lines and bytes (done) of a step's output are not kept"},
	{StepDone{}, "a step ended after so many lines; text is how it failed, without it all is well"},
	{Retry{}, "a stage failed (text) and runs again after a pause of took_ns: try done of total"},
	{StageDone{}, "a stage is a layer, done bytes in size"},
	{Brought{}, "a file was copied out of the image, to the path in text"},
	{Sealed{}, "what clones must not share is removed"},
	{Judged{}, "a check has judged the sealed tree: result"},
	{Captured{}, "an artifact is written"},
	{Booted{}, "an artifact was started and came up after took_ns"},
	{Note{}, "something to know"},
	{Progress{}, "bytes done of total, -1 if not known; not kept in logs"},
	{Registered{}, "the build is a version"},
	{Broke{}, "the build ended without a version"},
	{Delivery{}, "an artifact is on its way to a region: state, and pause_ns before it is tried again"},
	{PlannedDelivery{}, "what a publication would do (does) with an artifact, and why"},
	{Removal{}, "an artifact left a region, or error says why it did not"},
}

// At is the stage and the step of what happens in one.
type At struct {
	Stage string `json:"stage,omitempty"`
	Step  string `json:"step,omitempty"`
}

func (a At) Place() (stage, step string) { return a.Stage, a.Step }

// nowhere is the place of what concerns the whole build.
type nowhere struct{}

func (nowhere) Place() (stage, step string) { return "", "" }

type (
	Heard struct {
		nowhere
		Base    string    `json:"base"`
		Release string    `json:"release"`
		Digest  string    `json:"digest"`
		From    string    `json:"from"`
		Was     string    `json:"was,omitempty"`
		Newer   string    `json:"newer,omitempty"`
		Asked   time.Time `json:"asked"`
		Doubt   string    `json:"doubt,omitempty"`
		Do      string    `json:"do,omitempty"`
	}
	NothingDue struct{ nowhere }
	Unchanged  struct {
		nowhere
		Version string `json:"version"`
	}
	Started struct {
		nowhere
		Version string `json:"version"`
		Why     string `json:"text,omitempty"`
	}
	BaseReady struct {
		nowhere
		Base string        `json:"text"`
		Took time.Duration `json:"took_ns,omitempty"`
	}
	Reused struct {
		At
		Layer string        `json:"layer"`
		From  string        `json:"from,omitempty"`
		Took  time.Duration `json:"took_ns,omitempty"`
	}
	Waiting struct {
		At
		From string `json:"from,omitempty"`
	}
	StageBegan struct {
		At
		Why string `json:"text,omitempty"`
	}
	StepBegan struct {
		At
		Digest string `json:"sha256,omitempty"`
	}
	Output struct {
		At
		Stream string `json:"stream"`
		Text   string `json:"text,omitempty"`
	}
	Cut struct {
		At
		Stream string `json:"stream"`
		Bytes  int64  `json:"done,omitempty"`
		Lines  int64  `json:"lines,omitempty"`
	}
	StepDone struct {
		At
		Failed string        `json:"text,omitempty"`
		Took   time.Duration `json:"took_ns,omitempty"`
		Lines  int64         `json:"lines,omitempty"`
		Digest string        `json:"sha256,omitempty"` // in tables of steps
	}
	Retry struct {
		At
		Failed string        `json:"text"`
		Pause  time.Duration `json:"took_ns"`
		Try    int64         `json:"done"`
		Of     int64         `json:"total"`
	}
	StageDone struct {
		At
		Layer string        `json:"layer"`
		Bytes int64         `json:"done,omitempty"`
		Took  time.Duration `json:"took_ns,omitempty"`
	}
	Brought struct {
		At
		File  string `json:"text"`
		Bytes int64  `json:"done,omitempty"`
	}
	Sealed struct {
		nowhere
		Results []seal.Result `json:"seal,omitempty"`
		Layer   string        `json:"layer,omitempty"`
		Took    time.Duration `json:"took_ns,omitempty"`
	}
	Captured struct {
		nowhere
		File catalog.Artifact `json:"artifact"`
		Took time.Duration    `json:"took_ns,omitempty"`
	}
	Judged struct {
		nowhere
		Result CheckResult `json:"result"`
	}
	Booted struct {
		nowhere
		Name string        `json:"name"`
		Took time.Duration `json:"took_ns"`
	}
	Note struct {
		At
		Text string `json:"text"`
	}
	Progress struct {
		nowhere
		Doing string `json:"text"`
		Done  int64  `json:"done,omitempty"`  // bytes
		Total int64  `json:"total,omitempty"` // bytes
	}
	Registered struct {
		nowhere
		Version string        `json:"version"`
		Took    time.Duration `json:"took_ns,omitempty"`
	}
	Broke struct {
		nowhere
		Text    string   `json:"text"`
		Failure *Failure `json:"failure,omitempty"`
	}
	// other is of a kind that this program does not know.
	other struct {
		At
		kind string
	}
)

func (Heard) Kind() string { return "feed" }

func (NothingDue) Kind() string { return "nothing due" }

func (Unchanged) Kind() string { return "unchanged" }

func (Started) Kind() string { return "started" }

func (BaseReady) Kind() string { return "base" }

func (Reused) Kind() string { return "reused" }

func (Waiting) Kind() string { return "waiting" }

func (StageBegan) Kind() string { return "stage" }

func (StepBegan) Kind() string { return "step" }

func (Output) Kind() string { return "output" }

func (Cut) Kind() string { return "cut" }

func (StepDone) Kind() string { return "step-done" }

func (Retry) Kind() string { return "retry" }

func (StageDone) Kind() string { return "stage-done" }

func (Brought) Kind() string { return "brought" }

func (Sealed) Kind() string { return "sealed" }

func (Captured) Kind() string { return "captured" }

func (Judged) Kind() string { return "judged" }

func (Booted) Kind() string { return "booted" }

func (Note) Kind() string { return "note" }

func (Progress) Kind() string { return "progress" }

func (Registered) Kind() string { return "registered" }

func (Broke) Kind() string { return "failed" }

func (o other) Kind() string { return o.kind }

// maskable are the kinds whose texts may come from scripts, or tell of what they did.
type maskable interface {
	mask(text func(string) string) What
}

func (w Started) mask(m func(string) string) What { w.Why = m(w.Why); return w }

func (w StageBegan) mask(m func(string) string) What { w.Why = m(w.Why); return w }

func (w Output) mask(m func(string) string) What { w.Text = m(w.Text); return w }

func (w StepDone) mask(m func(string) string) What { w.Failed = m(w.Failed); return w }

func (w Retry) mask(m func(string) string) What { w.Failed = m(w.Failed); return w }

func (w Brought) mask(m func(string) string) What { w.File = m(w.File); return w }

func (w Note) mask(m func(string) string) What { w.Text = m(w.Text); return w }

func (w Broke) mask(m func(string) string) What {
	w.Text = m(w.Text)
	if w.Failure != nil {
		f := *w.Failure
		f.Reason, w.Failure = m(f.Reason), &f
	}
	return w
}

// Mask replaces the texts of an event that scripts may have chosen.
func (e Event) Mask(text func(string) string) Event {
	if m, ok := e.What.(maskable); ok {
		e.What = m.mask(text)
	}
	return e
}

// eventHead is what events of all kinds have.
type eventHead struct {
	Time    time.Time `json:"time"`
	Build   string    `json:"build"`
	Kind    string    `json:"kind"`
	Image   string    `json:"image,omitempty"`
	Variant string    `json:"variant,omitempty"`
}

func (e Event) MarshalJSON() ([]byte, error) {
	var h any = eventHead{e.Time, e.Build, e.Kind(), e.Image, e.Variant}
	if _, own := e.What.(interface{ named() }); own {
		h = struct {
			Time time.Time `json:"time"`
			Kind string    `json:"kind"`
		}{e.Time, e.Kind()}
	}
	head, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	what, err := json.Marshal(e.What)
	if err != nil || bytes.Equal(what, []byte("{}")) {
		return head, err
	}
	head[len(head)-1] = ','
	return append(head, what[1:]...), nil
}

func (e *Event) UnmarshalJSON(text []byte) error {
	var head eventHead
	if err := json.Unmarshal(text, &head); err != nil {
		return err
	}
	*e = Event{head.Time, head.Build, head.Image, head.Variant, other{kind: head.Kind}}
	for _, k := range Kinds {
		if k.Zero.Kind() == head.Kind {
			what := reflect.New(reflect.TypeOf(k.Zero))
			if err := json.Unmarshal(text, what.Interface()); err != nil {
				return err
			}
			e.What = what.Elem().Interface().(What)
		}
	}
	return nil
}
