package cli_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
)

// waitFor looks for something until it is there.
func waitFor(t *testing.T, what string, there func() bool) {
	for range 2400 {
		if there() {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatal("waited in vain for " + what)
}

// slow is a stage that hangs in a script, with processes that this person's others do not have.
func (p *person) slow() string {
	if p.marker == "" {
		p.marker = fmt.Sprint(100_000_000 + rand.IntN(100_000_000))
	}
	return strings.ReplaceAll("[[stage]]\nname = \"slow\"\ninline = \"\"\"\n"+
		"trap '' INT TERM\n(setsid sleep MARKER &)\necho sleeping\nsleep MARKER\n\"\"\"\n",
		"MARKER", p.marker)
}

// startSlow starts a build that hangs in a script, in a process group of its own, and waits until it does.
func (p *person) startSlow() *exec.Cmd {
	cmd := p.command("build", "first")
	cmd.SysProcAttr.Setpgid = true
	require.NoError(p.t, cmd.Start())
	waitFor(p.t, "the script", func() bool {
		for _, log := range p.glob(".zygos/builds/*/log.jsonl") {
			text, err := os.ReadFile(log)
			if err == nil && strings.Contains(string(text), `"kind":"step"`) && len(p.sleepers()) >= 2 {
				return true
			}
		}
		return false
	})
	return cmd
}

// sleepers are the processes of the slow stage.
func (p *person) sleepers() []string {
	out, err := exec.Command("pgrep", "-f", "sleep "+p.marker).Output()
	var none *exec.ExitError
	if !errors.As(err, &none) || none.ExitCode() != 1 {
		require.NoError(p.t, err)
	}
	return strings.Fields(string(out))
}

func TestInterruptLeavesNothing(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.image("[[stage]]\nname = \"quick\"\ninline = \"true > /quick\"\n" + p.slow())
		cmd := p.startSlow()
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		_ = cmd.Wait()
		require.Equal(t, 130, cmd.ProcessState.ExitCode())
		require.Empty(t, p.sleepers())
		require.Empty(t, p.glob(".zygos/run/*"))
		require.Contains(t, p.ok("builds"), "cancelled")
		p.image("[[stage]]\nname = \"quick\"\ninline = \"true > /quick\"\n")
		require.Contains(t, p.run("build", "first").err, "quick            reused")
	})
}

// Whatever a command waits for or writes, an interrupt ends it.
func TestInterruptEndsEveryWait(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	interrupt := func(cmd *exec.Cmd) {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			_ = cmd.Process.Kill()
			t.Fatal("it went on: ", cmd.Args)
		}
		require.Equal(t, 130, cmd.ProcessState.ExitCode(), cmd.Args)
	}
	for lock, args := range map[string][]string{"locks/.use": {"list"}, "locks/.run": {"build", "first", "--force"},
		"regions.lock": {"publish", "first"}, "store/lock": {"build", "first", "--force"}} {
		name := filepath.Join(p.dir, ".zygos", lock)
		held, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o644)
		require.NoError(t, err)
		require.NoError(t, syscall.Flock(int(held.Fd()), syscall.LOCK_EX))
		cmd := p.command(args...)
		require.NoError(t, cmd.Start())
		waitFor(t, "the command to want the lock", func() bool {
			links, _ := filepath.Glob("/proc/" + strconv.Itoa(cmd.Process.Pid) + "/fd/*")
			return slices.ContainsFunc(links, func(link string) bool { at, _ := os.Readlink(link); return at == name })
		})
		interrupt(cmd)
		require.NoError(t, held.Close())
	}
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "format = \"raw\"", "format = \"raw\"\nsize = \"2TiB\"", 1))
	require.Contains(t, p.ok("lint"), "a raw disk of 2048 GiB is hashed from end to end")
	cmd := p.command("build", "first")
	require.NoError(t, cmd.Start())
	waitFor(t, "the disk to be written", func() bool {
		list := p.glob(".zygos/run/b-*/blob-*")
		return slices.ContainsFunc(list, func(name string) bool { info, err := os.Stat(name); return err == nil && info.Size() > 1<<20 })
	})
	interrupt(cmd)
	require.Empty(t, p.glob(".zygos/run/*"))
}

