package record

import (
	"fmt"
	"time"
)

// States of a check that was judged.
const (
	Passed  = "passed"
	Failed  = "failed"
	Warned  = "warned"  // it failed, and its level is warn
	Skipped = "skipped" // it said so itself: exit code 77
)

// CheckResult is what a check came to.
type CheckResult struct {
	Check   string        `json:"check"`
	Variant string        `json:"variant,omitempty"`
	Shared  string        `json:"shared,omitempty"` // contract
	Source  string        `json:"source,omitempty"` // script in the workspace
	Booted  bool          `json:"booted,omitempty"` // it was judged in a machine that was started
	State   string        `json:"state"`
	Why     string        `json:"why,omitempty"`     // it did not pass
	Expects []Expected    `json:"expects,omitempty"` // each expectation
	Output  []string      `json:"output,omitempty"`  // the last lines that the script printed
	Cut     int64         `json:"cut,omitempty"`     // lines before these that are not kept
	Took    time.Duration `json:"took_ns"`
}

// Wrong is what was found, in lines: expectations that do not hold, and what the script printed last.
func (r *CheckResult) Wrong() (lines []string) {
	for _, e := range r.Expects {
		if !e.Holds {
			lines = append(lines, fmt.Sprintf("%s: %s", e.What, e.Found))
		}
	}
	if r.Cut > 0 {
		lines = append(lines, fmt.Sprintf("[%d lines before these are not kept]", r.Cut))
	}
	const most = 20
	return append(lines, r.Output[max(0, len(r.Output)-most):]...)
}

// Expected is an expectation that was judged.
type Expected struct {
	What  string `json:"what"`
	Holds bool   `json:"holds"`
	Found string `json:"found,omitempty"` // instead
}

// Counts are how many checks came to what.
type Counts struct {
	Passed  int `json:"passed"`
	Failed  int `json:"failed"`
	Warned  int `json:"warned"`
	Skipped int `json:"skipped"`
}

// Count counts results.
func Count(list []CheckResult) (c Counts) {
	for _, r := range list {
		switch r.State {
		case Passed:
			c.Passed++
		case Failed:
			c.Failed++
		case Warned:
			c.Warned++
		case Skipped:
			c.Skipped++
		}
	}
	return c
}
