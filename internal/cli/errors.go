package cli

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"

	"zygos/internal/app"
	"zygos/internal/build"
	"zygos/internal/definition"
	"zygos/internal/record"
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

const longestWord = 240 // bytes of a path that a person reads

var longWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(fmt.Sprintf(`\S{%d,}`, longestWord)) })

// brief shortens very long words, such as a path of thousands of bytes, in the middle.
func brief(text string) string {
	return longWord().ReplaceAllStringFunc(text, func(word string) string {
		return fmt.Sprintf("%s…(%d bytes)…%s", strings.ToValidUTF8(word[:longestWord/2], ""), len(word),
			strings.ToValidUTF8(word[len(word)-longestWord/4:], ""))
	})
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
		in.reportProblems(problems, "the definitions; nothing was done")
	case failure != nil:
		in.reportFailure(failure)
	case errors.As(err, &leak):
		fmt.Fprintf(in.err, "\n%s\n  image   %s\n  secret  %s\n  place   %s, %s\nNothing was registered; other finished stages are kept. To "+
			"mend it, %s.\n", in.paint(red, "Build failed: a secret lies in the image"),
			imageOf(leak.Image, leak.Variant), leak.Secret, brief(leak.Where), leak.By(), leak.Do())
	default:
		fmt.Fprintf(in.err, "%s %s\n", in.paint(red, "zygos:"), brief(app.Explain(in.where(), err).Error()))
	}
	return code
}

// reportProblems shows what is wrong in definitions; where ends the sentence.
func (in *invocation) reportProblems(problems definition.Problems, where string) {
	for _, p := range problems {
		fmt.Fprintf(in.err, "%s: %s; %s\n", in.paint(bold, p.Pos.String()), brief(p.What), brief(p.Do))
	}
	fmt.Fprintf(in.err, "zygos: %s in %s\n", counted(len(problems), "problem"), where)
}

// reportFailure shows where a build broke, what was printed last, and how to look further.
func (in *invocation) reportFailure(f *record.Failure) {
	w := in.err
	at := f.Step
	if f.Line > 0 && f.Source != "" {
		at = fmt.Sprintf("%s:%d", f.Source, f.Line)
	} else if f.Line > 0 {
		at = fmt.Sprintf("%s, line %d", f.Step, f.Line)
	}
	fmt.Fprintf(w, "\n%s\n", in.paint(red, "Build failed: "+brief(f.How())))
	fmt.Fprintf(w, "  image  %s\n", imageOf(f.Image, f.Variant))
	if f.Stage != record.Checks {
		fmt.Fprintf(w, "  stage  %s\n  step   %s\n", f.Stage, at)
	}
	if len(f.Tail) > 0 {
		heading := "its last lines"
		if f.Stage == record.Checks {
			heading = "what they found"
		}
		fmt.Fprintf(w, "  %s:\n", heading)
		for _, line := range f.Tail {
			fmt.Fprintf(w, "    %s %s\n", in.paint(faint, "|"), line)
		}
	}
	fmt.Fprintf(w, "Nothing was registered; finished stages are kept.\n")
	if f.Stage == record.Checks {
		fmt.Fprintf(w, "  next: zygos log %s   shows what each check said\n", f.Build)
	} else {
		fmt.Fprintf(w, "  next: zygos log %s --stage %s   shows all of its output\n", f.Build, f.Stage)
	}
	if f.Kept && f.Disk {
		fmt.Fprintf(w, "        zygos try %s --boot   start the disk and see its console\n", f.Build)
	}
	if f.Kept && f.Stage != "boot" {
		fmt.Fprintf(w, "        zygos enter %s   a shell where it failed\n", f.Build)
	}
}

// imageOf is an image with its variant, in words.
func imageOf(image, variant string) string {
	if variant != "" {
		return image + ", variant " + variant
	}
	return image
}
