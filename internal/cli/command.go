// Package cli is the command line: the table of commands, their flags, and how results look.
// It knows every other package and no domain logic.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"

	"golang.org/x/sys/unix"

	"zygos/internal/definition"
	"zygos/internal/machine"
	"zygos/internal/secret"
	"zygos/internal/words"
)

// command is one entry of the table; help, completion and the reference pages are made from it.
type command struct {
	name    string
	group   string
	args    string       // what follows the flags, for the usage line
	summary string       // one line
	text    string       // paragraphs of help
	example string       // commands, one a line
	least   int          // fewest arguments
	most    int          // most arguments, -1 for any number
	lines   bool         // with --json it writes one event a line
	inside  bool         // it makes sandboxes or reads whole trees, in a user namespace if need be
	after   string       // what an interrupt leaves, to follow the word
	flags   func() flags // nil for none
	run     func(context.Context, *invocation) error
}

// invocation is one run of a command.
type invocation struct {
	command *command
	args    []string
	line    []string  // the whole command line
	out     io.Writer // results
	err     io.Writer // progress and notes
	wide    int       // characters that a line of out shows, 0 for any number

	workspace string
	state     string
	json      bool
	quiet     bool
	color     string

	wrote bool  // a JSON document, beside which there is no other
	flags flags // the command's own
}

// flags are those of one command.
type flags interface{ declare(fs *flag.FlagSet) }

// wordsFlag is a flag that may be given several times, each time with one value.
type wordsFlag []string

func (w *wordsFlag) String() string     { return strings.Join(*w, " ") }
func (w *wordsFlag) Set(s string) error { *w = append(*w, s); return nil }

// namesFlag is a flag that may be given several times.
type namesFlag []string

func (l *namesFlag) String() string     { return strings.Join(*l, ",") }
func (l *namesFlag) Set(s string) error { *l = append(*l, strings.Split(s, ",")...); return nil }

// groups in the order of help.
var groups = []struct{ name, summary string }{
	{"start", "start"}, {"define", "define images"}, {"build", "build them"}, {"judge", "try them"}, {"keep", "keep versions"},
	{"publish", "publish to regions"}, {"operate", "operate"}, {"help", "help"},
}

// commands is the table. It is filled in init, since help reads it.
var commands []*command

func init() {
	commands = []*command{
		cmdDemo, cmdNew, cmdDoctor,
		cmdBases, cmdScripts, cmdLint, cmdPreview,
		cmdBuild, cmdBuilds, cmdLog, cmdCancel, cmdEnter, cmdCapture, cmdAdopt, cmdTry, cmdTest, cmdHunt, cmdRepeat, cmdSweep,
		cmdList, cmdShow, cmdTag, cmdDiff, cmdLineage, cmdDue, cmdRecall, cmdReinstate, cmdPrune, cmdCatalog, cmdExport, cmdImport,
		cmdPublish, cmdRegions, cmdManifest, cmdVerify, cmdLocate, cmdFetch,
		cmdStandin,
		cmdHelp, cmdSchema, cmdCompletion, cmdVersion,
	}
}

func find(name string) *command {
	for _, c := range commands {
		if c.name == name {
			return c
		}
	}
	return nil
}

func commandNames() []string {
	names := make([]string, len(commands))
	for i, c := range commands {
		names[i] = c.name
	}
	return names
}

// usageError is a wrong use of the command line.
type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }

func wrongUse(form string, args ...any) error { return &usageError{fmt.Sprintf(form, args...)} }

// Main runs a command line and returns the exit code.
func Main(args []string, out, errs io.Writer) int {
	debug.SetGCPercent(50) // memory counts for more than the little time it takes
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, unix.SIGTERM, unix.SIGHUP)
	defer cancel()
	ctx = secret.With(ctx, os.LookupEnv)
	context.AfterFunc(ctx, cancel) // a second interrupt ends the program at once; the next one sweeps
	// A reader that leaves does not end the program: what is under way goes on, and is told apart from what could not be said.
	pipes := make(chan os.Signal, 1)
	signal.Notify(pipes, unix.SIGPIPE)
	defer signal.Stop(pipes)
	said := &sink{Writer: out}
	in := &invocation{line: args, out: screen{said}, err: screen{errs}, wide: wideness(out), color: "auto"}
	err := in.dispatch(ctx, args)
	if said.failed != nil && (err == nil || errors.Is(err, said.failed)) {
		return in.unsaid(said.failed)
	}
	if err == nil {
		return 0
	}
	if ctx.Err() != nil {
		err = errors.Join(context.Canceled, err)
	}
	in.json = in.json || asksJSON(args) // also where the flags were not understood
	return in.report(err)
}

