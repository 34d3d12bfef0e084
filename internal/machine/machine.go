// Package machine runs the steps of a stage on a temporary machine. The one machine here is
// the sandbox: a process in namespaces of its own on an overlay of layers.
//
// The package knows trees on disk and commands to run; it knows nothing of definitions,
// versions or how layers are named.
package machine

import (
	"context"
	"fmt"
	"time"
)

// Machine runs one stage at a time.
type Machine interface {
	// Run carries out the stage's steps in order on its root and returns when every process
	// of the stage is gone. A step that fails ends the stage with a *StepError. When the
	// context ends, all processes are killed at once and the context's error is returned.
	Run(ctx context.Context, stage Stage, watch Watcher) error
}

// Stage is what to run, and on what.
type Stage struct {
	Name     string
	Hostname string
	Layers   []string // folders of the layers' trees, lowest first
	Upper    string   // empty folder that receives the changes
	Scratch  string   // empty folder on the same file system, for the overlay's work and /tmp
	Network  bool     // reach the host's network; without it only a loopback device exists
	Timeout  time.Duration
	Steps    []Step
}

// Step is one script run or one file copied. Exactly one of Script and Copy is set.
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

// Copy puts a file into the tree; missing folders above it are made.
type Copy struct {
	From  string // file on the host
	To    string // absolute path in the tree; links in it are followed inside the tree
	Mode  uint32
	Owner string // USER or USER:GROUP, names or ids in the tree
}

// Watcher is told what happens while a stage runs, from one goroutine at a time for each step.
type Watcher interface {
	StepStarted(step int)
	Line(step int, stream, text string)
	StepEnded(step int, took time.Duration, err *StepError)
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

func (e *StepError) Error() string {
	switch {
	case e.Reason != "":
		return fmt.Sprintf("%s: %s", e.Name, e.Reason)
	case e.Signal != "":
		return fmt.Sprintf("%s: ended by signal %s", e.Name, e.Signal)
	}
	return fmt.Sprintf("%s: exit code %d", e.Name, e.Code)
}
