package words

import (
	"fmt"
	"slices"
	"strings"

	"zygos/internal/compare"
	"zygos/internal/inventory"
	"zygos/internal/layer"
)

const fewNames = 15 // of each kind, unless all are asked for

// oneLine keeps a text of others within its line.
var oneLine = strings.NewReplacer("\n", `\n`, "\r", `\r`, "\t", `\t`)

// Diff says what differs between two trees, with all names or the first ones.
func Diff(pg *Page, d *compare.Trees, all bool) {
	for i, unread := range d.Unread {
		if unread != "" {
			pg.Note("packages of %s are not compared: its database /%s is of a kind that cannot be read here", []string{d.Was, d.Now}[i], unread)
		}
	}
	pg.Print("%s -> %s", pg.Paint(Bold, d.Was), pg.Paint(Bold, d.Now))
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
	pg.Values(rows)
	for _, part := range parts {
		var lines []string
		for _, c := range part.changes {
			text := strings.TrimSpace(c.Name + "  " + c.Was + c.Now)
			if c.State == "changed" {
				text = fmt.Sprintf("%s  %s -> %s", c.Name, c.Was, c.Now)
			}
			lines = append(lines, pg.mark(c.State)+" "+text)
		}
		listed(pg, part.name, lines, all)
	}
	var lines []string
	for _, c := range d.Files {
		text := pg.mark(c.State) + " /" + c.Path
		if c.State == "changed" {
			text += "  " + pg.Paint(Faint, howChanged(&c))
		}
		lines = append(lines, text)
	}
	listed(pg, "files", lines, all)
	if i := slices.IndexFunc(d.Files, func(c layer.Change) bool { return slices.Contains(c.What, "content") }); i >= 0 {
		pg.Next(fmt.Sprintf("zygos diff %s %s --file /%s", d.Was, d.Now, d.Files[i].Path))
	}
}

func (pg *Page) mark(state string) string {
	switch state {
	case "added":
		return pg.Paint(Green, "+")
	case "removed":
		return pg.Paint(Red, "-")
	}
	return pg.Paint(Amber, "~")
}

// listed writes the first lines of many below a word.
func listed(pg *Page, word string, lines []string, all bool) {
	if len(lines) == 0 {
		return
	}
	pg.Print("\n%s", pg.Paint(Bold, word))
	shown := lines
	if !all && len(lines) > fewNames {
		shown = lines[:fewNames]
	}
	for _, l := range shown {
		pg.Print("  %s", oneLine.Replace(l))
	}
	if more := len(lines) - len(shown); more > 0 {
		pg.Print("  and %d more; --all shows them", more)
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

// Against says what differs between an image's definition and the one that a version was built from.
func Against(pg *Page, d *compare.Definitions) {
	if len(d.Changes)+len(d.Files) == 0 {
		pg.Print("The definition of %s is the one that %s was built from", d.Image, d.Against)
		return
	}
	pg.Print("%s against the definition that %s was built from", pg.Paint(Bold, d.Image), d.Against)
	for _, c := range d.Changes {
		pg.Print("  %s", c)
	}
	for _, f := range d.Files {
		pg.Print("  %-8s %s", f.State, f.Path)
	}
	for _, f := range d.Files {
		pg.Print("")
		if f.Diff == "" {
			pg.Print("%s: no text to compare", f.Path)
		}
		Unified(pg, f.Diff)
	}
	pg.Next("zygos preview " + d.Image)
}

// Unified says a comparison line by line.
func Unified(pg *Page, text string) {
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
			line = pg.Paint(Bold, line)
		case strings.HasPrefix(line, "+"):
			line = pg.Paint(Green, line)
		case strings.HasPrefix(line, "-"):
			line = pg.Paint(Red, line)
		}
		pg.Print("%s", line)
	}
}
