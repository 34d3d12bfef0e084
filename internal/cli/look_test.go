package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/vbauerster/mpb/v8"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/seal"
)

func TestSizesDurationsAndAges(t *testing.T) {
	for n, want := range map[int64]string{0: "0.0 MiB", 1: "<0.1 MiB", 1 << 20: "1.0 MiB", 1<<20 + 1<<19: "1.5 MiB", 5 << 30: "5120.0 MiB"} {
		require.Equal(t, want, mib(n))
	}
	for d, want := range map[time.Duration]string{1500 * time.Microsecond: "1.5 ms", 42 * time.Millisecond: "42 ms",
		1234 * time.Millisecond: "1.2 s",
		125 * time.Second:       "2 min 5 s", 3*time.Hour + 7*time.Minute: "3 h 7 min", 100 * time.Hour: "4 days"} {
		require.Equal(t, want, human(d))
	}
	for d, want := range map[time.Duration]string{-time.Minute: "0 s", 5 * time.Second: "5 s", 61 * time.Second: "1 min",
		90 * time.Minute: "1 h 30 min"} {
		require.Equal(t, want, age(time.Now().Add(-d)))
	}
	require.Equal(t, "2026-01-02T02:04:05Z", when(time.Date(2026, 1, 2, 3, 4, 5, 6, time.FixedZone("", 3600))))
	require.Equal(t, "0123456789ab", short("sha256:0123456789abcdef"))
	require.Equal(t, "1 path, 2 entries, 0 files", counted(1, "path")+", "+counted(2, "entry")+", "+counted(0, "file"))
}

func TestColumnsAlignAndStayPlain(t *testing.T) {
	var out bytes.Buffer
	in := &invocation{out: &out, err: &out, color: "never"}
	require.NoError(t, in.columns([]string{"IMAGE", "TAGS"}, [][]string{{"turbine-link", "stable"}, {"a", "-"}}))
	require.Equal(t, "IMAGE         TAGS\nturbine-link  stable\na             -\n", out.String())
	out.Reset()
	in.color = "always"
	require.NoError(t, in.columns([]string{"IMAGE", "TAGS"}, [][]string{{"a", "b"}}))
	require.Contains(t, out.String(), "\x1b[1m")
	out.Reset()
	in.pairs([][2]string{{"a", "1"}, {"long", "2"}})
	require.Contains(t, out.String(), "1\n")
}

// On a terminal that is narrower than a table, each row is lines of its own: nothing is cut or folded that fits.
func TestTablesAtFortyColumns(t *testing.T) {
	var out bytes.Buffer
	in := &invocation{out: &out, err: &out, color: "never", wide: 40}
	head := []string{"IMAGE", "VERSION", "TAGS", "NOTE"}
	require.NoError(t, in.columns(head, [][]string{{"turbine-link", "2.3.1", "stable", "-"}}))
	require.Equal(t, "IMAGE         VERSION  TAGS    NOTE\nturbine-link  2.3.1    stable  -\n", out.String())
	out.Reset()
	require.NoError(t, in.columns(head, [][]string{{"turbine-link", "2.3.1", "stable", "built on a recalled one"},
		{"ebb-base", "1.0.0", "", "-"}}))
	require.Equal(t, "turbine-link\n  version 2.3.1  tags stable\n  note built on a recalled one\nebb-base\n  version 1.0.0\n", out.String())
}

func TestWhatOthersWroteIsShownAndNotObeyed(t *testing.T) {
	var out bytes.Buffer
	in := &invocation{out: screen{&out}, err: screen{&out}, color: "always"}
	evil := "a\x1b[2Jb\u009b31m\u202e\nRegistered"
	safe := `a\x1b[2Jb\u009b31m\u202e\nRegistered`
	require.NoError(t, in.columns([]string{"NAME", "WHY"}, [][]string{{evil, in.paint(red, "x")}}))
	in.pairs([][2]string{{"why", evil}})
	in.listed("files", []string{"+ " + evil}, true)
	require.Equal(t, 3, strings.Count(out.String(), safe), out.String())
	require.Contains(t, out.String(), "\x1b[31mx\x1b[m", "our own colours stay")
	out.Reset()
	require.NoError(t, in.writeJSON(map[string]string{"why": evil}))
	require.NotContains(t, out.String(), "\u202e")
	require.Contains(t, out.String(), `\u202e`)
	for _, line := range []string{some([]string{evil}), in.eventLine(record.Event{What: record.Brought{File: evil}}, ""),
		in.eventLine(record.Event{What: record.Sealed{Results: []seal.Result{{Group: "logs", Paths: []string{evil}}}}}, "")} {
		require.Contains(t, line, safe)
	}
	out.Reset()
	in.report(errors.New(evil))
	require.NotContains(t, out.String(), "\x1b[2J")
}

func TestColourFollowsTheFlagAndTheEnvironment(t *testing.T) {
	var out bytes.Buffer
	in := &invocation{out: &out, err: &out, color: "auto"}
	require.Equal(t, "text", in.paint(red, "text"), "no terminal, no colour")
	in.color = "always"
	require.NotEqual(t, "text", in.paint(red, "text"))
	in.color = "never"
	require.Equal(t, "text", in.paint(red, "text"))
}

