// Package machine runs the steps of a stage on a temporary machine, and shells in instances. The machine that it has is the sandbox: a
// process in namespaces of its own on an overlay of layers. Beside it stand the agent that runs in a machine which somebody else starts
// (guest.go), and the way of an ordinary user into a user namespace (ids.go).
//
// The package knows trees in layers and commands to run; it knows nothing of definitions or versions.
package machine

import (
	"context"
	"fmt"
	"io"
	"time"
)

// Machine runs stages and starts instances.
type Machine interface {
	// Run carries out the stage's steps in order and returns when every process of the stage is gone.
	// A step that fails ends the stage with a *StepError. When the context ends, all processes are
	// killed at once and the context's error is returned. Unless it is nil, the result is to be dropped.
	Run(ctx context.Context, on Ground, stage Stage, watch Watcher) (Result, error)
	// Start starts an instance, with the host's network or none, to be stopped.
	Start(ctx context.Context, on Ground, network bool) (Instance, error)
}

// Stage is what to run.
type Stage struct {
	Name     string
	Hostname string
	Network  bool // reach the host's network; without it only a loopback device exists
	Timeout  time.Duration
	Limits   Limits
	Secrets  []Secret
	Mask     func(io.Reader) io.Reader // put before what scripts print; nil for nothing
	Steps    []Step
}

// Limits bound what a stage's processes may use together, by cgroup v2 (Linux,
// Documentation/admin-guide/cgroup-v2.rst); 0 for no limit.
type Limits struct {
	Memory    int64 // bytes
	Processes int64
	CPU       float64 // processors
}

// Secret arrives as the variable and as the file /run/zygos/secrets/NAME, in memory.
type Secret struct{ Name, Variable, Value string }

// Step is one script run or one group of files copied. Exactly one of Script and Copy is set.
type Step struct {
	Name   string
	Script *Script
	Copy   *Copy
}

// Script is run by its #! line, else by /bin/sh -e.
type Script struct {
	Content []byte
	User    string // name or id in the tree, "" for root
	Dir     string // working directory in the tree, "" for /
	Env     []string
}

// Copy puts files, folders and links into the tree; missing folders above them are made, and
// links in their paths are followed inside the tree.
type Copy struct {
	Items []Item
	Owner string // USER or USER:GROUP, names or ids in the tree
}

// Item is one thing to copy.
type Item struct {
	From   string // on the host
	To     string // absolute path in the tree
	Mode   uint32
	Digest string // hex SHA-256 that a file must have; "" for any
	Link   string // target of a link
	Dir    bool
}

// Watcher is told what happens while a stage runs, from one goroutine at a time for each step.
type Watcher interface {
	StepStarted(step int)
	Line(step int, stream, text string)
	// Cut says that so many lines and bytes of a stream came here and were not passed on.
	Cut(step int, stream string, lines, bytes int64)
	StepEnded(step int, took time.Duration, err *StepError)
	// Note says something about the stage as a whole.
	Note(text string)
}

// StepError says how a step failed.
type StepError struct {
	Step   int    // position in Stage.Steps
	Name   string // its name
	Reason string // in words, when no exit code tells
	Code   int    // exit code of the script, 0 if it did not end by itself
	Signal string // name of the signal that ended the script
	Line   int    // line of the script, 0 if not known
}

func (e *StepError) Error() string { return e.Name + ": " + e.How() }

// How says in words how the step ended.
func (e *StepError) How() string {
	switch {
	case e.Reason != "":
		return e.Reason
	case e.Signal != "":
		return "ended by signal " + e.Signal
	}
	return fmt.Sprintf("exit code %d", e.Code)
}
