package cli

import (
	"errors"
	"fmt"

	"zygos/internal/app"
	"zygos/internal/build"
	"zygos/internal/definition"
	"zygos/internal/record"
	"zygos/internal/words"
)

// Exit codes.
const (
	exitFailed      = 1
	exitUsage       = 2
	exitDefinition  = 3
	exitScript      = 4
	exitRefused     = 5
	exitIncomplete  = 6
	exitInterrupted = 130
)

// exitError ends with a code and without a message: everything is said already.
type exitError struct{ code int }

func (e *exitError) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// exitCodes are those of each class of errors.
var exitCodes = map[app.Class]int{app.Fault: exitFailed, app.WrongRequest: exitUsage, app.WrongDefinition: exitDefinition,
	app.WrongScript: exitScript, app.Refused: exitRefused, app.Incomplete: exitIncomplete, app.Interrupted: exitInterrupted}

func exitCode(err error) int {
	var exit *exitError
	var usage *usageError
	switch {
	case errors.As(err, &exit):
		return exit.code
	case errors.As(err, &usage):
		return exitUsage
	}
	return exitCodes[app.ClassOf(err)]
}

// errorDocument is what --json writes in place of a result.
type errorDocument struct {
	Error struct {
		Code     int                 `json:"code"` // exit code
		Message  string              `json:"message"`
		Problems definition.Problems `json:"problems,omitempty"`
		Failure  *record.Failure     `json:"failure,omitempty"`
	} `json:"error"`
}

// report tells of an error and returns the exit code.
func (in *invocation) report(err error) int {
	code := exitCode(err)
	var exit *exitError
	if errors.As(err, &exit) {
		return code
	}
	var problems definition.Problems
	var failure *record.Failure
	errors.As(err, &problems)
	errors.As(err, &failure)
	if in.json && !in.wrote {
		var doc errorDocument
		doc.Error.Code, doc.Error.Message, doc.Error.Problems, doc.Error.Failure = code, err.Error(), problems, failure
		if in.command != nil && in.command.lines {
			_ = in.jsonLine(doc) // there is nobody else to tell
		} else {
			_ = in.writeJSON(doc) // there is nobody else to tell
		}
		return code
	}
	var cancelled *record.CancelledError
	var leak *build.LeakError
	switch {
	case errors.As(err, &cancelled):
		fmt.Fprintf(in.err, "zygos: %s%s\n", cancelled, afterBuild)
	case code == exitInterrupted:
		fmt.Fprintf(in.err, "zygos: interrupted%s\n", in.command.after)
	case problems != nil:
		in.complain(func(pg *words.Page) { words.Problems(pg, problems, "the definitions; nothing was done") })
	case failure != nil:
		in.complain(func(pg *words.Page) { words.Failure(pg, failure) })
	case errors.As(err, &leak):
		in.complain(func(pg *words.Page) { words.Leak(pg, leak) })
	default:
		fmt.Fprintf(in.err, "%s %s\n", in.paint(words.Red, "zygos:"), words.Brief(app.Explain(in.where(), err).Error()))
	}
	return code
}

// complain writes what went wrong.
func (in *invocation) complain(page func(*words.Page)) {
	pg := in.page()
	page(pg)
	_ = in.showOn(in.err, pg) // there is nobody else to tell
}
