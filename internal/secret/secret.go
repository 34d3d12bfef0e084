// Package secret reads the values of secrets, masks them in what scripts print, and finds them
// where they must not be. It knows values and bytes, and nothing of stages or trees.
package secret

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
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

// Read fetches a value from env:NAME, file:PATH or command:COMMAND; paths and commands start at
// root. set is false if the environment has no such variable. One line's end is not part of it.
func Read(ctx context.Context, from, root string) (value string, set bool, err error) {
	kind, rest, _ := strings.Cut(from, ":")
	switch kind {
	case "env":
		value, set = os.LookupEnv(rest)
		return value, set, nil
	case "file":
		if !filepath.IsAbs(rest) {
			rest = filepath.Join(root, rest)
		}
		text, err := os.ReadFile(rest)
		return trimLine(string(text)), err == nil, err
	case "command":
		ctx, cancel := context.WithTimeout(ctx, patience)
		defer cancel()
		cmd := exec.CommandContext(ctx, "/bin/sh", "-c", rest)
		cmd.Dir = root
		var complaint strings.Builder
		cmd.Stderr = &complaint
		cmd.WaitDelay = time.Second
		out, err := cmd.Output()
		if ctx.Err() != nil && err != nil {
			err = fmt.Errorf("it did not end within %s", patience)
		}
		if err != nil {
			return "", false, fmt.Errorf("command %q: %w: %s", rest, err, strings.TrimSpace(complaint.String()))
		}
		return trimLine(string(out)), true, nil
	}
	return "", false, fmt.Errorf("%q is no source of a value", from)
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