func TestKilledBuildIsSweptByTheNext(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.image(p.slow())
		cmd := p.startSlow()
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
		waitFor(t, "the processes to end", func() bool { return len(p.sleepers()) == 0 })
		waitFor(t, "the build to end", func() bool { return !strings.Contains(p.ok("builds"), "running") })
		p.image("[[stage]]\nname = \"quick\"\ninline = \"true\"\n")
		p.ok("build", "first")
		require.Empty(t, p.glob(".zygos/run/*"))
		mounts, err := os.ReadFile("/proc/self/mounts")
		require.NoError(t, err)
		require.NotContains(t, string(mounts), p.dir)
	})
}

func TestFullDiskDamagesNothing(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		needtest.Skip(t, "only root can mount a small file system to fill")
	}
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"big\"\ninline = \"head -c 6000000 /dev/urandom > /big\"\n")
	small := filepath.Join(p.dir, "small")
	require.NoError(t, os.Mkdir(small, 0o755))
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", 0, "size=11m"))
	defer func() { require.NoError(t, syscall.Unmount(small, 0)) }()
	r := p.run("build", "first", "--state", "small/state")
	require.Equal(t, 1, r.code, r.err)
	require.Contains(t, r.err, "more are needed. Make room and run the command again: finished stages are kept")
	require.Equal(t, "[]\n", p.ok("list", "--json", "--state", "small/state"))
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT, "size=40m"))
	r = p.run("build", "first", "--state", "small/state")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.err, "big              reused", "the finished stage was kept")
	for _, format := range []string{"qcow2", "vmdk", "vhd", "vhdx", "ova", "oci"} {
		p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "format = \"tar\"", "format = \""+format+"\"", 1))
		var at syscall.Statfs_t
		require.NoError(t, syscall.Statfs(small, &at))
		size := func(more uint64) {
			require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT,
				fmt.Sprint("size=", (at.Blocks-at.Bfree)*uint64(at.Bsize)+more)))
		}
		size(3 << 20)
		r := p.run("build", "first", "--state", "small/state")
		require.Equal(t, 1, r.code, r.err)
		require.Regexp(t, "capture "+format+": .*Make room and run the command again", r.err)
		require.Empty(t, p.glob("small/state/run/*"))
		require.Empty(t, p.glob("small/state/store/blob-*"))
		size(40 << 20)
		require.Zero(t, p.run("build", "first", "--state", "small/state").code)
		p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "format = \""+format+"\"", "format = \"tar\"", 1))
	}
}

// A build that is killed while it writes a disk leaves nothing that the next one does not take away.
func TestKilledWhileADiskIsWritten(t *testing.T) {
	t.Parallel()
	for _, format := range []string{"qcow2", "ova", "oci"} {
		t.Run(format, func(t *testing.T) {
			p := me(t)
			p.starter()
			p.image("[[stage]]\nname = \"big\"\ninline = \"head -c 90000000 /dev/urandom > /big\"\n[[artifact]]\nformat = \"" + format + "\"\n")
			cmd := p.command("build", "first")
			require.NoError(t, cmd.Start())
			require.Eventually(t, func() bool {
				for _, name := range p.glob(".zygos/run/*/blob-*") {
					if info, err := os.Stat(name); err == nil && info.Size() > 8<<20 {
						return true
					}
				}
				return false
			}, time.Minute, time.Millisecond)
			require.NoError(t, cmd.Process.Kill())
			require.Error(t, cmd.Wait())
			require.Empty(t, p.versions(), "it was killed before it was done")
			require.NotEmpty(t, p.glob(".zygos/run/*/blob-*"))
			require.Contains(t, p.ok("build", "first", "--quiet"), "first@0.1.")
			require.Empty(t, p.glob(".zygos/run/*"))
			require.Len(t, p.versions(), 1)
			p.whole()
			p.consistent()
		})
	}
}

