// Package secret reads the values of secrets, masks them in what scripts print, and finds them
// where they must not be. It knows values and bytes, and nothing of stages or trees.
package secret

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"zygos/internal/bounded"
	"zygos/internal/plain"
)

// Secret is a value that is never stored.
type Secret struct {
	Name  string
	Value string
}

// A shorter value would be found by chance everywhere; a longer one is no secret but a file.
const (
	Shortest = 8
	Longest  = 64 << 10
)

const patience = 30 * time.Second // with a command that fetches a value

// Lookup is the environment of a caller: the value of a variable, and whether it is set.
type Lookup func(name string) (value string, set bool)

type lookupKey struct{}

// With is a context in which values of env: come from a caller's environment. Without one, no variable is set.
func With(ctx context.Context, environment Lookup) context.Context {
	return context.WithValue(ctx, lookupKey{}, environment)
}

// Read fetches a value from env:NAME, file:PATH or command:COMMAND; paths and commands start at
// root. set is false if the caller's environment has no such variable. One line's end is not part of it.
func Read(ctx context.Context, from, root string) (value string, set bool, err error) {
	kind, rest, _ := strings.Cut(from, ":")
	switch kind {
	case "env":
		if lookup, ok := ctx.Value(lookupKey{}).(Lookup); ok {
			value, set = lookup(rest)
		}
		return value, set, nil
	case "file":
		if !filepath.IsAbs(rest) {
			rest = filepath.Join(root, rest)
		}
		file, err := os.Open(rest)
		if err != nil {
			return "", false, err
		}
		defer file.Close()
		text, err := bounded.All(ctx, file, rest, mostBytes)
		return trimLine(string(text)), err == nil, err
	case "command":
		value, err := command(ctx, rest, root)
		return value, err == nil, err
	}
	return "", false, fmt.Errorf("%q is no source of a value", from)
}

// mostBytes is how much is read of what is to hold a value, so that Check can say that it is too long.
const mostBytes = 1 << 20

// hung are the commands that did not end, and when: they are not asked again for a while.
var hung sync.Map

// command runs a command that prints a value. Whatever it starts ends with it.
func command(ctx context.Context, line, root string) (string, error) {
	key := root + "\n" + line
	if at, ok := hung.Load(key); ok && time.Since(at.(time.Time)) < time.Minute {
		return "", fmt.Errorf("command %q: it did not end within %s", line, patience)
	}
	within, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	cmd := exec.CommandContext(within, "/bin/sh", "-c", line)
	cmd.Dir = root
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	complaint, out := &bounded.Text{Most: 4 << 10}, &limited{cancel: cancel}
	cmd.Stdout, cmd.Stderr = out, complaint
	err := cmd.Run()
	if cmd.Process != nil {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it left behind
	}
	if errors.Is(err, exec.ErrWaitDelay) { // the command itself ended well
		err = nil
	}
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case out.over:
		err = fmt.Errorf("it prints more than %d KiB, and a value is shorter", mostBytes>>10)
	case within.Err() != nil && err != nil:
		hung.Store(key, time.Now())
		err = fmt.Errorf("it did not end within %s", patience)
	}
	if err != nil {
		said := plain.Text(strings.TrimSpace(complaint.String()))
		if said != "" {
			err = fmt.Errorf("%w: %s", err, said)
		}
		return "", fmt.Errorf("command %q: %w", line, err)
	}
	return trimLine(out.text.String()), nil
}

// limited takes what a command prints, and ends one that prints too much.
type limited struct {
	text   strings.Builder
	over   bool
	cancel func()
}

func (l *limited) Write(p []byte) (int, error) {
	if l.text.Len()+len(p) > mostBytes {
		l.over = true
		l.cancel()
		return 0, errors.New("too much")
	}
	return l.text.Write(p)
}

func trimLine(text string) string {
	return strings.TrimSuffix(strings.TrimSuffix(text, "\n"), "\r")
}

// Check says why a value cannot be a secret, "" if it can.
func Check(value string) string {
	switch {
	case len(value) < Shortest:
		return fmt.Sprintf("it has %d bytes; a secret shorter than %d cannot be told from other text, in logs and in files", len(value), Shortest)
	case len(value) > Longest:
		return fmt.Sprintf("it has %d bytes, and %d is the most; deliver large things as files", len(value), Longest)
	case strings.ContainsRune(value, 0):
		return "it holds a NUL byte, which no environment variable can"
	}
	return ""
}

// Mark tells whether a secret changed without telling what it is: a hash with a key.
func Mark(key []byte, name, value string) string {
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s\x00%s", name, value) // a hash never fails
	return hex.EncodeToString(mac.Sum(nil)[:16])
}
