package machine_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"zygos/demo"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/machine/machinetest"
	"zygos/internal/needtest"
)

func TestMain(m *testing.M) {
	if os.Args[0] == attemptProgram {
		attemptMain()
	}
	machinetest.Main(m)
}

// bench is a place to run stages: the demo's base, unpacked, and one layer on top.
type bench struct {
	t       *testing.T
	ids     machine.IDs
	base    string
	lower   *layer.Tree
	upper   string
	changes *layer.Upper
	more    []string // layers above the base
	lines   []string
	failed  *machine.StepError
	took    time.Duration
}

func (b *bench) StepStarted(int) {}
func (b *bench) Line(step int, stream, text string) {
	b.lines = append(b.lines, fmt.Sprintf("%d %s %s", step, stream, text))
}
func (b *bench) Cut(step int, stream string, lines, bytes int64) {
	b.lines = append(b.lines, fmt.Sprintf("%d %s cut %d %d", step, stream, lines, bytes))
}
func (b *bench) Note(text string)                                                  { b.lines = append(b.lines, "note "+text) }
func (b *bench) StepEnded(step int, took time.Duration, failed *machine.StepError) { b.failed = failed }

func newBench(t *testing.T) *bench {
	ids, ok := machine.Inside()
	require.True(t, ok)
	b := &bench{t: t, ids: ids}
	file, err := demo.Files.Open("workspace/bases/field-os-1.2.0.tar.zst")
	require.NoError(t, err)
	defer file.Close()
	plain, err := zstd.NewReader(file)
	require.NoError(t, err)
	defer plain.Close()
	b.base = t.TempDir()
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(b.base)) })
	x, err := layer.Unpack(t.Context(), plain, layer.Folder{Dir: b.base, Owners: b.owners()}, layer.DefaultLimits)
	require.NoError(t, err)
	b.lower = layer.Merge(x)
	return b
}

func (b *bench) owners() layer.Owners { return layer.Owners{First: b.ids.First, Count: b.ids.Count} }

func (b *bench) run(ctx context.Context, stage machine.Stage) error {
	dir := b.t.TempDir()
	at := machine.Folders{Layers: append([]string{b.base}, b.more...), Upper: filepath.Join(dir, "upper"),
		Scratch: filepath.Join(dir, "scratch")}
	b.upper = at.Upper
	require.NoError(b.t, os.Mkdir(at.Upper, 0o755))
	require.NoError(b.t, os.Mkdir(at.Scratch, 0o755))
	b.t.Cleanup(func() { require.NoError(b.t, layer.RemoveAll(dir)) })
	b.changes = b.over(at.Upper)
	require.NoError(b.t, b.changes.Prepare(ctx))
	if stage.Name == "" {
		stage.Name = "stage"
	}
	b.lines = nil
	began := time.Now()
	defer func() { b.took = time.Since(began) }()
	return machine.Sandbox{IDs: b.ids}.RunIn(ctx, at, stage, b)
}

// over is an upper folder on the base.
func (b *bench) over(dir string) *layer.Upper {
	return &layer.Upper{Folder: layer.Folder{Dir: dir, Owners: b.owners()}, Lower: b.lower,
		Below: func(n *layer.Node) string { return filepath.Join(b.base, n.Path) }, Epoch: 1767225600}
}

func scripts(texts ...string) machine.Stage {
	var s machine.Stage
	for i, text := range texts {
		s.Steps = append(s.Steps, machine.Step{Name: fmt.Sprint("script", i), Script: &machine.Script{Content: []byte(text)}})
	}
	return s
}

func (b *bench) scan() layer.Index {
	x, err := b.changes.Scan(b.t.Context())
	require.NoError(b.t, err)
	return x
}

func paths(x layer.Index) string {
	var list []string
	for i := range x {
		list = append(list, string(x[i].Kind)+" "+x[i].Path)
	}
	return strings.Join(list, "\n")
}

func TestStageRunsInOrderAndItsChangesBecomeALayer(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts("echo one; echo two >&2; mkdir /srv; echo x > /srv/f; rm /etc/hostname",
		"cat /srv/f; id -u; hostname")))
	require.Contains(t, b.lines, "0 out one")
	require.Contains(t, b.lines, "0 err two")
	require.Contains(t, b.lines, "1 out x")
	require.Contains(t, b.lines, "1 out 0")
	require.Equal(t, "dir etc\nwhiteout etc/hostname\ndir srv\nfile srv/f", strings.TrimPrefix(paths(b.scan()), "dir .\n"))
}

