package machine

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhichLimitWasMet(t *testing.T) {
	for _, c := range []struct {
		memory, pids, want string
		killed             bool
	}{
		{"low 0\noom 3\noom_kill 2\n", "max 0\n", "it met its memory limit of 64 MiB and was stopped; raise memory in [limits]", true},
		{"oom_kill 0\n", "max 7\n", "it met its limit of 20 processes; raise processes in [limits]", false},
		{"oom_kill 0\n", "max 0\n", "", false},
		{"", "", "", false},
	} {
		g := &group{dir: t.TempDir(), limits: Limits{Memory: 64 << 20, Processes: 20}}
		require.NoError(t, os.WriteFile(filepath.Join(g.dir, "memory.events"), []byte(c.memory), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(g.dir, "pids.events"), []byte(c.pids), 0o600))
		e := &StepError{Name: "x", Code: 1}
		g.explain(e)
		require.Equal(t, c.want, e.Reason)
		require.Equal(t, c.killed, g.killed())
	}
	var none *group
	none.explain(&StepError{})
	none.remove()
	require.False(t, none.killed())
}

func TestControllersThatAreNotGivenAreNamed(t *testing.T) {
	place := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(place, "cgroup.subtree_control"), []byte("cpu memory\n"), 0o400))
	require.NoError(t, control(place, "memory"))
	_, err := groupIn(filepath.Join(place, "nowhere"), map[string]string{"pids.max": "5"})
	require.ErrorIs(t, err, os.ErrNotExist)
	require.True(t, removeGroup(filepath.Join(place, "gone")), "what is not there is gone")
}

func TestHeadAndTailOfALongStream(t *testing.T) {
	for _, size := range []int{10, headBytes - 5, headBytes + 10, headBytes + 3*tailBytes, headBytes + 9*tailBytes} {
		var text strings.Builder
		for i := 0; text.Len() < size; i++ {
			fmt.Fprintf(&text, "line %d of many, each with some words more\n", i)
		}
		whole := text.String()
		for _, end := range []string{"END\n", "cut off hereEND\nwhat a process in the background says later\n"} {
			var got []string
			var lines, bytes int64
			l := lineSplitter{end: "END", emit: func(_, text string) { got = append(got, text) }, cut: func(_ string, n, b int64) {
				lines, bytes = n, b
				got = append(got, "CUT")
			}}
			l.copy("out", strings.NewReader(whole+end))
			last := got[len(got)-1]
			if strings.HasPrefix(end, "cut") {
				require.Equal(t, "cut off here", last)
				got = got[:len(got)-1]
			}
			shown := 0
			for _, text := range got {
				if text != "CUT" {
					shown++
				}
			}
			require.Equal(t, strings.Count(whole, "\n"), shown+int(lines), "every line is shown or counted")
			if size < headBytes {
				require.Zero(t, bytes)
			} else if size > headBytes+3*tailBytes {
				require.Positive(t, bytes)
			}
		}
	}
}

// A stream of very many short lines is cut as a long one is: each line is an event of its own.
func TestManyEmptyLines(t *testing.T) {
	var shown, cut int64
	l := lineSplitter{end: "END", emit: func(_, text string) { shown++ }, cut: func(_ string, n, _ int64) { cut += n }}
	const all = 1_000_000
	l.copy("out", strings.NewReader(strings.Repeat("\n", all)+"END\n"))
	require.LessOrEqual(t, shown, int64(headLines+tailLines+1))
	require.InDelta(t, all, shown+cut, 2)
}