func TestWithoutSubordinateIDs(t *testing.T) {
	t.Parallel()
	p := me(t)
	if os.Getuid() == 0 {
		p = someone(t)
	}
	p.env = []string{"PATH=/nowhere"}
	p.starter()
	r := p.run("build", "first")
	require.Zero(t, r.code, r.err)
	require.Contains(t, r.err, "note: newuidmap is not installed (package uidmap), so only the user root exists")
	require.Contains(t, p.ok("doctor"), "limited")
	p.image("[[stage]]\nname = \"s\"\ninline = \"id\"\nuser = \"nobody\"\n")
	require.Equal(t, 4, p.run("build", "first").code)
}

func TestProgramThatOthersMayNotRun(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	private := filepath.Join(p.dir, "private")
	require.NoError(t, errorsOf(exec.Command("install", "-m", "0700", program, private)))
	cmd := p.command("build", "first")
	cmd.Path = private
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

func TestAnotherUsersStateIsRefused(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		needtest.Skip(t, "needs root and an ordinary user")
	}
	p := someone(t)
	p.starter()
	p.ok("build", "first")
	p.cred = nil
	p.fails(1, "belongs to another user", "build", "first", "--force")
}

func TestWrongUse(t *testing.T) {
	t.Parallel()
	p := me(t)
	for says, args := range map[string][]string{
		`unknown command "biuld"; did you mean 'zygos build'?`:   {"biuld"},
		"unknown flag -force; 'zygos help list' lists the flags": {"list", "--force"},
		"takes IMAGE… and got 0 arguments":                       {"build"},
		"--color is \"blue\"":                                    {"version", "--color", "blue"},
		"choose bash, zsh or fish":                               {"completion", "tcsh"},
		"no document \"x\"; there are manifest, region":          {"schema", "x"},
	} {
		p.fails(2, says, args...)
	}
	p.fails(1, "no zygos.toml in", "lint")
	p.starter()
	p.fails(1, `no image "frist"`, "build", "frist")
	p.fails(1, `did you mean "first"?`, "preview", "frist")
	p.fails(1, "first has no version yet; build it first: zygos build first", "show", "first")
	p.fails(2, "name the region: zygos locate first --region NAME; regions are here", "locate", "first")
	p.fails(2, "is no reference", "show", "first@@")
	p.fails(1, "no build and no image with builds", "log", "b-1")
	p.fails(1, "no build and no image with builds", "log", "../../etc")
}

func TestProblemsInDefinitionsComeAllAtOnce(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("images/first.toml", "series = \"0.1\"\nbase = \"field-so\"\nsumary = \"x\"\n[[artifact]]\nformat = \"qcow3\"\n")
	r := p.run("lint")
	require.Equal(t, 3, r.code)
	for _, want := range []string{`images/first.toml:2:8: base "field-so"`, `images/first.toml:3:1: unknown key "sumary"`,
		`images/first.toml:5:10: unknown format "qcow3"`, "3 problems"} {
		require.Contains(t, r.err, want)
	}
	var doc struct {
		Error struct {
			Code     int
			Problems []struct{ Line int }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.run("build", "first", "--json").out), &doc))
	require.Equal(t, 3, doc.Error.Code)
	require.Len(t, doc.Error.Problems, 3)
	require.Equal(t, 1, strings.Count(p.run("build", "first", "--json").out, "\n"), "one line, as all that build writes")
	p.ok("list") // what was built stays findable
}

func TestChangedBaseStopsTheBuild(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	base := p.glob("bases/*")[0]
	require.NoError(t, os.WriteFile(base, []byte("somebody changed it"), 0o644))
	p.fails(1, "is not the archive that zygos.toml pins", "build", "first")
	p.fails(1, "found    sha256", "bases", "--fetch")
	require.NoError(t, os.Remove(base))
	p.fails(1, "could not be had from any of its places", "build", "first")
	require.Contains(t, p.ok("bases"), "missing")
	require.Empty(t, p.glob(".zygos/run/*"))
}

func TestBuildEventsAreJSONLines(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		kinds := map[string]bool{}
		for _, line := range strings.Split(strings.TrimSpace(p.ok("build", "first", "--json")), "\n") {
			var e struct{ Kind string }
			require.NoError(t, json.Unmarshal([]byte(line), &e), line)
			kinds[e.Kind] = true
		}
		for _, kind := range []string{"started", "base", "stage", "step", "output", "stage-done", "sealed", "captured", "registered"} {
			require.True(t, kinds[kind], kind)
		}
	})
}

