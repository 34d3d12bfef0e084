package record

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/seal"
	"zygos/internal/state"
)

// Failure says where and how a build's script or step failed.
type Failure struct {
	Build   string   `json:"build"`
	Image   string   `json:"image"`
	Variant string   `json:"variant,omitempty"`
	Stage   string   `json:"stage"`
	Step    string   `json:"step"`
	Source  string   `json:"source,omitempty"` // script in the workspace
	Line    int      `json:"line,omitempty"`
	Code    int      `json:"code,omitempty"`
	Signal  string   `json:"signal,omitempty"`
	Reason  string   `json:"reason,omitempty"`
	Tail    []string `json:"tail"`           // the last lines it printed
	Kept    bool     `json:"kept,omitempty"` // the state in which it failed can be entered
	Disk    bool     `json:"disk,omitempty"` // and started
}

func (f *Failure) Error() string {
	at := f.Step
	if f.Line > 0 {
		at = fmt.Sprintf("%s:%d", f.Step, f.Line)
	}
	return fmt.Sprintf("stage %s: %s: %s", f.Stage, at, f.How())
}

// How says in words how the step ended.
func (f *Failure) How() string {
	return (&machine.StepError{Reason: f.Reason, Signal: f.Signal, Code: f.Code}).How()
}

// Step is what a build's record says of a step that ran.
type Step struct {
	Name   string        `json:"name"`
	Source string        `json:"source,omitempty"`
	Digest string        `json:"sha256"` // of what went in
	Lines  int64         `json:"lines"`  // that it printed
	Took   time.Duration `json:"took_ns"`
}

// Stage is what a build's record says of a stage.
type Stage struct {
	Name    string        `json:"name"`
	Key     string        `json:"key"`
	Layer   string        `json:"layer"`
	Bytes   int64         `json:"bytes"`
	Reason  string        `json:"reason,omitempty"` // why it ran
	Reused  string        `json:"reused,omitempty"` // the build that ran it
	Retries int           `json:"retries,omitempty"`
	Took    time.Duration `json:"took_ns"`
	Steps   []Step        `json:"steps,omitempty"`
}

// Shape is what a build's record says of a variant.
type Shape struct {
	Variant string        `json:"variant,omitempty"`
	Stages  []Stage       `json:"stages"`
	Seal    []seal.Result `json:"seal"`
}

// Schema is the schema of records. A record of this schema is called record.json once its build made a version; of
// zygos.build/2, it was called so before.
const Schema = "zygos.build/3"

// Record is the document of a finished build.
type Record struct {
	Schema  string           `json:"schema"`
	Build   string           `json:"build"`
	Host    string           `json:"host"`
	Commit  string           `json:"commit,omitempty"`  // of the repository around the workspace
	Catalog string           `json:"catalog,omitempty"` // identity of the one that the version is in
	Version *catalog.Version `json:"version"`
	Shapes  []Shape          `json:"shapes"`
	Took    time.Duration    `json:"took_ns"`
	Plan    *plan.Plan       `json:"plan"`
}

// CancelledError says who stopped a build.
type CancelledError struct{ Image, Who string }

func (c *CancelledError) Error() string {
	return fmt.Sprintf("the build of %s was cancelled by %s", c.Image, c.Who)
}

// Pending reports whether a build wrote its record and is not known to have made a version: it was not registered, or its
// process ended at that moment.
func Pending(at state.Dir, id string) bool {
	_, err := os.Stat(at.PendingRecord(id))
	return err == nil
}

// Made reports whether the log of a build says that it made a version. known is false if it has no log.
func Made(ctx context.Context, at state.Dir, id string) (made, known bool) {
	err := ReadJournal(ctx, at, id, func(e Event) error {
		_, yes := e.What.(Registered)
		made = made || yes
		return nil
	})
	return made, err == nil
}

// Read reads the record of a build that made a version.
func Read(at state.Dir, id string) (*Record, error) {
	text, err := os.ReadFile(at.Record(id))
	if errors.Is(err, fs.ErrNotExist) { // whoever asks knows that it made one
		text, err = os.ReadFile(at.PendingRecord(id))
	}
	if err != nil {
		return nil, err
	}
	var r Record
	if err := json.Unmarshal(text, &r); err != nil {
		return nil, fmt.Errorf("record of %s: %w", id, err)
	}
	return &r, nil
}