func TestExitCodes(t *testing.T) {
	for want, err := range map[int]error{
		exitFailed: errors.New("x"), exitUsage: wrongUse("x"), exitDefinition: definition.Problems{{What: "x"}}, exitScript: &record.Failure{},
		exitRefused: &catalog.TakenError{}, exitIncomplete: &publish.IncompleteError{},
	} {
		require.Equal(t, want, exitCode(err))
		require.Equal(t, want, exitCode(fmt.Errorf("more: %w", err)))
	}
}

func TestEventsAsLines(t *testing.T) {
	broke := func(f *record.Failure) record.Event { return record.Event{What: record.Broke{Failure: f}} }
	in, one := &invocation{color: "never", out: &bytes.Buffer{}, err: &bytes.Buffer{}}, record.At{Stage: "one"}
	for want, e := range map[string]record.Event{
		"link 2.3.0  build b-1":                                     {Image: "link", Build: "b-1", What: record.Started{Version: "2.3.0"}},
		"  stage    one              reused from b-0":               {What: record.Reused{At: one, From: "b-0"}},
		"    one | text":                                            {What: record.Output{At: one, Text: "text"}},
		"    one > scripts/a.sh":                                    {What: record.StepBegan{At: record.At{Stage: "one", Step: "scripts/a.sh"}}},
		"  stage    one              ran in 1.0 s, 1.0 MiB changed": {What: record.StageDone{At: one, Took: time.Second, Bytes: 1 << 20}},
		"  capture  raw              2.0 MiB in 1.0 s": {What: record.Captured{
			File: catalog.Artifact{Format: "raw", Bytes: 2 << 20}, Took: time.Second}},
		"  stopped  interrupted":                              {What: record.Broke{Text: "interrupted"}},
		"  failed   stage one: a.sh:7: exit code 3":           broke(&record.Failure{Stage: "one", Step: "a.sh", Line: 7, Code: 3}),
		"  failed   stage one: a.sh: ended by signal SIGKILL": broke(&record.Failure{Stage: "one", Step: "a.sh", Signal: "SIGKILL"}),
		"  failed   stage one: a.sh: cannot start":            broke(&record.Failure{Stage: "one", Step: "a.sh", Reason: "cannot start"}),
		"  seal     nothing to remove":                        {What: record.Sealed{Results: []seal.Result{{Group: "logs"}}}},
		"":                                                    {What: record.StepDone{}},
	} {
		require.Equal(t, want, in.eventLine(e, ""))
	}
	many := make([]string, 50)
	for i := range many {
		many[i] = fmt.Sprintf("var/log/%02d", i)
	}
	lines := sealLines([]seal.Result{{Group: "logs", Paths: many, Bytes: 3 << 20}, {Group: "leases", Kept: true}})
	require.Contains(t, lines[0], "logs             50 paths, 3.0 MiB: var/log/00, ")
	require.True(t, strings.HasSuffix(lines[0], ", …"))
	require.Less(t, len(lines[0]), 130)
	require.Contains(t, lines[1], "left as it is")
}

func TestFailureReportSaysAllThatIsKnown(t *testing.T) {
	var errs bytes.Buffer
	in := &invocation{out: &bytes.Buffer{}, err: &errs, color: "never"}
	in.reportFailure(&record.Failure{Build: "b-1", Image: "link", Kept: true, Stage: "one", Step: "inline script", Line: 4, Code: 2,
		Tail: []string{"first", "last"}})
	require.Equal(t, "\nBuild failed: exit code 2\n  image  link\n  stage  one\n  step   inline script, line 4\n  its last lines:\n    | "+
		"first\n    | last\n"+
		"Nothing was registered; finished stages are kept.\n  next: zygos log b-1 --stage one   shows all of its output\n        zygos enter "+
		"b-1   a shell where it failed\n", errs.String())
}

func TestFlagsStandAnywhere(t *testing.T) {
	for _, args := range [][]string{
		{"locate", "a@b", "--region", "north", "--json"}, {"locate", "--region=north", "--json", "a@b"},
		{"--json", "locate", "--region", "north", "a@b"},
		{"--color", "never", "locate", "a@b", "--json", "--region", "north"}, {"locate", "--json", "--region", "north", "--", "a@b"},
	} {
		in := &invocation{out: &bytes.Buffer{}, err: &bytes.Buffer{}}
		var got *invocation
		old := cmdLocate.run
		cmdLocate.run = capture(&got)
		err := in.dispatch(t.Context(), args)
		cmdLocate.run = old
		require.NoError(t, err, args)
		require.Equal(t, []string{"a@b"}, got.args)
		require.True(t, got.json)
		require.Equal(t, "north", got.flags.(*locateFlags).region)
	}
}

func capture(to **invocation) func(context.Context, *invocation) error {
	return func(_ context.Context, in *invocation) error { *to = in; return nil }
}

// What is drawn at the foot of a terminal and what changes it do not wait for each other.
func TestProgressNeverStandsStill(t *testing.T) {
	t.Parallel()
	in := &invocation{out: screen{io.Discard}, err: screen{io.Discard}}
	l := &live{in: in, feet: map[string]*foot{}, progress: mpb.New(mpb.WithOutput(io.Discard), mpb.WithRefreshRate(time.Microsecond),
		mpb.WithAutoRefresh())}
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := range 2000 {
			l.show("a", fmt.Sprint("step ", i), int64(i), 100)
			l.show(fmt.Sprint("b", i%7), "x", 0, 0)
			l.line("a line")
			l.idle(fmt.Sprint("b", i%7))
		}
		l.end()
	}()
	select {
	case <-done:
	case <-time.After(2 * time.Minute):
		t.Fatal("it stands still")
	}
}