// sink is where results go. It remembers the first error of writing them.
type sink struct {
	io.Writer
	failed error
}

func (s *sink) Write(p []byte) (int, error) {
	if s.failed != nil {
		return 0, s.failed
	}
	n, err := s.Writer.Write(p)
	if err != nil {
		s.failed = err
	}
	return n, err
}

// unsaid tells that the command was done, and its result could not be written. A reader that left knows that.
func (in *invocation) unsaid(err error) int {
	if !errors.Is(err, unix.EPIPE) {
		fmt.Fprintf(in.err, "%s the command is done, and its result could not be written: %v\n", in.paint(words.Red, "zygos:"), err)
	}
	return exitFailed
}

// asksJSON says whether a command line has --json, as a flag of its own.
func asksJSON(args []string) bool {
	for _, a := range args {
		switch a {
		case "--":
			return false
		case "-json", "--json", "-json=true", "--json=true":
			return true
		}
	}
	return false
}

func (in *invocation) dispatch(ctx context.Context, args []string) error {
	var lead []string // flags before the command
	for len(args) > 1 && strings.HasPrefix(args[0], "-") {
		n := 1
		if takesValue(args[0]) {
			n = 2
		}
		n = min(n, len(args)-1)
		lead, args = append(lead, args[:n]...), args[n:]
	}
	name := "help"
	if len(args) > 0 {
		name, args = args[0], append(lead, args[1:]...)
	}
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "--version":
		name = "version"
	}
	c := find(name)
	if c == nil {
		do := "'zygos help' lists the commands"
		if guess := definition.Nearest(name, commandNames()); guess != "" {
			do = fmt.Sprintf("did you mean 'zygos %s'?", guess)
		}
		return wrongUse("unknown command %q; %s", name, do)
	}
	in.command = c
	if err := in.parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			in.json = asksJSON(args)
			return in.explain(c)
		}
		return err
	}
	if c.inside && machine.Ready() != nil {
		return in.goInside()
	}
	err := c.run(ctx, in)
	var outside *machine.OutsideError
	if errors.As(err, &outside) {
		return in.goInside()
	}
	return err
}

func takesValue(name string) bool {
	switch strings.TrimLeft(name, "-") {
	case "workspace", "state", "color":
		return true
	}
	return false
}

func (in *invocation) flagSet(c *command) *flag.FlagSet {
	fs := flag.NewFlagSet(c.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	if c.flags != nil {
		in.flags = c.flags()
		in.flags.declare(fs)
	}
	fs.StringVar(&in.workspace, "workspace", "", "use the workspace in `DIR`; default: the one around the current folder")
	fs.StringVar(&in.state, "state", os.Getenv("ZYGOS_STATE"), "keep state in `DIR`; default: .zygos in the workspace, or $ZYGOS_STATE")
	fs.BoolVar(&in.json, "json", false, "write one JSON document, or one event a line")
	fs.BoolVar(&in.quiet, "quiet", false, "no progress and no notes")
	fs.StringVar(&in.color, "color", "auto", "`auto`, always or never")
	return fs
}

// parse reads flags before, between and after arguments.
func (in *invocation) parse(args []string) error {
	fs := in.flagSet(in.command)
	for {
		if err := fs.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				return err
			}
			return wrongUse("%s; 'zygos help %s' lists the flags",
				strings.ReplaceAll(err.Error(), "flag provided but not defined: ", "unknown flag "), in.command.name)
		}
		rest := fs.Args()
		if len(rest) == 0 {
			break
		}
		in.args = append(in.args, rest[0])
		if n := len(args) - len(rest); n > 0 && args[n-1] == "--" {
			in.args = append(in.args, rest[1:]...)
			break
		}
		args = rest[1:]
	}
	if in.color != "auto" && in.color != "always" && in.color != "never" {
		return wrongUse("--color is %q; choose auto, always or never", in.color)
	}
	if len(in.args) < in.command.least || (in.command.most >= 0 && len(in.args) > in.command.most) {
		return wrongUse("'zygos %s' takes %s and got %s; 'zygos help %s' shows how", in.command.name, wanted(in.command),
			counted(len(in.args), "argument"), in.command.name)
	}
	return nil
}

func wanted(c *command) string {
	if c.args == "" {
		return "no arguments"
	}
	return c.args
}
