package plain_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/plain"
)

func TestNothingForeignReachesATerminalRaw(t *testing.T) {
	for foreign, shown := range map[string]string{
		"plain ünï 漢字 \uFFFD":           "plain ünï 漢字 \uFFFD",
		"a\x1b]0;title\ab":              `a\x1b]0;title\x07b`,
		"c1 \u009b31m \u0085":           `c1 \u009b31m \u0085`,
		"bidi \u202egnp.exe \u2066x":    `bidi \u202egnp.exe \u2066x`,
		"two\nlines\r\ttab":             `two\nlines\r\ttab`,
		"bad \xff\xc3":                  `bad \xff\xc3`,
		"sep \u2028 zero\u200bwidth":    `sep \u2028 zero\u200bwidth`,
		"tag \U000E0041 private \uE000": `tag \U000e0041 private \ue000`,
		"\x7f":                          `\x7f`,
	} {
		require.Equal(t, shown, plain.Text(foreign))
	}
	require.Equal(t, "a\n\tb\\x1b", plain.Lines("a\n\tb\x1b"))
	require.Equal(t, "\x1b[31mred\x1b[m\\x1b[2J\n", plain.Painted("\x1b[31mred\x1b[m\x1b[2J\n", []string{"\x1b[31m", "\x1b[m"}))
}

func TestJSONMeansTheSame(t *testing.T) {
	value := map[string]string{"\u202ekey": "c1 \u009b tag \U000E0041 \u2028 plain ü"}
	text, err := json.Marshal(value)
	require.NoError(t, err)
	safe := plain.JSON(text)
	for _, r := range "\u202e\u009b\U000E0041" {
		require.NotContains(t, string(safe), string(r))
	}
	require.Contains(t, string(safe), "plain ü")
	var back map[string]string
	require.NoError(t, json.Unmarshal(safe, &back))
	require.Equal(t, value, back)
}
