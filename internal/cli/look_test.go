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
	"zygos/internal/words"
)

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
	require.NoError(t, in.columns([]string{"NAME", "WHY"}, [][]string{{evil, in.paint(words.Red, "x")}}))
	in.pairs([][2]string{{"why", evil}})
	require.NoError(t, in.show(&words.Page{Parts: []words.Part{{Note: evil}, {Line: evil}}}))
	require.Equal(t, 2, strings.Count(out.String(), safe), out.String())
	require.Contains(t, out.String(), "\x1b[31mx\x1b[m", "our own colours stay")
	out.Reset()
	require.NoError(t, in.writeJSON(map[string]string{"why": evil}))
	require.NotContains(t, out.String(), "\u202e")
	require.Contains(t, out.String(), `\u202e`)
	out.Reset()
	in.report(errors.New(evil))
	require.NotContains(t, out.String(), "\x1b[2J")
}

func TestColourFollowsTheFlagAndTheEnvironment(t *testing.T) {
	var out bytes.Buffer
	in := &invocation{out: &out, err: &out, color: "auto"}
	require.Equal(t, "text", in.paint(words.Red, "text"), "no terminal, no colour")
	in.color = "always"
	require.NotEqual(t, "text", in.paint(words.Red, "text"))
	in.color = "never"
	require.Equal(t, "text", in.paint(words.Red, "text"))
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
