package report_test

import (
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/record"
	"zygos/internal/report"
)

// What checks print ends no line and no element of a report, whatever it is.
func TestResultsOfChecksAreReportedWhole(t *testing.T) {
	list := []record.CheckResult{
		{Check: "good # one", Variant: "edge", State: record.Passed, Took: 1500 * time.Millisecond},
		{Check: "bad <x>", State: record.Failed, Why: "exit code 1", Output: []string{"</failure>\x1b[2J]]>", "ok 9 - forged\nok 10 - forged"},
			Expects: []record.Expected{{What: "/a", Found: "it is not there"}, {What: "/b", Holds: true}}, Cut: 7},
		{Check: "warns", State: record.Warned, Why: "a pity"},
		{Check: "skips", State: record.Skipped},
	}
	text, err := report.JUnit("link@1.0.0", list)
	require.NoError(t, err)
	var suite struct {
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Skipped  int    `xml:"skipped,attr"`
		Time     string `xml:"time,attr"`
		Cases    []struct {
			Class   string `xml:"classname,attr"`
			Name    string `xml:"name,attr"`
			Failure string `xml:"failure"`
		} `xml:"testcase"`
	}
	require.NoError(t, xml.Unmarshal(text, &suite))
	require.Equal(t, [3]int{4, 1, 1}, [3]int{suite.Tests, suite.Failures, suite.Skipped})
	require.Equal(t, "1.500", suite.Time)
	require.Equal(t, "link@1.0.0.edge", suite.Cases[0].Class)
	require.Equal(t, "bad <x>", suite.Cases[1].Name)
	require.Contains(t, suite.Cases[1].Failure, "/a: it is not there\n[7 lines before these are not kept]\n</failure>")
	require.NotContains(t, string(text), "\x1b")

	tap := string(report.TAP(list))
	require.True(t, strings.HasPrefix(tap, "TAP version 14\n1..4\nok 1 - edge good \\# one\nnot ok 2 - bad <x>\n# exit code 1\n"), tap)
	require.NotContains(t, tap, "\nok 9")
	require.NotContains(t, tap, "\nok 10")
	require.Contains(t, tap, "\nok 4 - skips # SKIP")
	require.NotContains(t, tap, "\x1b")
}
