package vm

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// NotUpError says that a machine did not come up in time, or ended before.
type NotUpError struct {
	Limit   time.Duration
	Ended   string   // how it ended, "" if it went on
	Console []string // its last lines
	Full    string   // folder on a disk of this host that is full, "" for none
}

func (e *NotUpError) Error() string {
	text := fmt.Sprintf("the machine was not up after %s", e.Limit)
	if e.Ended != "" {
		text = "the machine ended before it was up: " + e.Ended
	}
	if e.Full != "" {
		text += "; the disk of " + e.Full + " is full, so that what it wrote was lost"
	}
	return text
}

// full is the folder of a machine's disk that can take no more of what the guest writes, "" for none.
func (m *Machine) full() string {
	const little = 4 << 20
	dir := m.Temp
	if m.Changes != "" {
		dir = filepath.Dir(m.Changes)
	}
	var fs unix.Statfs_t
	if unix.Statfs(dir, &fs) == nil && int64(fs.Bavail)*fs.Bsize < little {
		return dir
	}
	return ""
}

const consoleLines = 20 // that are kept

// What a console says when a machine is up: that the init has reached its last target, or the prompt of a getty, which stays. The kernel
// may write its messages (printk, with the seconds since its start) behind a prompt before that.
var (
	reached = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^(\[[^\]]*\] *)?(systemd\[1\]: )?Reached target ` +
			`(multi-user\.target|graphical\.target|Multi-User System|Graphical Interface)`)
	})
	disturbed = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63} login: ?\[ *[0-9]+\.[0-9]{6}\] `)
	})
	prompt = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63} login: ?$`) })
)

const (
	stays       = time.Second // after which a prompt is one
	mostConsole = 1 << 20     // bytes of a console that are passed on
)

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
		c.close()
		return took, nil
	case err = <-ended:
	}
	c.close()
	failed := &NotUpError{Limit: limit, Console: c.lines(), Full: m.full()}
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
	mu     sync.Mutex
	tell   func(string)
	line   []byte
	last   []string
	up     chan struct{}
	done   bool
	asks   *time.Timer // runs while a prompt stays
	passed int         // bytes
	cut    int         // lines
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
	if c.asks != nil {
		c.asks.Stop()
	}
	if prompt().MatchString(plain(c.line)) { // a prompt ends no line
		c.asks = time.AfterFunc(stays, c.isUp)
	}
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
		case line[i] == 0x1b: // and one more character
			i++
		case line[i] >= ' ':
			b.WriteByte(line[i])
		}
	}
	return b.String()
}

func (c *console) isUp() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.rises()
}

func (c *console) rises() {
	if !c.done {
		c.done = true
		close(c.up)
	}
}

// close says what was left out, once the machine has ended.
func (c *console) close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.asks != nil {
		c.asks.Stop()
	}
	if c.cut > 0 {
		c.tell(fmt.Sprintf("(%d more lines of the console are left out)", c.cut))
	}
}

func (c *console) end() {
	if line := plain(c.line); reached().MatchString(line) || disturbed().MatchString(line) {
		c.rises()
	}
	if text := strings.TrimSpace(plain(c.line)); text != "" {
		if c.last = append(c.last, text); len(c.last) > consoleLines {
			c.last = c.last[1:]
		}
		if c.passed += len(text); c.passed <= mostConsole { // a guest may say as much as it likes
			c.tell(text)
		} else {
			c.cut++
		}
	}
	c.line = c.line[:0]
}

func (c *console) lines() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.end()
	return c.last
}
