package machine

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/plain"
)

// Guest is a booted machine with our agent in it, seen from the host. It does one thing at a time.
type Guest struct {
	port    io.ReadWriteCloser
	heard   atomic.Int64 // when the agent said something last, Unix nanoseconds
	held    atomic.Bool  // what it says waits for whoever reads what a script prints
	answers chan answer
	seen    chan Seen
	up      chan answer
	gone    chan struct{}
	mu      sync.Mutex
	streams [2]*io.PipeWriter // of the script that runs
	token   string            // of the order that is carried out
	agent   string            // who answers
	other   string            // why nothing of it is believed any more; "" if it is
}

// GoneError says that the guest does not answer any more.
type GoneError struct{ Why string }

func (e *GoneError) Error() string { return e.Why }

// Seen is what lies at a path of a guest.
type Seen struct {
	Token   string `json:",omitempty"` // of the question
	There   bool
	Mode    uint32 // as in stat(2)
	Owner   string // USER:GROUP, names where the guest knows some
	IDs     string // the same in numbers
	Content []byte // of a file, the first 512 KiB at most
}

const mostSeen = longestFrame / 2 // bytes of content, which JSON makes longer by a third

// How far a guest is that says that it is up.
const (
	upRooted  = "root"    // its init runs from the real root
	upSettled = "settled" // systemd has started all that it was to start
)

// silence is after how long an agent is gone that says nothing: processors in software can be slow.
var silence = time.Minute

// NewGuest speaks with the agent at the other end of a port.
func NewGuest(port io.ReadWriteCloser) *Guest {
	g := &Guest{port: port, answers: make(chan answer, 1), seen: make(chan Seen, 1), up: make(chan answer, 1), gone: make(chan struct{})}
	g.heard.Store(time.Now().UnixNano())
	go g.listen()
	return g
}

// listen passes on what the agent says, until the port ends.
func (g *Guest) listen() {
	defer close(g.gone)
	defer g.endStreams()
	for {
		kind, payload, err := readFrame(g.port)
		if err != nil {
			return
		}
		g.heard.Store(time.Now().UnixNano())
		if kind == frameBeat && !g.same(string(payload)) {
			return
		}
		switch kind {
		case frameOut, frameErr:
			g.mu.Lock()
			to := g.streams[map[byte]int{frameOut: 0, frameErr: 1}[kind]]
			g.mu.Unlock()
			if to != nil {
				g.held.Store(true)
				_, _ = to.Write(payload) // who reads has ended
				g.heard.Store(time.Now().UnixNano())
				g.held.Store(false)
			}
		case frameSeen:
			var s Seen
			if json.Unmarshal(payload, &s) == nil && g.asked(s.Token) {
				put(g.seen, s)
			}
		case frameAnswer:
			var a answer
			switch {
			case json.Unmarshal(payload, &a) != nil:
			case !g.same(a.Agent):
				return
			case a.Up != "":
				put(g.up, a)
			case g.asked(a.Token):
				g.endStreams()
				put(g.answers, a)
			}
		}
	}
}

// same says whether the agent is the one that spoke first. Nothing of another one in its place is believed: a check is root in the
// guest, and may end the agent and speak in its name.
func (g *Guest) same(agent string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.agent == "" {
		g.agent = agent
	}
	if agent != g.agent {
		g.other = "something in the machine ended the agent and answers in its place; nothing that it says is believed"
	}
	return g.other == ""
}

// asked says whether an answer is one to the order that is carried out.
func (g *Guest) asked(token string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return token == g.token
}

// ended is the error of a guest whose port has ended.
func (g *Guest) ended() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	return &GoneError{cmp.Or(g.other, "the machine ended")}
}

// put leaves an answer for whoever asked, if there is none already.
func put[T any](to chan T, v T) {
	select {
	case to <- v:
	default:
	}
}

// empty takes away an answer that nobody waited for.
func empty[T any](from chan T) {
	select {
	case <-from:
	default:
	}
}

func (g *Guest) endStreams() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for i, w := range g.streams {
		if w != nil {
			w.Close()
			g.streams[i] = nil
		}
	}
}

// Up waits until the guest's systemd has started everything, and returns the units that failed. Where there is none, settled is
// false, and its console must tell.
func (g *Guest) Up(ctx context.Context) (settled bool, failed []string, err error) {
	select {
	case a := <-g.up:
		for line := range strings.Lines(a.Units) {
			if f := strings.Fields(line); len(f) > 0 {
				failed = append(failed, f[0])
			}
		}
		return a.Up == upSettled, failed, nil
	case <-g.gone:
		return false, nil, g.ended()
	case <-ctx.Done():
		return false, nil, ctx.Err()
	}
}

// wait waits for something of the agent, which is gone when it says nothing.
func wait[T any](ctx context.Context, g *Guest, from <-chan T) (got T, err error) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case got = <-from:
			return got, nil
		case <-g.gone:
			return got, g.ended()
		case <-ctx.Done():
			return got, context.Cause(ctx)
		case <-tick.C:
			if !g.held.Load() && time.Since(time.Unix(0, g.heard.Load())) > silence {
				return got, &GoneError{fmt.Sprintf("the machine says nothing any more since %s", silence)}
			}
		}
	}
}

// Look returns what lies at a path. A guest that does not find out before the context ends may be asked again.
func (g *Guest) Look(ctx context.Context, path string) (Seen, error) {
	q := question{g.newToken(), path}
	empty(g.seen)
	text, err := json.Marshal(q)
	if err != nil {
		return Seen{}, err
	}
	if err := g.write(ctx, frameLook, text); err != nil {
		return Seen{}, err
	}
	return wait(ctx, g, g.seen)
}

