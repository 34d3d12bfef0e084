package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"zygos/internal/build"
	"zygos/internal/seal"
)

// live shows what goes on right now in one line at the foot of a terminal; lines of the log
// scroll above it. Without a terminal it only writes the lines.
type live struct {
	mu       sync.Mutex
	in       *invocation
	progress *mpb.Progress
	bar      *mpb.Bar
	doing    string
	said     time.Time // without a terminal: when a line last told of progress
}

const lineStep = 5 * time.Second // between lines of progress where there is no terminal

func (in *invocation) live() *live {
	l := &live{in: in}
	if isTerminal(in.err) && !in.quiet && !in.json {
		l.progress = mpb.New(mpb.WithOutput(in.err), mpb.WithWidth(30), mpb.WithRefreshRate(100*time.Millisecond))
	}
	return l
}

// line writes a line of the log.
func (l *live) line(text string) {
	if l.in.quiet || l.in.json {
		return
	}
	var w io.Writer = l.in.err
	if l.progress != nil {
		w = l.progress
	}
	fmt.Fprintln(w, text)
}

// show says what goes on; total is in bytes, 0 where only time tells, -1 where it is not known.
func (l *live) show(doing string, done, total int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.progress == nil {
		if l.doing != doing {
			l.doing, l.said = doing, time.Now()
		} else if total > 0 && time.Since(l.said) > lineStep {
			l.said = time.Now()
			l.line(fmt.Sprintf("  %s  %s of %s", doing, mib(done), mib(total)))
		}
		return
	}
	if l.doing != doing {
		l.drop()
		began := time.Now()
		name := decor.Name("  " + doing + "  ")
		elapsed := decor.Any(func(decor.Statistics) string { return " " + human(time.Since(began).Truncate(100*time.Millisecond)) })
		if total > 0 {
			bytes := decor.Any(func(s decor.Statistics) string { return " " + mib(s.Current) + " of " + mib(s.Total) })
			l.bar = l.progress.New(total, mpb.BarStyle().Lbound("").Filler("=").Tip("").Padding(" ").Rbound(""),
				mpb.BarRemoveOnComplete(), mpb.PrependDecorators(name), mpb.AppendDecorators(bytes, elapsed))
		} else {
			l.bar = l.progress.New(0, mpb.NopStyle(), mpb.BarRemoveOnComplete(), mpb.PrependDecorators(name, elapsed))
		}
		l.doing = doing
	}
	if total > 0 {
		l.bar.SetCurrent(min(done, total-1)) // a full bar would end; drop ends it
	}
}

func (l *live) drop() {
	if l.bar != nil {
		l.bar.Abort(true)
		l.bar.Wait()
		l.bar, l.doing = nil, ""
	}
}

// idle takes the foot line away.
func (l *live) idle() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.drop()
}

// end gives the terminal back.
func (l *live) end() {
	l.idle()
	if l.progress != nil {
		l.progress.Wait()
	}
}

// watchBuild turns a build's events into lines, or into JSON lines.
func (in *invocation) watchBuild(l *live) func(build.Event) {
	return func(e build.Event) {
		if in.json {
			in.jsonLine(e)
			return
		}
		switch e.Kind {
		case build.Progress:
			l.show(e.Text, e.Done, e.Total)
			return
		case build.StageBegan, build.StepBegan:
			l.show(strings.TrimSpace("stage "+e.Stage+" "+e.Step), 0, 0)
		case build.Broke:
			l.idle()
			return // the command's error says it
		case build.Output, build.StepDone:
		default:
			l.idle()
		}
		if text := in.eventLine(e); text != "" {
			l.line(text)
		}
	}
}

// eventLine is an event as a line of the log, "" for those that have none.
func (in *invocation) eventLine(e build.Event) string {
	head := func(word string) string { return "  " + in.paint(bold, fmt.Sprintf("%-8s", word)) + " " }
	switch e.Kind {
	case build.Started:
		return in.paint(bold, e.Image+" "+e.Version) + "  build " + e.Build
	case build.BaseReady:
		return head("base") + e.Text
	case build.Reused:
		return head("stage") + fmt.Sprintf("%-16s reused from %s", e.Stage, e.From)
	case build.StepBegan:
		return "    " + in.paint(faint, fmt.Sprintf("%s > %s", e.Stage, e.Step))
	case build.Output:
		return "    " + in.paint(faint, fmt.Sprintf("%s |", e.Stage)) + " " + e.Text
	case build.StageDone:
		return head("stage") + fmt.Sprintf("%-16s ran in %s, %s changed", e.Stage, human(e.Took), mib(e.Done))
	case build.Sealed:
		return head("seal") + strings.Join(sealLines(e.Seal), "\n"+head("seal"))
	case build.Captured:
		return head("capture") + fmt.Sprintf("%-16s %s in %s", e.File.Format, mib(e.File.Bytes), human(e.Took))
	case build.Broke:
		if e.Failure == nil {
			return head("stopped") + e.Text
		}
		return head("failed") + e.Failure.Error()
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
	}
	if lines == nil {
		return []string{"nothing to remove"}
	}
	return lines
}

// some lists the first of many names, as far as they fit beside other words on a line.
func some(names []string) string {
	text := names[0]
	for _, name := range names[1:] {
		if len(text)+len(name) > 70 {
			return text + ", …"
		}
		text += ", " + name
	}
	return text
}
