package vm

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"
	"time"
)

// NotUpError says that a machine did not come up in time, or ended before.
type NotUpError struct {
	Limit   time.Duration
	Ended   string   // how it ended, "" if it went on
	Console []string // its last lines
}

func (e *NotUpError) Error() string {
	if e.Ended != "" {
		return "the machine ended before it was up: " + e.Ended
	}
	return fmt.Sprintf("the machine was not up after %s", e.Limit)
}

const consoleLines = 20 // that are kept

// signs are what a console says when a machine is up: a prompt for a login, or the init's last target.
var signs = []string{"login:", "Reached target multi-user.target", "Reached target Multi-User System", "Reached target graphical.target"}

// Comes starts a machine and waits until it is up; then it is turned off. tell hears each line of its console.
func (h *Host) Comes(ctx context.Context, m Machine, limit time.Duration, tell func(line string)) (took time.Duration, err error) {
	// The parent-death signal of the machine follows the thread that starts it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	within, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := h.command(within, m, "stdio")
	c := &console{tell: tell, up: make(chan struct{})}
	var complaint bytes.Buffer
	cmd.Stdout, cmd.Stderr = c, &complaint
	began := time.Now()
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	select {
	case <-c.up:
		took = time.Since(began)
		cancel()
		<-ended
		return took, nil
	case err = <-ended:
	}
	failed := &NotUpError{Limit: limit, Console: c.lines()}
	switch {
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case !errors.Is(within.Err(), context.DeadlineExceeded):
		failed.Ended = strings.TrimSpace(complaint.String())
		if failed.Ended == "" {
			failed.Ended = fmt.Sprintf("it turned itself off (%v)", err)
		}
	}
	return 0, failed
}

// console hears what a machine says.
type console struct {
	mu   sync.Mutex
	tell func(string)
	line []byte
	last []string
	up   chan struct{}
	done bool
}

var _ io.Writer = (*console)(nil)

func (c *console) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, b := range p {
		if b == '\n' {
			c.end()
			continue
		}
		if len(c.line) < 4096 { // a guest may say anything
			c.line = append(c.line, b)
		}
	}
	c.look() // a prompt ends no line
	return len(p), nil
}

// plain is a line without what moves a terminal's cursor or colours it.
func plain(line []byte) string {
	var b strings.Builder
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == 0x1b && i+1 < len(line) && line[i+1] == '[':
			for i += 2; i < len(line) && (line[i] < '@' || line[i] > '~'); i++ {
			}
		case line[i] >= ' ':
			b.WriteByte(line[i])
		}
	}
	return b.String()
}

func (c *console) look() {
	text := plain(c.line)
	for _, sign := range signs {
		if !c.done && strings.Contains(text, sign) {
			c.done = true
			close(c.up)
		}
	}
}

func (c *console) end() {
	c.look()
	if text := strings.TrimSpace(plain(c.line)); text != "" {
		if c.last = append(c.last, text); len(c.last) > consoleLines {
			c.last = c.last[1:]
		}
		c.tell(text)
	}
	c.line = c.line[:0]
}

func (c *console) lines() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.end()
	return c.last
}