func TestFailingScriptNamesItsCodeAndLine(t *testing.T) {
	b := newBench(t)
	err := b.run(t.Context(), scripts("true", "echo a\n\nno-such-command\necho b"))
	var failed *machine.StepError
	require.ErrorAs(t, err, &failed)
	require.Equal(t, 127, failed.Code)
	require.Equal(t, 3, failed.Line)
	require.Equal(t, 1, failed.Step)
}

func TestNothingOutlivesAStage(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts("sleep 1000 & (setsid sleep 1000 &) ; echo started")))
	require.Less(t, b.took, 5*time.Second)
}

func TestStepsSeeTheirEnvironmentUserAndFolder(t *testing.T) {
	b := newBench(t)
	if b.ids.Limited() {
		needtest.Skip(t, "this host gives no subordinate ids, so only root exists in the sandbox")
	}
	stage := scripts("id -u; id -g; pwd; echo $SITE; echo $HOME; umask; touch made")
	stage.Steps[0].Script.User, stage.Steps[0].Script.Dir, stage.Steps[0].Script.Env = "nobody", "/var/tmp", []string{"SITE=north"}
	require.NoError(t, b.run(t.Context(), stage))
	require.Equal(t, []string{"0 out 65534", "0 out 65534", "0 out /var/tmp", "0 out north", "0 out /nonexistent", "0 out 0022"}, b.lines)
	x := b.scan()
	made := layer.Merge(x).Lookup("var/tmp/made")
	require.Equal(t, uint32(65534), made.UID)
}

func TestFilesAreCopiedWithModeAndOwnerByName(t *testing.T) {
	b := newBench(t)
	from := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(from, []byte("content"), 0o600))
	owner := "root:nogroup"
	if b.ids.Limited() {
		owner = "root:root"
	}
	copyTo := func(to, owner string) error {
		return b.run(t.Context(), machine.Stage{Steps: []machine.Step{{Name: "copy",
			Copy: &machine.Copy{Items: []machine.Item{{From: from, To: to, Mode: 0o640}}, Owner: owner}}}})
	}
	require.NoError(t, copyTo("/opt/new/f", owner))
	got := layer.Merge(b.scan()).Lookup("opt/new/f")
	require.Equal(t, uint32(0o640), got.Mode)
	require.Equal(t, int64(7), got.Size)
	if !b.ids.Limited() {
		require.Equal(t, uint32(65534), got.GID)
	}
	require.ErrorContains(t, copyTo("/f", "root:wheel"), `group "wheel" is not in the image's /etc/group`)
	require.ErrorContains(t, copyTo("/etc", ""), "is a folder")
}

func TestCopyFollowsLinksInsideTheTreeOnly(t *testing.T) {
	b := newBench(t)
	from := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(from, []byte("x"), 0o600))
	victim := filepath.Join(t.TempDir(), "victim")
	stage := scripts("mkdir -p " + filepath.Dir(victim) + "; ln -s " + victim + " /etc/way")
	stage.Steps = append(stage.Steps, machine.Step{Name: "copy",
		Copy: &machine.Copy{Items: []machine.Item{{From: from, To: "/etc/way", Mode: 0o644}}}})
	_ = b.run(t.Context(), stage) // whether it works or not, the host's file is not made
	_, err := os.Stat(victim)
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestScriptThatCannotStartSaysWhy(t *testing.T) {
	b := newBench(t)
	require.ErrorContains(t, b.run(t.Context(), scripts("#!/usr/bin/perl -w\n")), "asks for /usr/bin/perl -w, which is not in the image")
	require.ErrorContains(t, b.run(t.Context(), scripts("#!/bin/sh\r\necho\r\n")), "its lines end with CR LF")
	stage := scripts("true")
	stage.Steps[0].Script.Dir = "/nowhere"
	require.ErrorContains(t, b.run(t.Context(), stage), "working directory /nowhere is not in the image")
	stage = scripts("true")
	stage.Steps[0].Script.User = "link"
	require.ErrorContains(t, b.run(t.Context(), stage), `user "link" is not in the image's /etc/passwd`)
	require.ErrorContains(t, b.run(t.Context(), scripts("kill -9 $$")), "ended by signal SIGKILL")
}

func TestTimeoutAndCancelStopEverything(t *testing.T) {
	b := newBench(t)
	stubborn := "trap '' TERM INT; (setsid sleep 1000 &); sleep 1000"
	stage := scripts("true", stubborn, "true")
	stage.Timeout = 300 * time.Millisecond
	require.ErrorContains(t, b.run(t.Context(), stage), "timeout of 300ms")
	require.Equal(t, 1, b.failed.Step)
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(300*time.Millisecond, cancel)
	require.ErrorIs(t, b.run(ctx, scripts(stubborn)), context.Canceled)
	require.Less(t, b.took, 2*time.Second)
}

