package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/compare"
	"zygos/internal/inventory"
	"zygos/internal/layer"
)

var cmdDiff = &command{
	name: "diff", group: "keep", args: "REF REF", least: 2, most: 2,
	inside:  true,
	summary: "what differs between two versions: files, packages, users, services, sizes",
	text: `Compares the trees of two versions, or of two builds, from their layers: files added, removed
and changed (content, mode, owner), packages (dpkg, apk, RPM), users, groups, services that start,
what configuration says about listening. --stage compares what a stage left. Shows the first
names of each; --all shows all, --path those below a folder, --file the text of one file.`,
	example: "zygos diff turbine-link@2.3.0 turbine-link\nzygos diff turbine-link@stable turbine-link --file /etc/ebbline/site\nzygos " +
		"diff ebb-base@1.4.0 ebb-base@1.4.1 --path /etc --all",
	flags: func() flags { return &diffFlags{} },
	run:   opened(app.Lenient, runDiff),
}

// diffFlags are those of diff.
type diffFlags struct {
	all     bool
	path    string
	file    string
	stage   string
	variant string
}

func (f *diffFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.all, "all", false, "every name")
	fs.StringVar(&f.path, "path", "", "only files at or below `PATH`")
	fs.StringVar(&f.file, "file", "", "the text of the file `PATH`, line by line")
	fs.StringVar(&f.stage, "stage", "", "the trees after the stage `NAME`")
	fs.StringVar(&f.variant, "variant", "", "of the variant `NAME`")
}

func runDiff(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*diffFlags)
	was, err := a.Side(ctx, in.args[0], f.variant, f.stage)
	if err != nil {
		return err
	}
	now, err := a.Side(ctx, in.args[1], f.variant, f.stage)
	if err != nil {
		return err
	}
	if f.file != "" {
		return in.diffText(was, now)
	}
	d := compare.TreesOf(was, now, f.path)
	if in.json {
		return in.writeJSON(d)
	}
	for i, unread := range d.Unread {
		if unread != "" {
			in.note("packages of %s are not compared: its database /%s is of a kind that cannot be read here", []string{d.Was, d.Now}[i], unread)
		}
	}
	return in.writeDiff(d)
}

// diffText shows what differs in one file.
func (in *invocation) diffText(was, now *compare.Side) error {
	f := in.flags.(*diffFlags)
	name, text, err := compare.File(was, now, f.file)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]string{"path": "/" + name, "diff": text})
	}
	if text == "" {
		_, err := fmt.Fprintf(in.out, "/%s is the same in %s and %s\n", name, was.Name, now.Name)
		return err
	}
	in.writeUnified(text)
	return nil
}

const fewNames = 15 // of each kind, without --all

func (in *invocation) writeDiff(d *compare.Trees) error {
	fmt.Fprintf(in.out, "%s -> %s\n", in.paint(bold, d.Was), in.paint(bold, d.Now))
	count := func(states []string) string {
		n := map[string]int{}
		for _, s := range states {
			n[s]++
		}
		if len(states) == 0 {
			return "the same"
		}
		return fmt.Sprintf("%d added, %d removed, %d changed", n["added"], n["removed"], n["changed"])
	}
	parts := []struct {
		name    string
		changes []inventory.Change
	}{{"packages", d.Packages}, {"users", d.Users}, {"groups", d.Groups}, {"services", d.Services}, {"listening", d.Listening}}
	var states []string
	for _, c := range d.Files {
		states = append(states, c.State)
	}
	rows := [][2]string{{"size", fmt.Sprintf("%s -> %s (%+.1f MiB)", mib(d.Bytes[0]), mib(d.Bytes[1]),
		float64(d.Bytes[1]-d.Bytes[0])/(1<<20))}, {"files", count(states)}}
	for _, part := range parts {
		var states []string
		for _, c := range part.changes {
			states = append(states, c.State)
		}
		rows = append(rows, [2]string{part.name, count(states)})
	}
	in.pairs(rows)
	all := in.flags.(*diffFlags).all
	for _, part := range parts {
		var lines []string
		for _, c := range part.changes {
			text := strings.TrimSpace(c.Name + "  " + c.Was + c.Now)
			if c.State == "changed" {
				text = fmt.Sprintf("%s  %s -> %s", c.Name, c.Was, c.Now)
			}
			lines = append(lines, in.mark(c.State)+" "+text)
		}
		in.listed(part.name, lines, all)
	}
	var lines []string
	for _, c := range d.Files {
		text := in.mark(c.State) + " /" + c.Path
		if c.State == "changed" {
			text += "  " + in.paint(faint, howChanged(&c))
		}
		lines = append(lines, text)
	}
	in.listed("files", lines, all)
	if i := slices.IndexFunc(d.Files, func(c layer.Change) bool { return slices.Contains(c.What, "content") }); i >= 0 {
		in.next(fmt.Sprintf("zygos diff %s %s --file /%s", d.Was, d.Now, d.Files[i].Path))
	}
	return nil
}

func (in *invocation) mark(state string) string {
	switch state {
	case "added":
		return in.paint(green, "+")
	case "removed":
		return in.paint(red, "-")
	}
	return in.paint(amber, "~")
}

// listed writes the first lines of many below a word.
func (in *invocation) listed(word string, lines []string, all bool) {
	if len(lines) == 0 {
		return
	}
	fmt.Fprintf(in.out, "\n%s\n", in.paint(bold, word))
	shown := lines
	if !all && len(lines) > fewNames {
		shown = lines[:fewNames]
	}
	for _, l := range shown {
		fmt.Fprintf(in.out, "  %s\n", oneLine.Replace(l))
	}
	if more := len(lines) - len(shown); more > 0 {
		fmt.Fprintf(in.out, "  and %d more; --all shows them\n", more)
	}
}

// howChanged says in words what differs of a file.
func howChanged(c *layer.Change) string {
	var parts []string
	for _, what := range c.What {
		switch what {
		case "type":
			what = fmt.Sprintf("%s, now %s", c.Was.Kind, c.Now.Kind)
		case "content":
			what = fmt.Sprintf("content, %d -> %d bytes", c.Was.Size, c.Now.Size)
		case "mode":
			what = fmt.Sprintf("mode %04o -> %04o", c.Was.Mode, c.Now.Mode)
		case "owner":
			what = fmt.Sprintf("owner %d:%d -> %d:%d", c.Was.UID, c.Was.GID, c.Now.UID, c.Now.GID)
		case "target":
			what = fmt.Sprintf("target %s -> %s", c.Was.Link, c.Now.Link)
		}
		parts = append(parts, what)
	}
	return strings.Join(parts, "; ")
}
