package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"zygos/internal/plain"
	"zygos/internal/record"
	"zygos/internal/words"
)

// live shows what goes on right now at the foot of a terminal, a line for each thing that goes
// on; lines of the log scroll above. Without a terminal it only writes the lines.
type live struct {
	mu       sync.Mutex // held while the progress is called, which waits for what it draws
	words    sync.Mutex // of what is drawn: nobody waits while it is held
	in       *invocation
	many     bool // several images: lines say which
	width    int  // of the widest label
	wide     int  // characters of the longest name at the foot
	progress *mpb.Progress
	feet     map[string]*foot
}

// foot is one line at the foot. It stays while its build runs and only its text changes: taking a
// line away would wait for the terminal to be drawn.
type foot struct {
	bar         *mpb.Bar
	doing       string
	began       time.Time
	done, total int64
	said        time.Time // without a terminal: when a line last told of progress
}

const lineStep = 5 * time.Second // between lines of progress where there is no terminal

func (in *invocation) live() *live {
	l := &live{in: in, feet: map[string]*foot{}}
	if isTerminal(in.err) && !in.quiet && !in.json {
		l.progress = mpb.New(mpb.WithOutput(raw(in.err)), mpb.WithWidth(30), mpb.WithRefreshRate(100*time.Millisecond))
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
		w = screen{l.progress}
	}
	fmt.Fprintln(w, text)
}

// result writes a line of the result while other things go on.
func (l *live) result(text string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.progress != nil && isTerminal(l.in.out) {
		_, err := fmt.Fprintln(screen{l.progress}, text)
		return err
	}
	_, err := fmt.Fprintln(l.in.out, text)
	return err
}

// show says what goes on; who tells apart what goes on at once. total is in bytes, 0 where only
// time tells, -1 where it is not known.
func (l *live) show(who, doing string, done, total int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.feet[who]
	if f == nil {
		f = &foot{}
		l.feet[who] = f
	}
	if l.progress == nil {
		if f.doing != doing {
			f.doing, f.said = doing, time.Now()
		} else if total > 0 && time.Since(f.said) > lineStep {
			f.said = time.Now()
			l.line(fmt.Sprintf("  %s  %s of %s", strings.TrimSpace(who+" "+doing), mib(done), mib(total)))
		}
		return
	}
	l.words.Lock()
	if f.doing != doing {
		if f.total != total || total <= 0 { // else the same bytes come to another state
			f.began = time.Now()
		}
		f.doing = doing
	}
	f.done, f.total = done, total
	l.wide = max(l.wide, len(who))
	l.words.Unlock()
	if f.bar == nil {
		f.bar = l.progress.New(0, mpb.NopStyle(), mpb.BarRemoveOnComplete(),
			mpb.PrependDecorators(decor.Any(func(decor.Statistics) string { return l.text(who, f) })))
	}
}

// text is a line at the foot as it is drawn.
func (l *live) text(who string, f *foot) string {
	l.words.Lock()
	defer l.words.Unlock()
	if who != "" {
		who = fmt.Sprintf("%-*s  ", l.wide, who)
	}
	text := "  " + plain.Text(who+f.doing) + "  "
	if f.total > 0 {
		const width = 30
		full := int(width * min(f.done, f.total) / f.total)
		text += strings.Repeat("=", full) + strings.Repeat(" ", width-full) + " " + mib(f.done) + " of " + mib(f.total) + " "
	}
	took := time.Since(f.began)
	text += human(took.Truncate(100 * time.Millisecond))
	if f.done < f.total && f.done > 0 && took > 3*time.Second {
		text += ", " + human(time.Duration(float64(took)*float64(f.total-f.done)/float64(f.done)).Truncate(time.Second)) + " left"
	}
	return text
}

// queue says how many images wait for their turn.
func (l *live) queue(more int) {
	if more > 0 {
		l.show("waiting", fmt.Sprintf("%d more", more), 0, 0)
	} else {
		l.idle("waiting")
	}
}

// idle takes a line at the foot away; that of everybody if who is "".
func (l *live) idle(who string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, f := range l.feet {
		if (who == "" || who == name) && f.bar != nil {
			f.bar.Abort(true)
			delete(l.feet, name)
		}
	}
}

// idleBuild takes the lines of a build away.
func (l *live) idleBuild(e record.Event) {
	l.mu.Lock()
	var names []string
	for name := range l.feet {
		if !l.many || name == e.Image || strings.HasPrefix(name, e.Image+" ") {
			names = append(names, name)
		}
	}
	l.mu.Unlock()
	for _, name := range names {
		l.idle(name)
	}
}

// end gives the terminal back.
func (l *live) end() {
	l.idle("")
	if l.progress != nil {
		l.progress.Wait() // it asks for the texts once more
		l.mu.Lock()
		l.progress = nil // what comes now is written as it is
		l.mu.Unlock()
	}
}

// watchBuild turns a build's events into lines, or into JSON lines.
func (in *invocation) watchBuild(l *live) func(record.Event) {
	var mu sync.Mutex
	return func(e record.Event) {
		mu.Lock() // several builds tell at once
		defer mu.Unlock()
		if in.json {
			_ = in.jsonLine(e) // the exit code tells all the same
			return
		}
		who := words.Label(e, l.many)
		stage, step := e.Place()
		switch w := e.What.(type) {
		case record.Progress:
			l.show(who, w.Doing, w.Done, w.Total)
			return
		case record.StageBegan, record.StepBegan:
			l.show(who, strings.TrimSpace("stage "+stage+" "+step), 0, 0)
		case record.Waiting:
			l.show(who, "stage "+stage+", waiting", 0, 0)
		case record.Broke, record.Registered:
			l.idleBuild(e)
			return // the command's result or error says it
		}
		if who != "" {
			who = fmt.Sprintf("%-*s", l.width, who)
		}
		if text := in.page().Event(e, who); text != "" {
			l.line(text)
		}
	}
}

// nearby is a path as it is shortest from here.
func nearby(name string) string {
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(here, name); err == nil && len(rel) < len(name) {
			return rel
		}
	}
	return name
}
