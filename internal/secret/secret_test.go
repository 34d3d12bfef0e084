package secret_test

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/secret"
)

const value = "tide/K3y+of=the north"

func matcher() *secret.Matcher {
	return secret.NewMatcher([]secret.Secret{{Name: "key", Value: value}, {Name: "other", Value: "0123456789"}})
}

// ways are texts that give the value away.
func ways() map[string]string {
	fold := func(n int) string {
		var b strings.Builder
		for i, c := range []byte(value) {
			if i > 0 && i%n == 0 {
				b.WriteByte('\n')
			}
			b.WriteByte(c)
		}
		return b.String()
	}
	list := map[string]string{"plain": value, "query": url.QueryEscape(value), "path": url.PathEscape(value),
		"hex": hex.EncodeToString([]byte(value)),
		"HEX": strings.ToUpper(hex.EncodeToString([]byte(value))), "five a line": fold(5), "one a line": fold(1)}
	for i, before := range []string{"", "u", "u:", "us:"} {
		for j, after := range []string{"", "x", "xy"} {
			name := string(rune('0'+i)) + string(rune('0'+j))
			list["base64 "+name] = base64.StdEncoding.EncodeToString([]byte(before + value + after))
			list["base64url "+name] = base64.URLEncoding.EncodeToString([]byte(before + value + after))
		}
	}
	return list
}

func TestEveryFormIsFoundAndMasked(t *testing.T) {
	m := matcher()
	for name, text := range ways() {
		found, ok := m.In("before " + text + " after")
		require.True(t, ok, name)
		require.Equal(t, "key", found)
		for size, r := range map[string]io.Reader{"whole": strings.NewReader("before " + text + " after\n"),
			"byte by byte": iotest.OneByteReader(strings.NewReader("before " + text + " after\n"))} {
			out, err := io.ReadAll(m.Mask(r))
			require.NoError(t, err)
			require.Contains(t, string(out), "***", name+" "+size)
			require.True(t, strings.HasPrefix(string(out), "before ") && strings.HasSuffix(string(out), " after\n"), "%s %s: %q", name, size, out)
			// At most the few bytes show that pass before it is clear what they begin.
			require.LessOrEqual(t, longestShared(string(out), text), 8, "%s %s: %q", name, size, out)
		}
	}
}

// longestShared is the longest part of text that out holds.
func longestShared(out, text string) (longest int) {
	for i := range text {
		for j := i + longest + 1; j <= len(text) && strings.Contains(out, text[i:j]); j++ {
			longest = j - i
		}
	}
	return longest
}

func TestOtherTextPassesUnchanged(t *testing.T) {
	m := matcher()
	for _, text := range []string{"", "tide/K3y+of=the nort", "tide/K3y\n+of=\nthe north wind is not it: tide/K3y+of=th",
		strings.Repeat("tide/", 9999), "01234567\n8"} {
		want := strings.ReplaceAll(text, value, "***")
		if text == "tide/K3y\n+of=\nthe north wind is not it: tide/K3y+of=th" {
			want = "*** wind is not it: tide/K3y+of=th"
		}
		out, err := io.ReadAll(m.Mask(iotest.HalfReader(strings.NewReader(text))))
		require.NoError(t, err)
		require.Equal(t, want, string(out))
	}
	require.Equal(t, io.Reader(os.Stdin), (*secret.Matcher)(nil).Mask(os.Stdin))
	require.Nil(t, secret.NewMatcher(nil))
}

func TestLongValuesAreFoundByAnyPart(t *testing.T) {
	var lines []string
	for i := range 40 {
		lines = append(lines, strings.Repeat(string(rune('A'+i)), 20)+strings.Repeat(string(rune('a'+i%26)), 40))
	}
	m := secret.NewMatcher([]secret.Secret{{Name: "pem", Value: strings.Join(lines, "\n")}})
	_, ok := m.In("x" + lines[17] + "x")
	require.True(t, ok)
	wrapped := base64.StdEncoding.EncodeToString([]byte("user:" + strings.Join(lines, "\n")))
	name, ok, err := m.Scan(iotest.OneByteReader(strings.NewReader(wrapped[:200]+"\n"+wrapped[200:])), make([]byte, 100))
	require.NoError(t, err)
	require.True(t, ok)
	require.Equal(t, "pem", name)
	_, ok, err = m.Scan(bytes.NewReader(bytes.Repeat([]byte("nothing here "), 1000)), make([]byte, 100))
	require.NoError(t, err)
	require.False(t, ok)
}