func TestHelpCoversEveryCommand(t *testing.T) {
	t.Parallel()
	p := me(t)
	var list []struct{ Name string }
	require.NoError(t, json.Unmarshal([]byte(p.ok("help", "--json")), &list))
	require.Len(t, list, 42)
	for _, c := range list {
		text := p.ok("help", c.Name)
		require.Contains(t, text, "examples\n  zygos "+c.Name)
		require.Equal(t, text, p.ok(c.Name, "--help"))
		require.Contains(t, p.ok("help"), "  "+c.Name+" ")
	}
	reference, err := os.ReadFile("../../docs/reference/commands.md")
	require.NoError(t, err)
	require.Equal(t, string(reference), p.ok("help", "--", "--markdown"), "run 'make reference'")
}

func TestCompletionScriptsAreSound(t *testing.T) {
	t.Parallel()
	p := me(t)
	script := filepath.Join(t.TempDir(), "c.bash")
	require.NoError(t, os.WriteFile(script, []byte(p.ok("completion", "bash")), 0o600))
	out, err := exec.Command("bash", "-c", ". "+script+"; COMP_WORDS=(zygos pub); COMP_CWORD=1; _zygos; echo ${COMPREPLY[@]}; "+
		"COMP_WORDS=(zygos locate --re); COMP_CWORD=2; _zygos; echo ${COMPREPLY[@]}").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, "publish\n--region\n", string(out))
	require.Contains(t, p.ok("completion", "fish"), "complete -c zygos")
	require.Contains(t, p.ok("completion", "zsh"), "#compdef zygos")
}

// One image that is wrong does not stop the others.
func TestWrongDefinitionStopsOnlyItsImage(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.define("second", "field-os", "[[stage]]\nname = \"s\"\ninline = \"true\"\n")
		p.define("third", "nowhere", "[[stage]]\nname = \"s\"\ninline = \"true\"\n")
		r := p.run("build", "first", "second", "third")
		require.Equal(t, 3, r.code, r.err)
		require.Contains(t, r.err, `images/third.toml:2:8: base "nowhere" is neither in zygos.toml nor an image`)
		require.Contains(t, r.err, "zygos: 1 problem in the definition of third, which was not built")
		require.Contains(t, r.err, "2 of 3 images built or up to date; not third")
		require.Len(t, p.versions(), 2)
		p.fails(3, "nothing was done", "build", "third")
		p.fails(1, `no image "nosuch"`, "build", "--due", "nosuch")
		p.write("zygos.toml", p.read("zygos.toml")+"x = 1\n")
		p.fails(3, "in the definitions; nothing was done", "build", "first")
	})
}

func TestScriptThatCannotBeRead(t *testing.T) {
	t.Parallel()
	p := someone(t)
	p.starter()
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "scripts/first.sh"), 0))
	p.fails(3, `"scripts/first.sh" cannot be read: permission denied; make the file readable for whoever builds`, "lint")
}

// Looking works where nothing can be written, and what would write says so at once.
func TestStateThatCanOnlyBeRead(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		needtest.Skip(t, "only root can mount a folder that nobody can write to")
	}
	p := me(t)
	p.starter()
	p.ok("build", "first")
	p.ok("publish", "first")
	require.NoError(t, errorsOf(exec.Command("mount", "--bind", p.dir, p.dir)))
	defer func() { require.NoError(t, errorsOf(exec.Command("umount", p.dir))) }()
	require.NoError(t, errorsOf(exec.Command("mount", "-o", "remount,bind,ro", p.dir)))
	for _, args := range [][]string{{"list"}, {"show", "first"}, {"lineage", "first"}, {"due"}, {"preview"}, {"builds"}, {"log", "first"},
		{"regions"}, {"prune"},
		{"manifest", "first"}, {"locate", "first", "--region", "here", "--format", "tar"}, {"diff", "first", "first"}, {"tag", "first"},
		{"export"}, {"lint"}, {"bases"}} {
		p.ok(args...)
	}
	for _, args := range [][]string{{"build", "first"}, {"build", "first", "--force"}, {"publish", "first"}, {"prune", "--yes"}, {"sweep"},
		{"enter", "first"}, {"tag", "first", "stable"},
		{"recall", "first", "--why", "x", "--yes"}, {"import", "catalog.jsonl"}} {
		p.fails(1, "this state can only be read", args...)
	}
}