// newToken draws the token of an order or a question: an answer to an earlier one is none to this one.
func (g *Guest) newToken() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.token = rand.Text()
	return g.token
}

// write tells the agent something. An agent that does not take it until the context ends, or for as long as one may be silent, is gone:
// part of it may have been taken.
func (g *Guest) write(ctx context.Context, kind byte, payload []byte) error {
	if port, ok := g.port.(interface{ SetWriteDeadline(time.Time) error }); ok {
		_ = port.SetWriteDeadline(time.Now().Add(silence)) // a port that knows none blocks
		stop := context.AfterFunc(ctx, func() { _ = port.SetWriteDeadline(time.Unix(1, 0)) })
		defer stop()
	}
	_, err := g.port.Write(frame(kind, payload))
	if err == nil {
		return nil
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		g.mu.Lock()
		g.other = cmp.Or(g.other, "the machine does not take what it is told")
		g.mu.Unlock()
		g.port.Close()
	}
	return cmp.Or(context.Cause(ctx), g.ended())
}

// Run carries out a stage of one script, as a machine does; network and limits are those of the guest. A guest that goes away
// meanwhile is a *GoneError.
func (g *Guest) Run(ctx context.Context, stage Stage, watch Watcher) error {
	within := ctx
	if stage.Timeout > 0 {
		var cancel context.CancelFunc
		within, cancel = context.WithTimeoutCause(ctx, stage.Timeout, errTimeout)
		defer cancel()
	}
	step := stage.Steps[0]
	out := lineSplitter{end: rand.Text()} // nobody says it: the streams end by themselves
	out.emit = func(stream, text string) { watch.Line(0, stream, text) }
	out.cut = func(stream string, lines, bytes int64) { watch.Cut(0, stream, lines, bytes) }
	var lines [2]int
	watch.StepStarted(0)
	a, err := g.carryOut(within, step.Script, stage.Secrets, func(i int, from io.Reader) {
		if stage.Mask != nil {
			from = stage.Mask(from)
		}
		lines[i] = out.copy([]string{"out", "err"}[i], from)
	})
	if errors.Is(err, errTimeout) {
		a, err = answer{Failed: &StepError{Reason: fmt.Sprintf("it did not end within its timeout of %s; all its processes were stopped",
			stage.Timeout)}}, nil
	}
	if err != nil {
		return err
	}
	if a.Failed == nil {
		watch.StepEnded(0, a.Took, nil)
		return nil
	}
	a.Failed.Name, a.Failed.Step, a.Failed.Line = step.Name, 0, max(lines[0], lines[1])
	watch.StepEnded(0, a.Took, a.Failed)
	return a.Failed
}

// Command runs a command as root, passes on what it prints, and returns its exit code.
func (g *Guest) Command(ctx context.Context, command []string, out, errs io.Writer) (code int, err error) {
	words := make([]string, len(command))
	for i, word := range command {
		words[i] = plain.Shell(word)
	}
	s := &Script{Content: []byte("#!/bin/sh\nexec " + strings.Join(words, " ") + "\n")}
	a, err := g.carryOut(ctx, s, nil, func(i int, from io.Reader) {
		_, _ = io.Copy([]io.Writer{out, errs}[i], from) // a terminal that is gone
	})
	switch {
	case err != nil:
		return 0, err
	case a.Failed == nil:
		return 0, nil
	case a.Failed.Signal != "":
		return 128 + int(unix.SignalNum(a.Failed.Signal)), nil
	case a.Failed.Code != 0:
		return a.Failed.Code, nil
	}
	return 0, errors.New(a.Failed.How())
}

// carryOut has the agent run a script; hear is given what it prints, to out (0) and err (1). When the context ends, all that the script
// started is stopped.
func (g *Guest) carryOut(ctx context.Context, s *Script, secrets []Secret, hear func(i int, from io.Reader)) (answer, error) {
	token := g.newToken()
	text, err := json.Marshal(order{Token: token, Secrets: secrets, Steps: []orderStep{{Script: s}}})
	if err != nil {
		return answer{}, err
	}
	if len(text) > longestFrame {
		return answer{}, fmt.Errorf("a script is too long for a booted machine, which takes %d KiB", longestFrame*3/4>>10)
	}
	var heard sync.WaitGroup
	for i := range g.streams {
		r, w := io.Pipe()
		g.mu.Lock()
		g.streams[i] = w
		g.mu.Unlock()
		heard.Go(func() {
			hear(i, r)
			r.Close()
		})
	}
	a, err := g.ask(ctx, text)
	if err != nil && ctx.Err() != nil { // it still runs
		if stopped := g.stop(); stopped != nil {
			err = stopped
		}
	}
	g.endStreams()
	heard.Wait()
	return a, err
}

func (g *Guest) ask(ctx context.Context, order []byte) (answer, error) {
	empty(g.answers)
	if err := g.write(ctx, frameOrder, order); err != nil {
		return answer{}, err
	}
	return wait(ctx, g, g.answers)
}

// stop ends what runs.
func (g *Guest) stop() error {
	ctx, cancel := context.WithTimeoutCause(context.Background(), silence, &GoneError{"the machine does not stop what runs in it"})
	defer cancel()
	if err := g.write(ctx, frameStop, nil); err != nil {
		return err
	}
	_, err := wait(ctx, g, g.answers)
	return err
}

// Close ends the talk.
func (g *Guest) Close() error { return g.port.Close() }
