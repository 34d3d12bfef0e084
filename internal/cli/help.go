package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"runtime"
	"strings"

	"zygos/internal/plain"
	"zygos/internal/record"
	"zygos/internal/words"
)

// Version of the program, set when it is built.
var Version = "0.1.0"

var cmdVersion = &command{
	name: "version", group: "help",
	summary: "print the version",
	text:    "Prints the version of this program, and what it was built with.",
	example: "zygos version",
	run: func(_ context.Context, in *invocation) error {
		if in.json {
			return in.writeJSON(map[string]string{"version": Version, "go": runtime.Version(), "platform": runtime.GOOS + "/" + runtime.GOARCH})
		}
		_, err := fmt.Fprintf(in.out, "zygos %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
		return err
	},
}

var cmdHelp = &command{
	name: "help", group: "help", args: "[COMMAND]", most: 1,
	summary: "list the commands, or explain one",
	text:    "Without COMMAND, lists all commands. 'zygos COMMAND --help' does the same as 'zygos help COMMAND'.",
	example: "zygos help build",
}

func init() {
	cmdHelp.run = func(_ context.Context, in *invocation) error {
		if len(in.args) == 0 {
			if in.json {
				return in.writeJSON(describeAll())
			}
			return in.overview()
		}
		if in.args[0] == "--markdown" {
			return writeReference(in.out)
		}
		c := find(in.args[0])
		if c == nil {
			return wrongUse("no command %q; 'zygos help' lists them", in.args[0])
		}
		return in.explain(c)
	}
}

// explain writes the help of a command.
func (in *invocation) explain(c *command) error {
	if in.json {
		return in.writeJSON(describe(c))
	}
	return writeHelp(in.out, c)
}

func (in *invocation) overview() error {
	w := in.out
	fmt.Fprintf(w, "Zygos makes golden machine images: built from a base in stages, versioned, placed in\nregions, recorded in "+
		"manifests.\n\nusage: zygos COMMAND [FLAGS] [ARGUMENTS]\n")
	for _, g := range groups {
		fmt.Fprintf(w, "\n%s\n", in.paint(words.Bold, g.summary))
		for _, c := range commands {
			if c.group == g.name {
				fmt.Fprintf(w, "  %-11s %s\n", c.name, c.summary)
			}
		}
	}
	fmt.Fprintf(w, "\nzygos help COMMAND explains one. New here: zygos demo\n")
	return nil
}

func usageLine(c *command) string {
	return strings.TrimSpace(fmt.Sprintf("zygos %s [FLAGS] %s", c.name, c.args))
}

func writeHelp(w io.Writer, c *command) error {
	fmt.Fprintf(w, "%s\n\nusage: %s\n\n%s\n\nflags\n", upperFirst(c.summary), usageLine(c), c.text)
	in := &invocation{}
	in.flagSet(c).VisitAll(func(f *flag.Flag) { fmt.Fprintf(w, "  %-19s %s\n", flagForm(f), flagUsage(f)) })
	_, err := fmt.Fprintf(w, "\nexamples\n  %s\n", strings.ReplaceAll(c.example, "\n", "\n  "))
	return err
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func flagForm(f *flag.Flag) string {
	name, _ := flag.UnquoteUsage(f)
	if name == "auto" {
		name = "WHEN"
	}
	if name == "" || isBool(f) {
		return "--" + f.Name
	}
	return "--" + f.Name + " " + name
}

func flagUsage(f *flag.Flag) string {
	_, usage := flag.UnquoteUsage(f)
	return usage
}

func isBool(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// described is a command as help --json writes it.
type described struct {
	Name    string `json:"name"`
	Group   string `json:"group"`
	Usage   string `json:"usage"`
	Summary string `json:"summary"`
	// What follows is there if one command was asked for.
	Text     string            `json:"text,omitempty"`
	Flags    map[string]string `json:"flags,omitempty"`
	Examples []string          `json:"examples,omitempty"`
}

func describeAll() []described {
	var list []described
	for _, c := range commands {
		list = append(list, described{Name: c.name, Group: c.group, Usage: usageLine(c), Summary: c.summary})
	}
	return list
}

func describe(c *command) described {
	d := described{Name: c.name, Group: c.group, Usage: usageLine(c), Summary: c.summary, Text: c.text, Flags: map[string]string{},
		Examples: strings.Split(c.example, "\n")}
	(&invocation{}).flagSet(c).VisitAll(func(f *flag.Flag) { d.Flags[flagForm(f)] = flagUsage(f) })
	return d
}

// writeReference writes the reference page of all commands, as Markdown.
func writeReference(w io.Writer) error {
	fmt.Fprintf(w, "# Commands\n\nMade from the command table by `make reference`. Flags stand before or after arguments.\n\n"+
		"Exit codes: 0 done · 1 failed · 2 wrong use · 3 invalid definition · 4 a script failed · 5 refused by a rule ·\n6 some region is "+
		"incomplete · 130 interrupted.\n\n"+
		"Every command takes `--workspace DIR`, `--state DIR`, `--json`, `--quiet` and `--color auto|always|never`.\n")
	common := map[string]bool{"workspace": true, "state": true, "json": true, "quiet": true, "color": true}
	for _, g := range groups {
		fmt.Fprintf(w, "\n## %s\n", upperFirst(g.summary))
		for _, c := range commands {
			if c.group != g.name {
				continue
			}
			fmt.Fprintf(w, "\n### zygos %s\n\n%s.\n\n    %s\n\n%s\n", c.name, upperFirst(c.summary), usageLine(c), c.text)
			own := ""
			(&invocation{}).flagSet(c).VisitAll(func(f *flag.Flag) {
				if !common[f.Name] {
					own += fmt.Sprintf("| `%s` | %s |\n", flagForm(f), flagUsage(f))
				}
			})
			if own != "" {
				fmt.Fprintf(w, "\n| flag | meaning |\n| --- | --- |\n%s", own)
			}
			fmt.Fprintf(w, "\nExamples:\n\n    %s\n", strings.ReplaceAll(c.example, "\n", "\n    "))
		}
	}
	fmt.Fprint(w,
		"\n## Events\n\nWhat `build --json`, `log --json` and `publish --json` write: a JSON object a line, with `time`, `build`, `kind`, "+
			"`image`, `variant`, and\nbeside them what its kind says. Pass over kinds and keys that you do not know: more will come. Bytes and "+
			"nanoseconds\nare whole numbers.\n\n| kind | keys | when |\n| --- | --- | --- |\n")
	for _, k := range record.Kinds {
		fmt.Fprintf(w, "| `%s` | %s | %s |\n", k.Zero.Kind(), strings.Join(k.Keys(), " "), k.Says)
	}
	return nil
}

var cmdCompletion = &command{
	name: "completion", group: "help", args: "bash|zsh|fish", least: 1, most: 1,
	summary: "print a completion script for a shell",
	text:    "Completes commands and flags. The script is made from the command table of this program.",
	example: "zygos completion bash > /etc/bash_completion.d/zygos\nzygos completion zsh > ~/.zfunc/_zygos\nzygos completion fish > " +
		"~/.config/fish/completions/zygos.fish",
}

func init() {
	cmdCompletion.run = func(_ context.Context, in *invocation) error {
		complete := map[string]func(io.Writer) error{"bash": completeBash, "zsh": completeZsh, "fish": completeFish}[in.args[0]]
		if complete == nil {
			return wrongUse("no completion for %q; choose bash, zsh or fish", in.args[0])
		}
		if !in.json {
			return complete(in.out)
		}
		var script strings.Builder
		if err := complete(&script); err != nil {
			return err
		}
		return in.writeJSON(map[string]string{"shell": in.args[0], "script": script.String()})
	}
}

func flagNames(c *command) []string {
	var names []string
	(&invocation{}).flagSet(c).VisitAll(func(f *flag.Flag) { names = append(names, "--"+f.Name) })
	return names
}

func completeBash(w io.Writer) error {
	fmt.Fprintf(w, "# bash completion for zygos\n_zygos() {\n    local word=${COMP_WORDS[COMP_CWORD]} words\n    if [ \"$COMP_CWORD\" -eq "+
		"1 ]; then\n        words=%q\n    else\n        case ${COMP_WORDS[1]} in\n", strings.Join(commandNames(), " "))
	for _, c := range commands {
		words := strings.Join(flagNames(c), " ")
		if c.name == "help" {
			words = strings.Join(commandNames(), " ")
		}
		fmt.Fprintf(w, "        %s) words=%q ;;\n", c.name, words)
	}
	_, err := fmt.Fprintf(w, "        esac\n    fi\n    COMPREPLY=($(compgen -W \"$words\" -- \"$word\"))\n}\ncomplete -o default -F "+
		"_zygos zygos\n")
	return err
}

func completeZsh(w io.Writer) error {
	fmt.Fprintf(w, "#compdef zygos\n_zygos() {\n    if (( CURRENT == 2 )); then\n        local -a names=(\n")
	for _, c := range commands {
		fmt.Fprintf(w, "            %s\n", plain.Shell(c.name+":"+c.summary))
	}
	fmt.Fprintf(w, "        )\n        _describe command names\n        return\n    fi\n    case $words[2] in\n")
	for _, c := range commands {
		fmt.Fprintf(w, "        %s) compadd -- %s ;;\n", c.name, strings.Join(flagNames(c), " "))
	}
	_, err := fmt.Fprintf(w, "    esac\n    _files\n}\n_zygos \"$@\"\n")
	return err
}

func completeFish(w io.Writer) error {
	for _, c := range commands {
		fmt.Fprintf(w, "complete -c zygos -n __fish_use_subcommand -a %s -d %s\n", c.name, plain.Shell(c.summary))
		(&invocation{}).flagSet(c).VisitAll(func(f *flag.Flag) {
			fmt.Fprintf(w, "complete -c zygos -n '__fish_seen_subcommand_from %s' -l %s -d %s\n", c.name, f.Name, plain.Shell(flagUsage(f)))
		})
	}
	return nil
}