func TestValuesAreReadFromWhereTheyAre(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), []byte("from a file\n"), 0o600))
	t.Setenv("ZYGOS_TEST_KEY", "from this process")
	_, set, err := secret.Read(t.Context(), "env:ZYGOS_TEST_KEY", dir)
	require.NoError(t, err)
	require.False(t, set, "a process that serves others has none of its own to give")
	ctx := secret.With(t.Context(), func(name string) (string, bool) { return "from the environment", name == "ZYGOS_TEST_KEY" })
	for from, want := range map[string]string{"env:ZYGOS_TEST_KEY": "from the environment", "file:key": "from a file",
		"command:cat key": "from a file"} {
		got, set, err := secret.Read(ctx, from, dir)
		require.NoError(t, err)
		require.True(t, set)
		require.Equal(t, want, got)
	}
	_, set, err = secret.Read(ctx, "env:ZYGOS_TEST_NONE", dir)
	require.NoError(t, err)
	require.False(t, set)
	for from, says := range map[string]string{"file:none": "no such file", "command:echo oh no >&2; exit 3": "exit status 3: oh no",
		"vault:x": "no source"} {
		_, _, err := secret.Read(t.Context(), from, dir)
		require.ErrorContains(t, err, says)
	}
}

func TestValuesThatCannotBeSecret(t *testing.T) {
	require.Empty(t, secret.Check(value))
	require.Contains(t, secret.Check("short"), "5 bytes")
	require.Contains(t, secret.Check(strings.Repeat("x", 1<<17)), "is the most")
	require.Contains(t, secret.Check("12345678\x00"), "NUL")
	key := []byte("state")
	require.Equal(t, secret.Mark(key, "a", "x"), secret.Mark(key, "a", "x"))
	require.NotEqual(t, secret.Mark(key, "a", "x"), secret.Mark(key, "a", "y"))
	require.NotEqual(t, secret.Mark(key, "a", "x"), secret.Mark([]byte("other"), "a", "x"))
}

func BenchmarkMask(b *testing.B) {
	m := matcher()
	line := []byte(strings.Repeat("a line of a log as scripts print them, with some words\n", 1000))
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		_, _ = io.Copy(io.Discard, m.Mask(bytes.NewReader(line)))
	}
}

func BenchmarkScan(b *testing.B) {
	m := matcher()
	line := []byte(strings.Repeat("a line of a log as scripts print them, with some words\n", 1000))
	buf := make([]byte, 64<<10)
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		_, _, _ = m.Scan(bytes.NewReader(line), buf)
	}
}

// A command that prints without end is stopped, and whatever a command starts ends with it.
func TestCommandsAreBounded(t *testing.T) {
	dir := t.TempDir()
	_, _, err := secret.Read(t.Context(), "command:cat /dev/zero", dir)
	require.ErrorContains(t, err, "it prints more than 1024 KiB")
	_, _, err = secret.Read(t.Context(), "file:/dev/zero", dir)
	require.ErrorContains(t, err, "larger than 1024 KiB")
	value, _, err := secret.Read(t.Context(), "command:sleep 300 & echo $! > left; echo value", dir)
	require.NoError(t, err)
	require.Equal(t, "value", value)
	text, err := os.ReadFile(filepath.Join(dir, "left"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		state, err := os.ReadFile("/proc/" + strings.TrimSpace(string(text)) + "/stat")
		return err != nil || strings.Contains(string(state), ") Z ")
	}, 10*time.Second, 10*time.Millisecond)
}

// A login is a user with a password, or a token, and is not shown by accident.
func TestLogins(t *testing.T) {
	ctx := secret.With(t.Context(), func(name string) (string, bool) {
		value, ok := map[string]string{"PAIR": "keeper:pass:word", "TOKEN": "abc"}[name]
		return value, ok
	})
	l, err := secret.Credentials(ctx, "region north", "env:PAIR", "")
	require.NoError(t, err)
	require.Equal(t, []string{"keeper", "pass:word"}, []string{l.User, l.Value.Value})
	require.NotContains(t, fmt.Sprintf("%v %s", l, l), "pass")
	l, err = secret.Credentials(ctx, "region north", "env:TOKEN", "")
	require.NoError(t, err)
	require.Equal(t, []string{"", "abc"}, []string{l.User, l.Value.Value})
	_, err = secret.Credentials(ctx, "region north", "env:NONE", "")
	require.EqualError(t, err, "the credentials of region north, env:NONE, give nothing: it is not set")
	l, err = secret.Credentials(ctx, "region north", "", "")
	require.NoError(t, err)
	require.Zero(t, l)
}
