package words

import (
	"fmt"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/plain"
	"zygos/internal/record"
	"zygos/internal/seal"
)

// Event is an event as a line of the log, "" for those that have none. who is put before it.
func (pg *Page) Event(e record.Event, who string) string {
	if who != "" {
		who = pg.Paint(Faint, "  "+who)
	}
	head := func(word string) string { return who + "  " + pg.Paint(Bold, fmt.Sprintf("%-8s", word)) + " " }
	inner := func(word string) string { return who + "    " + pg.Paint(Faint, word) }
	stage, step := e.Place()
	of := func(form string, args ...any) string {
		return head("stage") + fmt.Sprintf("%-16s ", stage) + fmt.Sprintf(form, args...)
	}
	switch w := e.What.(type) {
	case record.Started:
		text := pg.Paint(Bold, e.Image+" "+w.Version) + "  build " + e.Build
		if w.Why != "" {
			text += pg.Paint(Faint, "  ("+w.Why+")")
		}
		return text
	case record.BaseReady:
		return head("base") + w.Base
	case record.Reused:
		return of("reused from %s", w.From)
	case record.StageBegan:
		return of("runs: %s", w.Why)
	case record.Waiting:
		if w.From == e.Build {
			return of("waits for another variant, which runs the same stage")
		}
		return of("waits for build %s, which runs the same stage", w.From)
	case record.StepBegan:
		return inner(fmt.Sprintf("%s > %s", stage, step))
	case record.Output:
		return inner(stage+" |") + " " + plain.Lines(w.Text)
	case record.Cut:
		return inner(stage+" |") + " " + pg.Paint(Amber, fmt.Sprintf("[%d lines, %s of its output are not kept]", w.Lines, mib(w.Bytes)))
	case record.Retry:
		return of("%s in %s: %s; again in %s, retry %d of %d", pg.Paint(Amber, "failed"), step, w.Failed, human(w.Pause), w.Try, w.Of)
	case record.StageDone:
		return of("ran in %s, %s changed", human(w.Took), mib(w.Bytes))
	case record.Brought:
		return head("brought") + fmt.Sprintf("%-16s %s  %s", stage, mib(w.Bytes), plain.Text(pg.near(w.File)))
	case record.Note:
		return head("note") + w.Text
	case record.Sealed:
		return head("seal") + strings.Join(sealLines(w.Results), "\n"+head("seal"))
	case record.Captured:
		return head("capture") + fmt.Sprintf("%-16s %s in %s", artifact.Key{Name: w.File.Name, Format: w.File.Format}, mib(w.File.Bytes),
			human(w.Took))
	case record.Judged:
		state := w.Result.State
		if state == record.Failed {
			state = pg.Paint(Red, "FAILED")
		}
		text := head("check") + fmt.Sprintf("%-16s %s in %s", plain.Text(w.Result.Check)+":", state, human(w.Result.Took))
		if w.Result.Why == "" {
			return text
		}
		for _, line := range append([]string{w.Result.Why}, w.Result.Wrong()...) {
			text += "\n" + head("check") + "  " + plain.Lines(line)
		}
		return text
	case record.Booted:
		return head("boot") + fmt.Sprintf("%-16s came up in %s", w.Name, human(w.Took))
	case record.Registered:
		return head("version") + fmt.Sprintf("%s@%s registered in %s", e.Image, w.Version, human(w.Took))
	case record.Broke:
		if w.Failure == nil {
			return head("stopped") + w.Text
		}
		return head("failed") + w.Failure.Error()
	}
	return ""
}

// sealLines says for each group what was removed.
func sealLines(results []seal.Result) []string {
	var lines []string
	for _, r := range results {
		switch {
		case r.Kept:
			lines = append(lines, fmt.Sprintf("%-16s left as it is, as [seal] keep says", r.Group))
		case len(r.Paths) > 0:
			lines = append(lines, fmt.Sprintf("%-16s %s, %s: %s", r.Group, counted(len(r.Paths), "path"), mib(r.Bytes), some(r.Paths)))
		}
		if len(r.Added) > 0 {
			lines = append(lines, fmt.Sprintf("%-16s adds %s: %s", r.Group, counted(len(r.Added), "path"), some(r.Added)))
		}
		for _, lack := range r.Lacks {
			lines = append(lines, fmt.Sprintf("%-16s lacks %s", r.Group, lack))
		}
	}
	if lines == nil {
		return []string{"nothing to remove"}
	}
	return lines
}

// some lists the first of many names, as far as they fit beside other words on a line.
func some(names []string) string {
	text := plain.Text(names[0])
	for _, name := range names[1:] {
		name = plain.Text(name)
		if len(text)+len(name) > 70 {
			return text + ", …"
		}
		text += ", " + name
	}
	return text
}

// Label says whose event it is, as far as the reader cannot know: the image where there are
// several, the variant where there is one.
func Label(e record.Event, many bool) string {
	if many {
		return strings.TrimSpace(e.Image + " " + e.Variant)
	}
	return e.Variant
}