func TestLongAndOddOutputComesThrough(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts(`printf 'no newline'`, `printf '10%%\r50%%\r100%%\n\033[31mred\033[0m\a\n'`,
		`head -c 100000 /dev/zero | tr '\0' x`, `i=0; while [ $i -lt 20000 ]; do echo $i; i=$((i+1)); done`)))
	require.Contains(t, b.lines, "0 out no newline")
	require.Contains(t, b.lines, "1 out 100%")
	require.Contains(t, b.lines, "1 out red")
	require.Contains(t, b.lines, "3 out 19999")
	total := 0
	for _, l := range b.lines {
		if text, ok := strings.CutPrefix(l, "2 out "); ok {
			total += len(text)
		}
	}
	require.Equal(t, 100000, total, "a long line comes in pieces")
}

// Where the tree says nothing of how names are resolved, it is as on the host for the time of the stage.
func TestNamesAreResolvedAsOnTheHost(t *testing.T) {
	host, err := os.ReadFile("/etc/resolv.conf")
	if err != nil {
		needtest.Skip(t, "this host has no /etc/resolv.conf")
	}
	b := newBench(t)
	online := func(texts ...string) machine.Stage {
		s := scripts(texts...)
		s.Network = true
		return s
	}
	require.NoError(t, b.run(t.Context(), online("cat /etc/resolv.conf")))
	for i, line := range strings.Split(strings.TrimRight(string(host), "\n"), "\n") {
		if i < len(b.lines) {
			require.Equal(t, strings.TrimSpace("0 out "+line), strings.TrimSpace(b.lines[i]))
		}
	}
	require.Empty(t, paths(b.scan()), "it is no part of the layer")
	for name, script := range map[string]string{"written": "echo nameserver 192.0.2.1 > /etc/resolv.conf",
		"replaced": "rm /etc/resolv.conf; ln -s ../run/x /etc/resolv.conf",
		"moved":    "echo mine > /etc/new; mv /etc/new /etc/resolv.conf", "a pipe": "rm /etc/resolv.conf; mkfifo /etc/resolv.conf"} {
		require.NoError(t, b.run(t.Context(), online(script)), name)
		require.Contains(t, paths(b.scan()), " etc/resolv.conf", name)
	}
	require.NoError(t, b.run(t.Context(), scripts("[ ! -s /etc/resolv.conf ]")), "without a network there is none")
}

func TestTreeThatCannotBeARootSaysWhy(t *testing.T) {
	b := newBench(t)
	require.NoError(t, os.Remove(filepath.Join(b.base, "tmp")))
	require.NoError(t, os.Symlink("var/tmp", filepath.Join(b.base, "tmp")))
	err := b.run(t.Context(), scripts("true"))
	require.EqualError(t, err, "/tmp of the tree is a symbolic link, and stages need a folder of its own there; make it one in the base")
}

func TestLowerLayersStayAsTheyWere(t *testing.T) {
	b := newBench(t)
	before, err := os.ReadFile(filepath.Join(b.base, "etc/passwd"))
	require.NoError(t, err)
	require.NoError(t, b.run(t.Context(), scripts("echo x >> /etc/passwd; rm -rf /var; chmod 0777 /etc")))
	after, err := os.ReadFile(filepath.Join(b.base, "etc/passwd"))
	require.NoError(t, err)
	require.Equal(t, before, after)
	text := paths(b.scan())
	require.Contains(t, text, "whiteout var")
	require.Contains(t, text, "file etc/passwd")
}

func TestScanKeepsOnlyWhatDiffers(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts(`cp -p /etc/hosts /tmp/h; cat /tmp/h > /etc/hosts; touch /etc/new; rm /etc/new; chmod `+
		`600 /etc/group; chmod 644 /etc/group
rm -r /usr/local; mkdir /usr/local; echo a > /usr/local/a; ln /usr/local/a /usr/local/b; mkfifo /usr/local/p`)))
	x := b.scan()
	require.Equal(t, "dir .\ndir usr\ndir usr/local\nfile usr/local/a\nfile usr/local/b\nfifo usr/local/p",
		"dir .\n"+strings.TrimPrefix(paths(x), "dir .\n"))
	local := layer.Merge(x).Lookup("usr/local/b")
	require.Equal(t, "usr/local/a", local.Same)
	require.Equal(t, int64(1767225600), local.MTime, "no time is later than the epoch")
	require.True(t, x[len(x)-4].Opaque)
	require.Equal(t, x, b.scan(), "reading again gives the same")
}

