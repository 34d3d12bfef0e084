package words

import (
	"fmt"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/artifact"
	"zygos/internal/family"
	"zygos/internal/plan"
	"zygos/internal/workspace"
)

// Plan says what a build would do, and why.
func Plan(pg *Page, p *plan.Plan) {
	head := pg.Paint(Bold, p.Image+" "+p.Version)
	if p.Unchanged != "" {
		pg.Print("%s  is up to date: nothing changed since it was built", head)
	} else {
		pg.Print("%s  would be built", head)
	}
	row := func(word, text string) {
		pg.Print("%s", strings.TrimRight(fmt.Sprintf("  %-8s %s", word, text), " "))
	}
	row("base", fmt.Sprintf("%s@%s  sha256:%s", p.Base.Name, p.Base.Version, short(p.Base.Digest)))
	if p.Base.Found != nil {
		row("", FoundBy(p.Base.Found))
	}
	for i := range p.Shapes {
		if variant := p.Shapes[i].Variant; variant != "" {
			row("variant", pg.Paint(Bold, variant))
		}
		shapeOf(pg, &p.Shapes[i], row)
	}
	if len(p.Keep) > 0 {
		row("seal", "all but "+strings.Join(p.Keep, ", "))
	} else {
		row("seal", "identity, keys, logs, caches and leftovers")
	}
	row("regions", dash(strings.Join(p.Regions, ", ")))
	if len(p.Assumed) > 0 {
		pg.Note("note: %s from a command, which only a build runs; taken as at the last build", areOrIs(p.Assumed))
	}
}

func shapeOf(pg *Page, shape *plan.Shape, row func(word, text string)) {
	for _, s := range shape.Stages {
		state := pg.Paint(Amber, "will run") + ": " + s.Reason
		if s.Reuse != nil {
			state = pg.Paint(Green, "reused") + fmt.Sprintf(" from %s, %s old", s.Reuse.Build, age(s.Reuse.Created))
		}
		row("stage", fmt.Sprintf("%-16s %s", s.Name, state))
		for _, step := range s.Steps {
			text := "run  " + step.Name
			switch {
			case step.Copy == nil:
			case len(step.Files) == 1:
				text = fmt.Sprintf("%s -> %s  %s %s", step.Name, step.To, step.Files[0].Mode, step.Owner)
			default:
				text = fmt.Sprintf("%s -> %s  %s, %s", step.Name, step.To, counted(len(step.Files), "entry"), step.Owner)
			}
			row("", "  "+text)
		}
		for _, m := range s.Secrets {
			row("", fmt.Sprintf("  with secret %s, as $%s and /run/zygos/secrets/%s", m.Name, m.Variable, m.Name))
		}
	}
	for _, c := range shape.Checks {
		what := counted(len(c.Expect), "expectation")
		if len(c.Steps) > 0 {
			what = c.Steps[0].Name
		}
		if c.Warn {
			what += ", only warns"
		}
		row("check", fmt.Sprintf("%-16s %s", c.Name+":", what))
	}
	for _, a := range shape.Artifacts {
		size := ""
		if f := artifact.Find(a.Format); f != nil && f.Takes("size") {
			size = "smallest size that holds the tree, and a margin"
			if a.Size > 0 {
				size = mib(a.Size)
			}
		}
		for _, p := range a.Says.Parts() {
			size += fmt.Sprintf(", %s %s", p.Name, mib(p.Bytes))
			if p.Mount != "" {
				size += " on /" + p.Mount
			}
		}
		row("artifact", fmt.Sprintf("%-16s %s", artifact.Key{Name: a.Name, Format: a.Format}, size))
	}
}

// areOrIs is "input a comes" or "inputs a, b come".
func areOrIs(inputs []string) string {
	if len(inputs) == 1 {
		return "input " + inputs[0] + " comes"
	}
	return "inputs " + strings.Join(inputs, ", ") + " come"
}

// FoundBy says how a base was found.
func FoundBy(f *plan.Origin) string {
	text := fmt.Sprintf("%s in %s, asked %s ago", f.Rule, f.Feed, age(f.Asked))
	if f.Newer != "" {
		text += "; newer is " + f.Newer
	}
	if f.Gone {
		text += "; it is not listed so any more"
	}
	return text
}

// Bases lists bases and how they are found.
func Bases(pg *Page, list []app.Base) {
	var rows, found [][]string
	for _, b := range list {
		rows = append(rows, []string{b.Name, dash(b.Release), b.State, dash(short(b.Digest)), b.From,
			dash(strings.Join(b.Used, ", "))})
		if f := b.Found; f != nil {
			asked := "never"
			if !f.Asked.IsZero() {
				asked = age(f.Asked) + " ago"
			}
			found = append(found, []string{b.Name, f.Rule, dash(f.Newer), asked, f.Feed})
		}
	}
	pg.Columns([]string{"BASE", "RELEASE", "STATE", "SHA256", "FROM", "USED BY"}, rows)
	if found != nil {
		pg.Print("")
		pg.Columns([]string{"BASE", "WANTED", "NEWER", "ASKED", "FEED"}, found)
	}
}

// Scripts lists the script library.
func Scripts(pg *Page, list []workspace.Script) {
	var rows [][]string
	for _, s := range list {
		rows = append(rows, []string{s.Path, dash(s.Summary), dash(strings.Join(s.Needs, ", ")), usersOf(s)})
	}
	pg.Columns([]string{"SCRIPT", "WHAT IT DOES", "NEEDS", "USED BY"}, rows)
}

// Due lists the images that are due, and what to do.
func Due(pg *Page, list []family.Due) {
	if len(list) == 0 {
		pg.Print("Nothing is due: every image's newest version is what a build would make")
		return
	}
	var rows [][]string
	for _, d := range list {
		newest := dash(d.Newest)
		if d.Recalled {
			newest += ", recalled"
		}
		rows = append(rows, []string{d.Image, newest, dash(cut(strings.Join(d.Follows, ", "), 50)), d.Why})
	}
	pg.Columns([]string{"IMAGE", "NEWEST", "FOLLOWING IT", "WHY"}, rows)
	var todo []string
	for _, d := range list {
		do := d.Do
		if !d.Blocked {
			do = "zygos build --due"
		}
		if do != "" && !slices.Contains(todo, do) {
			todo = append(todo, do)
			pg.Next(do)
		}
	}
}

// usersOf lists the stages that use a script, by image.
func usersOf(s workspace.Script) string {
	var parts []string
	for i, u := range s.Users {
		if i > 0 && s.Users[i-1].Image == u.Image {
			parts[len(parts)-1] += ", " + u.Stage
			continue
		}
		parts = append(parts, u.Image+": "+u.Stage)
	}
	return dash(strings.Join(parts, "; "))
}
