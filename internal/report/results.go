package report

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"zygos/internal/plain"
	"zygos/internal/record"
)

// TAP is results of checks in the Test Anything Protocol, version 14. One that only warns is a failure that is put up with: TODO there.
func TAP(list []record.CheckResult) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "TAP version 14\n1..%d\n", len(list))
	for i, r := range list {
		ok, directive := "ok", ""
		switch r.State {
		case record.Failed:
			ok = "not ok"
		case record.Warned:
			ok, directive = "not ok", " # TODO it only warns"
		case record.Skipped:
			directive = " # SKIP it says so"
		}
		name := strings.TrimSpace(r.Variant + " " + r.Check)
		fmt.Fprintf(&b, "%s %d - %s%s\n", ok, i+1, plain.Text(strings.NewReplacer(`\`, `\\`, "#", `\#`).Replace(name)), directive)
		if r.State == record.Failed || r.State == record.Warned {
			for _, line := range append([]string{r.Why}, r.Wrong()...) {
				fmt.Fprintf(&b, "# %s\n", plain.Text(line))
			}
		}
	}
	return b.Bytes()
}

// JUnit is results of checks as JUnit's XML, which jobs read.
func JUnit(name string, list []record.CheckResult) ([]byte, error) {
	type message struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	type one struct {
		Class   string   `xml:"classname,attr"`
		Name    string   `xml:"name,attr"`
		Time    string   `xml:"time,attr"`
		Failure *message `xml:"failure,omitempty"`
		Skipped *message `xml:"skipped,omitempty"`
		Out     string   `xml:"system-out,omitempty"`
	}
	type suite struct {
		XMLName  xml.Name `xml:"testsuite"`
		Name     string   `xml:"name,attr"`
		Tests    int      `xml:"tests,attr"`
		Failures int      `xml:"failures,attr"`
		Skipped  int      `xml:"skipped,attr"`
		Time     string   `xml:"time,attr"`
		Cases    []one    `xml:"testcase"`
	}
	counts := record.Count(list)
	s := suite{Name: name, Tests: len(list), Failures: counts.Failed, Skipped: counts.Skipped}
	seconds := func(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }
	var total time.Duration
	for _, r := range list {
		total += r.Took
		c := one{Class: strings.TrimSuffix(name+"."+r.Variant, "."), Name: plain.Text(r.Check), Time: seconds(r.Took)}
		text := plain.Lines(strings.Join(r.Wrong(), "\n"))
		switch r.State {
		case record.Failed:
			c.Failure = &message{plain.Text(r.Why), text}
		case record.Skipped:
			c.Skipped = &message{Message: "it says so"}
		case record.Warned:
			c.Out = "warned: " + plain.Text(r.Why) + "\n" + text
		}
		s.Cases = append(s.Cases, c)
	}
	s.Time = seconds(total)
	text, err := xml.MarshalIndent(s, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}