// More layers than one overlay takes are stacked as several.
func TestMoreLayersThanTheKernelStacks(t *testing.T) {
	b := newBench(t)
	for i := range mostOfOne + 30 {
		dir := t.TempDir()
		folder := layer.Folder{Dir: dir, Owners: b.owners()}
		x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}, {Path: "many", Kind: layer.Dir, Mode: 0o755},
			{Path: fmt.Sprintf("many/%d", i), Kind: layer.File, Mode: 0o644}}
		if i%50 == 49 {
			x = append(x, layer.Entry{Path: fmt.Sprintf("many/%d", i-1), Kind: layer.Whiteout})
		}
		for j := range x {
			require.NoError(t, folder.Put(&x[j], strings.NewReader("")))
		}
		b.more = append(b.more, dir)
	}
	require.NoError(t, b.run(t.Context(), scripts("ls /many | wc -l; ls /many | grep -cx '48\\|98\\|148\\|498' || true; rm /many/0; echo "+
		"x > /many/1")))
	require.Equal(t, []string{"0 out 520", "0 out 0"}, b.lines)
	b.more = make([]string, 20000)
	require.ErrorContains(t, b.run(t.Context(), scripts("true")), "merge stages")
}

const mostOfOne = 500 // layers that one overlay takes

func TestProbe(t *testing.T) {
	ids, _ := machine.Inside()
	_, err := machine.Probe(t.Context(), ids, t.TempDir())
	require.NoError(t, err)
}

func TestScriptsHandleSignalsAsUsual(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts("sleep 1000 & kill $!; wait $! || true",
		"sh -c 'trap \"echo caught; exit 0\" TERM; kill $$; sleep 5'")))
	require.Less(t, b.took, 3*time.Second, "what was started in the background ends when it is told to")
	require.Contains(t, b.lines, "1 out caught")
}

func TestGroupsOfFilesAreCopied(t *testing.T) {
	b := newBench(t)
	dir := t.TempDir()
	from := filepath.Join(dir, "f")
	require.NoError(t, os.WriteFile(from, []byte("content"), 0o600))
	items := func(digest string) machine.Stage {
		return machine.Stage{Steps: []machine.Step{{Name: "copy",
			Copy: &machine.Copy{Items: []machine.Item{{From: dir, To: "/opt/d", Mode: 0o700, Dir: true},
				{From: from, To: "/opt/d/f", Mode: 0o600, Digest: digest}, {From: from, To: "/opt/d/l", Link: "f"}}}}}}
	}
	require.NoError(t, b.run(t.Context(), items("ed7002b439e9ac845f22357d822bac1444730fbdb6016d3ec9432297b9ec9f73")))
	require.Equal(t, "dir opt\ndir opt/d\nfile opt/d/f\nsymlink opt/d/l", strings.TrimPrefix(paths(b.scan()), "dir .\n"))
	require.ErrorContains(t, b.run(t.Context(), items("0000")), "/f changed while the build ran; run the command again")
	require.NoError(t, os.Remove(from))
	require.ErrorIs(t, b.run(t.Context(), items("")), os.ErrNotExist)
}

func TestSecretsAreInMemoryForOneUser(t *testing.T) {
	b := newBench(t)
	stage := scripts("echo $KEY; cat /run/zygos/secrets/key; echo; stat -c '%a %u' /run/zygos/secrets/key", "env | grep -c KEY")
	stage.Secrets = []machine.Secret{{Name: "key", Variable: "KEY", Value: "a\nb"}}
	if !b.ids.Limited() {
		stage.Steps[1].Script.User = "nobody"
	}
	require.NoError(t, b.run(t.Context(), stage))
	require.Equal(t, []string{"0 out a b", "0 out a", "0 out b", "0 out 400 0", "1 out 1"}, b.lines)
	require.NotContains(t, paths(b.scan()), "key")
}

func TestOfLongOutputHeadAndTailComeThrough(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.run(t.Context(), scripts("yes 0123456789abcdef | head -n 1000000; echo last; (sleep 20; echo late) &")))
	require.Less(t, b.took, 10*time.Second)
	require.Equal(t, "0 out last", b.lines[len(b.lines)-1])
	cut, total := int64(0), int64(0)
	for _, l := range b.lines {
		var lines, size int64
		if n, _ := fmt.Sscanf(l, "0 out cut %d %d", &lines, &size); n == 2 {
			cut = lines
			require.Equal(t, lines*17, size)
		} else {
			total++
		}
	}
	require.Equal(t, int64(1000001), total+cut, "no line is lost unsaid")
	require.Less(t, total, int64(300000))
}
