package machine

import (
	"os"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

func TestTidy(t *testing.T) {
	for raw, want := range map[string]string{
		"plain\n":                           "plain",
		"windows\r\n":                       "windows",
		"10%\r20%\r100%\n":                  "100%",
		"\x1b[1;31mred\x1b[0m\n":            "red",
		"\x1b]0;title\x07text":              "text",
		"\x1b]8;;x\x1b\\link\x1b]8;;\x1b\\": "link",
		"tab\tstays, bell\a goes\x7f":       "tab\tstays, bell goes",
		"c1 \u009b2J and \u202ebidi":        `c1 \u009b2J and \u202ebidi`,
		"not \xff utf-8":                    "not \uFFFD utf-8",
		"erase\x1b[2K\x1b[1Gline":           "eraseline",
		"":                                  "",
	} {
		require.Equal(t, want, tidy(raw), "%q", raw)
	}
}

func TestSplitterFindsLinesEndsAndNumbers(t *testing.T) {
	for name, c := range map[string]struct {
		text  string
		lines []string
		line  int
	}{
		"whole lines":      {"a\nb\n", []string{"a", "b"}, 0},
		"no end of line":   {"a\nb", []string{"a", "b"}, 0},
		"end mark":         {"a\nENDMARK\nleft by a daemon\n", []string{"a"}, 0},
		"mark after text":  {"a\nbENDMARK\n", []string{"a", "b"}, 0},
		"empty lines":      {"\n\na\n", []string{"", "", "a"}, 0},
		"busybox and bash": {scriptDir + "/01: line 12: x: not found\n", []string{scriptDir + "/01: line 12: x: not found"}, 12},
		"dash":             {scriptDir + "/01: 7: x: not found\n", []string{scriptDir + "/01: 7: x: not found"}, 7},
		"the last counts": {scriptDir + "/01: 7: a\n" + scriptDir + "/01: 9: b\n", []string{scriptDir + "/01: 7: a", scriptDir + "/01: 9: b"},
			9},
		"another program": {"make: 12: x\n", []string{"make: 12: x"}, 0},
		"nothing":         {"", nil, 0},
	} {
		t.Run(name, func(t *testing.T) {
			var lines []string
			s := lineSplitter{end: "ENDMARK", emit: func(_, text string) { lines = append(lines, text) }}
			require.Equal(t, c.line, s.copy("out", iotest.OneByteReader(strings.NewReader(c.text))))
			require.Equal(t, c.lines, lines)
		})
	}
}

func TestSubordinateRanges(t *testing.T) {
	file := t.TempDir() + "/subuid"
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	for text, want := range map[string]uint32{
		"me:100000:65536\n":                   100000,
		"you:1:65536\nme:200000:65536\n":      200000,
		"1000:300000:65536\n":                 300000,
		"me:5:10\nme:400000:131072\n":         400000,
		"# comment\nme:x:65536\nme:7:65536\n": 7,
		"me:100000\nyou:100000:65536\n":       0,
		"":                                    0,
	} {
		write(text)
		first, ok := subordinate(file, "me", 1000)
		require.Equal(t, want != 0, ok, text)
		require.Equal(t, want, first, text)
	}
	_, ok := subordinate(file+".missing", "me", 1000)
	require.False(t, ok)
}
