package cli_test

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestParallelBuilds(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		same := "[[stage]]\nname = \"same\"\ninline = \"sleep 2; head -c 9 /dev/urandom > /same\"\n"
		p.define("a", "field-os", same)
		p.define("b", "field-os", same+"[[stage]]\nname = \"b\"\ninline = \"exit 5\"\n")
		p.define("c", "a", "[[stage]]\nname = \"c\"\ninline = \"cp /same /c\"\n")
		p.define("d", "b", "[[stage]]\nname = \"d\"\ninline = \"true\"\n")
		r := p.run("build", "d", "c", "b", "a", "--jobs", "4")
		require.Equal(t, 4, r.code, r.err)
		require.Equal(t, 1, strings.Count(r.err, "same             ran in"), r.err)
		require.Contains(t, r.err, "which runs the same stage")
		require.Contains(t, r.out, "Registered a@0.1.0")
		require.Contains(t, r.out, "Registered c@0.1.0")
		require.Contains(t, r.err, "Build failed: exit code 5\n  image  b")
		require.Contains(t, r.err, "d was not built: its parent b failed")
		require.Contains(t, r.err, "2 of 4 images built or up to date; not d, b")
		require.Equal(t, p.ask("cat /same", "a"), p.ask("cat /c", "c"))
		p.ok("tag", "a", "stable")
		p.define("c", "a@stable", "[[stage]]\nname = \"c\"\ninline = \"cp /same /c2\"\n")
		p.define("a", "field-os", same+"[[stage]]\nname = \"more\"\ninline = \"touch /more\"\n")
		r = p.run("build", "a", "c")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.err, "note: c starts from a@stable, which is 0.1.0; 0.1.1 was built now. To build on it: zygos tag a@0.1.1 "+
			"stable, then zygos build c")
	})
}

func TestFollowAndCancelFromElsewhere(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.image("[[stage]]\nname = \"quick\"\ninline = \"true > /quick\"\n" + p.slow())
		cmd := p.startSlow()
		follow := p.command("log", "first", "--follow")
		var seen strings.Builder
		follow.Stdout = &seen
		require.NoError(t, follow.Start())
		require.Contains(t, p.ok("builds"), "running")
		require.Contains(t, p.ok("cancel", "first"), "nothing was registered, finished stages are kept")
		_ = cmd.Wait()
		require.Equal(t, 130, cmd.ProcessState.ExitCode())
		require.NoError(t, follow.Wait())
		require.Contains(t, seen.String(), "was cancelled by ")
		require.Empty(t, p.sleepers())
		require.Empty(t, p.glob(".zygos/run/*"))
		require.Contains(t, p.ok("builds"), "cancelled")
		p.fails(1, "does not run: it is cancelled", "cancel", "first")
		require.Contains(t, p.ok("preview", "first"), "quick            reused")
	})
}

func TestEnterWhereItFailed(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.define("first", "field-os", "[[stage]]\nname = \"one\"\ninline = \"echo 1 > /one\"\n[[stage]]\nname = \"two\"\ninline = \"echo "+
			"half > /half; rm /one; exit 9\"\ndir = \"/var\"\nenv = { A = \"b\" }\n")
		r := p.run("build", "first")
		require.Equal(t, 4, r.code)
		id := strings.Fields(r.err[strings.Index(r.err, "zygos enter "):])[2]
		require.Equal(t, "half\n/var\nb\ngone\n", p.ask("cat /half; pwd; echo $A; [ -e /one ] || echo gone; echo x > /half", id))
		require.Equal(t, "half\n", p.ask("cat /half", id), "changes are thrown away")
		require.Equal(t, "1\n", p.ask("cat /one", id, "--stage", "one"))
		cmd := p.command("enter", id)
		cmd.Stdin = strings.NewReader("exec /run/zygos/steps/01\n")
		_ = cmd.Run()
		require.Equal(t, 9, cmd.ProcessState.ExitCode(), "its script is there to try again")
		p.fails(1, `finished no stage "three"; it finished one`, "enter", id, "--stage", "three")
		p.define("first", "field-os", "[[stage]]\nname = \"one\"\ninline = \"echo 1 > /one\"\n")
		p.ok("build", "first")
		p.fails(1, "no state is kept", "enter", id)
		require.Equal(t, "1\n", p.ask("cat /one", "first@0.1.0", "--stage", "one"))
		p.fails(1, `has no stage "x"; its stages are one`, "enter", "first", "--stage", "x")
		require.Empty(t, p.glob(".zygos/run/*"))
		require.Empty(t, p.glob(".zygos/failed/*"))
	})
}

func TestSweepRemovesWhatADeadRunLeft(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.image(p.slow())
		cmd := p.startSlow()
		require.Contains(t, p.ok("sweep"), "Nothing to remove", "what is in use stays")
		require.NotEmpty(t, p.glob(".zygos/run/b-*"))
		require.NoError(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
		_ = cmd.Wait()
		waitFor(t, "the processes to end", func() bool { return len(p.sleepers()) == 0 })
		require.Contains(t, p.ok("builds"), "interrupted")
		for _, name := range []string{".zygos/store/blob-1", ".zygos/layers/keys/new-1", ".zygos/.new-1", "regions/here/first/0.1.0/.part-x",
			".zygos/store/blobs/sha256/" + strings.Repeat("0", 64)} {
			p.write(name, "half")
		}
		out := p.ok("sweep")
		require.Contains(t, out, "unfinished run")
		require.Contains(t, out, "half-written file in a region")
		require.Contains(t, out, "artifact that no version has")
		require.Equal(t, 5+1, strings.Count(out, "\n")-1, out)
		require.Empty(t, p.glob(".zygos/run/*"))
		require.Contains(t, p.ok("sweep"), "Nothing to remove")
	})
}

func TestLongOutputIsKeptWithABound(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"loud\"\ninline = \"\"\"\nyes 'installing one more thing, as installers do' | head -c " +
		"30000000\necho\necho the last line\nexit 7\n\"\"\"\n")
	r := p.run("build", "first")
	require.Equal(t, 4, r.code)
	require.Regexp(t, `\[\d+ lines, 24\.\d MiB of its output are not kept\]`, r.err)
	require.Contains(t, r.err, "loud | the last line")
	logs := p.glob(".zygos/builds/*/log.jsonl")
	info, err := os.Stat(logs[0])
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(30<<20))
	require.Contains(t, p.ok("log", "first", "--steps"), "exit code 7")
}

func TestBudgetThrowsAwayWhatNothingNeeds(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		stage := func(n int) string {
			return fmt.Sprintf("[[stage]]\nname = \"big\"\ninline = \"head -c 3000000 /dev/urandom > /big; echo %d\"\n", n)
		}
		p.image(stage(1))
		p.ok("build", "first")
		for i := range 3 { // stages of builds that fail later are what nothing needs
			p.image(stage(i+2) + "[[stage]]\nname = \"bad\"\ninline = \"exit 1\"\n")
			require.Equal(t, 4, p.run("build", "first").code)
		}
		layers := len(p.glob(".zygos/layers/*/index.jsonl"))
		p.write("zygos.toml", p.read("zygos.toml")+"\n[state]\nbudget = \"1MiB\"\n")
		require.Contains(t, p.ok("doctor"), "budget 1.0 MiB")
		p.image(stage(9))
		p.ok("build", "first")
		require.Less(t, len(p.glob(".zygos/layers/*/index.jsonl")), layers)
		require.Equal(t, "3000000\n", p.ask("wc -c < /big", "first@0.1.0"), "what versions need stays")
		p.image(stage(1))
		p.ok("build", "first")
		p.whole()
	})
}