// A catalog that is lost comes back from what else tells of versions.
func TestLostCatalogComesBack(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.family()
		p.ok("recall", "newest", "--why", "a hole", "--yes")
		before := p.ok("list", "--json")
		backup := p.ok("export")
		for what, content := range map[string]string{"it is empty": "", "it is no database": "no database at all, whatever it was",
			"the file is damaged": "SQLite format 3\x00" + strings.Repeat("x", 5000)} {
			for _, name := range p.glob(".zygos/catalog.db*") {
				require.NoError(t, os.Remove(name))
			}
			p.write(".zygos/catalog.db", content)
			p.fails(1, what, "list")
			p.fails(1, "'zygos import "+p.dir+"/.zygos/builds' makes it anew", "build", "newest")
		}
		p.ok("import", ".zygos/builds")
		after := p.ok("list")
		require.Regexp(t, `parent +0\.1\.0 +- `, after, "a tag that no region tells of is lost")
		require.Regexp(t, `newest +0\.1\.0 .* here +- +recalled`, after)
		require.Regexp(t, `tagged +0\.1\.0 `, after)
		p.ok("tag", "parent@0.1.0", "stable")
		p.ok("build", "parent", "--force")
		require.Contains(t, p.ok("list", "parent"), "0.1.1", "numbers go on")
		require.NoError(t, os.Remove(filepath.Join(p.dir, ".zygos/catalog.db")))
		p.fails(1, "it is not there", "list")
		p.write("backup.jsonl", backup)
		p.ok("import", "backup.jsonl")
		require.Equal(t, before, p.ok("list", "--json"), "a backup has all")
	})
}

// With --json every command, and every error, writes JSON and nothing else.
func TestEverythingIsJSONThatShouldBe(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.define("second", "first", "[[stage]]\nname = \"s\"\ninline = \"true\"\n")
	isJSON := func(args ...string) {
		t.Helper()
		r := p.run(args...)
		for in := json.NewDecoder(strings.NewReader(r.out)); in.More(); {
			var v any
			require.NoError(t, in.Decode(&v), "%v: %s", args, r.out)
		}
		require.NotEmpty(t, r.out, "%v %s", args, r.err)
		require.Empty(t, r.err, "%v", args)
	}
	for _, args := range [][]string{{"build", "first", "second"}, {"build", "--due"}, {"due"}, {"list"}, {"show", "first"},
		{"lineage", "first"}, {"tag", "first@0.1.0", "stable"}, {"tag", "first"},
		{"publish", "first"}, {"manifest", "first"}, {"locate", "first", "--region", "here", "--format", "tar"}, {"regions"},
		{"diff", "first", "second"}, {"prune"}, {"sweep"}, {"builds"},
		{"log", "first"}, {"log", "first", "--steps"}, {"bases"}, {"scripts"}, {"lint"}, {"preview"},
		{"preview", "first", "--against", "first"}, {"schema"}, {"schema", "manifest"}, {"help"}, {"help", "build"},
		{"version"}, {"completion", "bash"}, {"doctor"}, {"recall", "second", "--why", "x", "--yes"}, {"reinstate", "second"}, {"export"},
		{"nosuch"}, {"build", "nosuch"}, {"build"}, {"list", "--nosuch"}, {"show", "first@9.9.9"}, {"build", "--due", "nosuch"},
		{"cancel", "first"}, {"enter", "nosuch"}, {"recall", "first"},
		{"import", "nosuch"}, {"new", "images"}, {"locate", "first", "--region", "nosuch"}, {"tag", "first@1.2.3", "x"}, {"publish", "nosuch"},
		{"help", "nosuch"}} {
		isJSON(append(args, "--json")...)
		isJSON(append([]string{args[0], "--json"}, args[1:]...)...)
	}
	p.write("zygos.toml", "x = 1")
	isJSON("lint", "--json")
}
