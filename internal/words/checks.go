package words

import (
	"fmt"
	"strings"

	"zygos/internal/app"
	"zygos/internal/hunt"
	"zygos/internal/plain"
	"zygos/internal/record"
	"zygos/internal/repeat"
)

// Results writes a line for each check, and what was wrong below it.
func Results(pg *Page, list []record.CheckResult) {
	var rows [][]string
	for _, r := range list {
		in := "sandbox"
		if r.Booted {
			in = "vm"
		}
		rows = append(rows, []string{dash(r.Variant), r.Check, in, stateOf(r.State), human(r.Took), dash(r.Why)})
	}
	pg.Columns([]string{"VARIANT", "CHECK", "IN", "RESULT", "TOOK", "WHY"}, rows)
	for _, r := range list {
		if r.State == record.Failed || r.State == record.Warned {
			pg.Print("\n%s", pg.Paint(Bold, strings.TrimSpace(r.Variant+" "+r.Check)))
			for _, line := range r.Wrong() {
				pg.Print("  %s", plain.Lines(line))
			}
		}
	}
}

// Counts is counts in words.
func Counts(c record.Counts) string {
	var parts []string
	for _, p := range []struct {
		n    int
		word string
	}{{c.Failed, "failed"}, {c.Passed, "passed"}, {c.Warned, "warned"}, {c.Skipped, "skipped"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.word))
		}
	}
	return strings.Join(parts, ", ")
}

// Spent says where time went.
func Spent(list []app.Spent) string {
	var parts []string
	for _, s := range list {
		text := s.On
		if s.Bytes > 0 {
			text += " " + mib(s.Bytes)
		}
		parts = append(parts, text+" "+human(s.Took))
	}
	return strings.Join(parts, ", ")
}

// stateOf is a state as tables show it.
func stateOf(s string) string {
	if s == record.Failed {
		return "FAILED"
	}
	return s
}

// Tested says what a test came to.
func Tested(pg *Page, t *app.Tested) {
	Results(pg, t.Results)
	pg.Print("%s: %s", t.Version.Ref(), Counts(record.Count(t.Results)))
	if len(t.Spent) > 1 {
		pg.Note("time  %s", Spent(t.Spent))
	}
	if t.Judgement == nil {
		pg.Note("only some checks judged: that is not kept")
	}
}

// Repeat says whether a version came out the same, and where it first did not.
func Repeat(pg *Page, ref string, o *repeat.Outcome) {
	if o.Identical {
		pg.Print("%s comes out the same, bit for bit: %s, in %s", ref, counted(len(o.Artifacts), "artifact"), human(o.Took))
		if o.Stage != "" {
			pg.Note("stage %s came out different, in what no artifact holds: %s", o.Stage, someFiles(o))
		}
		return
	}
	where := "stage " + o.Stage
	if o.Stage == "capture" {
		where = "the capture: the trees are the same"
	}
	if o.Variant != "" {
		where += " of variant " + o.Variant
	}
	pg.Print("%s comes out %s, first in %s", ref, pg.Paint(Red, "different"), where)
	for _, d := range o.Files {
		pg.Print("  %-8s %s %s", d.State, plain.Text(d.Path), strings.Join(d.What, ", "))
		if d.How != "" {
			pg.Print("           %s", d.How)
		}
	}
	if o.More > 0 {
		pg.Print("  and %d names more", o.More)
	}
	if o.Times {
		pg.Print("  times of files alone differ: a script sets them, with touch or a copy that keeps them")
	}
	for _, f := range o.Artifacts {
		if f.Was != f.Now {
			pg.Print("  artifact %s was %.19s… and is %.19s…", f.Artifact, f.Was, dash(f.Now))
		}
	}
}

// someFiles names the first files that differ.
func someFiles(o *repeat.Outcome) string {
	var names []string
	for _, d := range o.Files[:min(3, len(o.Files))] {
		names = append(names, plain.Text(d.Path))
	}
	if more := len(o.Files) - len(names) + o.More; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names, ", "), more)
	}
	return strings.Join(names, ", ")
}

// Hunt says which stage broke a check.
func Hunt(pg *Page, check string, found *hunt.Cause) {
	pg.Print("%s passes on %s and fails on %s: stage %s of %s@%s broke it (it was %s); %s judged", pg.Paint(Bold, check),
		found.Passes.Ref(), found.Fails.Ref(), pg.Paint(Bold, found.Stage), found.Image, found.Now, found.Was, counted(found.Tries, "tree"))
	for _, why := range found.Why {
		pg.Print("  %s", plain.Text(why))
	}
	for line := range strings.Lines(found.Diff) {
		pg.Print("    %s", plain.Text(strings.TrimRight(line, "\n")))
	}
	for _, line := range found.Changes {
		pg.Print("  package %s", plain.Text(line))
	}
	const most = 10
	for _, c := range found.Files[:min(len(found.Files), most)] {
		pg.Print("  %-8s /%s %s", c.State, plain.Text(c.Path), strings.Join(c.What, ", "))
	}
	if more := len(found.Files) - most; more > 0 {
		pg.Print("  and %d names more", more)
	}
	for _, line := range append([]string{found.Result.Why}, found.Result.Wrong()...) {
		pg.Print("  the check says: %s", plain.Text(line))
	}
	pg.Next(fmt.Sprintf("zygos diff %s %s", found.Passes.Ref(), found.Fails.Ref()))
}
