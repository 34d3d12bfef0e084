package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"zygos/internal/manifest"
	"zygos/internal/needtest"
)

// The built program, made once for all tests.
var program string

func TestMain(m *testing.M) {
	if os.Args[0] == workProgram {
		workMain()
	}
	if os.Args[0] == impatient {
		impatientMain()
	}
	dir, err := os.MkdirTemp("", "zygos-test-")
	if err == nil {
		program = filepath.Join(dir, "zygos")
		err = errorsOf(exec.Command("go", "build", "-o", program, "zygos/cmd/zygos"))
	}
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func errorsOf(cmd *exec.Cmd) error {
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// person runs the program in a folder of their own.
type person struct {
	t      *testing.T
	dir    string
	cred   *syscall.Credential // nil for who runs the tests
	env    []string
	marker string // of processes of a stage that hangs
	// database has the workspace's catalog, "" if that is in the state.
	database string
}

const ordinary = "zygos-tester" // made by 'make test'

// everyone runs a test as root and as an ordinary user; without root, as the user it is.
func everyone(t *testing.T, test func(*testing.T, *person)) {
	if os.Getuid() != 0 {
		t.Run("user", func(t *testing.T) { test(t, me(t)) })
		return
	}
	t.Run("root", func(t *testing.T) {
		t.Parallel()
		test(t, me(t))
	})
	t.Run("user", func(t *testing.T) {
		t.Parallel()
		test(t, someone(t))
	})
}

// anyone tests as an ordinary user, who may do less than root.
func anyone(t *testing.T, test func(*testing.T, *person)) {
	if os.Getuid() == 0 {
		test(t, someone(t))
	} else {
		test(t, me(t))
	}
}

func me(t *testing.T) *person { return &person{t: t, dir: tempDir(t)} }

// tempDir is reached by every user, and removed whatever ids own what is in it.
func tempDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "zygos-work-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// someone is an ordinary user.
func someone(t *testing.T) *person {
	u, err := user.Lookup(ordinary)
	if err != nil {
		needtest.Skip(t, "there is no user %s; 'make test' makes one", ordinary)
	}
	require.NoError(t, err)
	uid, err := strconv.Atoi(u.Uid)
	require.NoError(t, err)
	gid, err := strconv.Atoi(u.Gid)
	require.NoError(t, err)
	p := &person{t: t, dir: tempDir(t), cred: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	require.NoError(t, os.Chown(p.dir, uid, gid))
	return p
}

// result is what a command said.
type result struct {
	out, err string
	code     int
}

func (p *person) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = p.dir
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + p.dir, "TMPDIR=" + os.TempDir()}, p.env...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: p.cred}
	return cmd
}

func (p *person) run(args ...string) result {
	p.t.Helper()
	cmd := p.command(args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if err != nil {
		require.IsType(p.t, &exec.ExitError{}, err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// ok runs a command that must succeed and returns its result.
func (p *person) ok(args ...string) string {
	p.t.Helper()
	r := p.run(args...)
	require.Zero(p.t, r.code, "zygos %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	return r.out
}

// fails runs a command that must end with a code and say something.
func (p *person) fails(code int, says string, args ...string) result {
	p.t.Helper()
	r := p.run(args...)
	require.Equal(p.t, code, r.code, r.out+r.err)
	require.Contains(p.t, r.err, says)
	return r
}

func (p *person) write(name, text string) {
	full := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(p.t, os.WriteFile(full, []byte(text), 0o644))
	if p.cred != nil {
		for ; full != p.dir; full = filepath.Dir(full) {
			require.NoError(p.t, os.Chown(full, int(p.cred.Uid), int(p.cred.Gid)))
		}
	}
}

func (p *person) read(name string) string {
	text, err := os.ReadFile(filepath.Join(p.dir, name))
	require.NoError(p.t, err)
	return string(text)
}

func (p *person) glob(pattern string) []string {
	list, err := filepath.Glob(filepath.Join(p.dir, pattern))
	require.NoError(p.t, err)
	return list
}

// starter makes the small workspace and goes into it.
// sh runs a script in the person's folder.
// sh runs a script and returns what it prints.
func (p *person) sh(script string) string {
	cmd := exec.Command("sh", "-euc", script)
	cmd.Dir = p.dir
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		err = fmt.Errorf("%w: %s", err, exit.Stderr)
	}
	require.NoError(p.t, err, "%s\n%s", script, out)
	return string(out)
}

func (p *person) starter() {
	p.ok("new", "ws")
	p.dir = filepath.Join(p.dir, "ws")
	if p.database != "" {
		p.share()
	}
}

// image replaces the starter's definition by one with these stages.
func (p *person) image(stages string) {
	p.write("images/first.toml", "series = \"0.1\"\nbase = \"field-os\"\n"+stages+"\n[[artifact]]\nformat = \"tar\"\n[publish]\nregions = "+
		"[\"here\"]\n")
}

func valid(t *testing.T, schema string, document string) {
	c := jsonschema.NewCompiler()
	s, err := jsonschema.UnmarshalJSON(bytes.NewReader(manifest.Schemas[schema]))
	require.NoError(t, err)
	require.NoError(t, c.AddResource("schema.json", s))
	compiled, err := c.Compile("schema.json")
	require.NoError(t, err)
	d, err := jsonschema.UnmarshalJSON(strings.NewReader(document))
	require.NoError(t, err)
	require.NoError(t, compiled.Validate(d))
}

func TestDemo(t *testing.T) {
	t.Parallel()
	manifests := map[string]string{}
	everyone(t, func(t *testing.T, p *person) {
		r := p.run("demo", "ebb")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.err, "$ zygos build ebb-base")
		require.Contains(t, r.out, "turbine-link@2.3.0 is up to date")
		p.dir = filepath.Join(p.dir, "ebb")
		doc := p.ok("manifest", "turbine-link@stable", "--json")
		valid(t, "manifest", doc)
		require.Equal(t, doc, p.read(".zygos/manifests/turbine-link/2.3.0.json"))
		require.Contains(t, r.err, "again in", "the line to kelp-bay broke once")
		require.Regexp(t, `kelp-bay +edge raw +im-[0-9a-f]{16} `, r.out)
		for _, region := range []string{"north-sound", ".zygos/standin/kelp-bay/papers", "far-skerry"} {
			if !strings.HasPrefix(region, ".") {
				region = "regions/" + region
			}
			require.Equal(t, doc, p.read(region+"/turbine-link/2.3.0/manifest.json"))
			valid(t, "region", p.read(region+"/index.json"))
		}
		id := strings.TrimSpace(p.ok("locate", "turbine-link@stable", "--region", "north-sound"))
		require.Contains(t, doc, id)
		require.Contains(t, p.read("regions/north-sound/index.json"), id)
		require.Empty(t, p.glob("regions/*/*/*/.part-*"))
		raw := filepath.Join(p.dir, "regions/north-sound/turbine-link/2.3.0/turbine-link-2.3.0-edge.raw")
		require.NoError(t, errorsOf(exec.Command("e2fsck", "-fn", raw)))
		out, err := exec.Command("debugfs", "-R", "stat /etc/ebbline/link.conf", raw).Output()
		require.NoError(t, err)
		require.Contains(t, string(out), "Mode:  0640")
		require.Regexp(t, `Group: +200 `, string(out))
		var m manifest.Manifest
		require.NoError(t, json.Unmarshal([]byte(doc), &m))
		manifests[t.Name()] = fmt.Sprint(m.Artifacts, m.Base)
		p.fails(1, "is not empty", "demo", ".")
	})
	for _, m := range manifests {
		for _, other := range manifests {
			require.Equal(t, m, other, "the same inputs give the same bits for every user")
		}
	}
}

func TestNewWorkspaceBuildsAtOnce(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		require.Contains(t, p.ok("lint"), "No problem")
		require.Contains(t, p.ok("bases"), "present")
		require.Contains(t, p.ok("build", "first"), "Registered first@0.1.0")
		require.Contains(t, p.ok("bases"), "ready")
		p.ok("publish", "first")
		require.NotEmpty(t, p.glob("regions/here/first/0.1.0/first-0.1.0.tar.zst"))
		p.ok("new", "image", "second", "--from", "first")
		p.fails(1, "exists already", "new", "image", "second", "--from", "first")
		require.Contains(t, p.ok("build", "second", "--quiet"), "second@0.1.0")
		require.Empty(t, p.glob(".zygos/run/*"), "nothing unfinished stays")
	})
}

func TestFailingScriptIsReportedAndNothingIsRegistered(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.image("[[stage]]\nname = \"good\"\ninline = \"echo fine > /good\"\n[[stage]]\nname = \"bad\"\nscripts = [\"scripts/bad.sh\"]\n")
		p.write("scripts/bad.sh", "#!/bin/sh\nset -e\necho before\nno-such-tool --now\n")
		r := p.run("build", "first")
		require.Equal(t, 4, r.code)
		for _, want := range []string{"exit code 127", "stage  bad", "step   scripts/bad.sh:4", "| before", "Nothing was registered",
			"zygos log b-", "--stage bad"} {
			require.Contains(t, r.err, want)
		}
		require.NotContains(t, r.err, "/run/zygos", "people see the name of their script")
		require.Equal(t, "[]\n", p.ok("list", "--json"))
		require.Contains(t, p.ok("builds"), "failed")
		require.Contains(t, p.ok("log", "first", "--stage", "bad"), "no-such-tool")
		p.write("scripts/bad.sh", "#!/bin/sh\necho mended\n")
		r = p.run("build", "first")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.err, "good             reused from b-")
		require.Contains(t, r.out, "Registered first@0.1.0")
	})
}

func TestUnchangedForcedAndTakenVersions(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	require.Contains(t, p.ok("build", "first"), "first@0.1.0 is up to date")
	require.Contains(t, p.ok("build", "first", "--force"), "Registered first@0.1.1")
	text := p.read("images/first.toml")
	p.write("images/first.toml", strings.Replace(text, `series  = "0.1"`, `version = "0.1.1"`, 1))
	p.fails(5, "0.1.1 exists already", "build", "first")
	p.write("images/first.toml", strings.Replace(text, `series  = "0.1"`, `version = "0.1.7"`, 1))
	p.ok("build", "first")
	require.Contains(t, p.ok("build", "first"), "first@0.1.7 is up to date")
	require.Len(t, strings.Split(strings.TrimSpace(p.ok("builds", "--quiet")), "\n"), 4,
		"three builds below a head; a refused one does not start")
}

func TestReuseStopsWhereAStageComesOutTheSame(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	stages := "[[stage]]\nname = \"one\"\ninline = \"\"\"\n%s\necho 1 > /one\n\"\"\"\n[[stage]]\nname = \"two\"\ninline = \"date +%%N > " +
		"/two\"\n"
	p.image(fmt.Sprintf(stages, ""))
	p.ok("build", "first")
	p.image(fmt.Sprintf(stages, "# a comment only"))
	preview := p.ok("preview", "first")
	require.Contains(t, preview, "one              will run: inline script changed, line 1")
	require.Contains(t, preview, "two              will run: the stage before it runs; reused if that comes out as in an earlier build")
	r := p.run("build", "first")
	require.Contains(t, r.err, "one              ran in")
	require.Contains(t, r.err, "two              reused from b-")
	var plans []struct {
		Version string
		Base    struct{ Digest string }
		Shapes  []struct {
			Stages []struct{ Reuse *struct{ Build string } }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.ok("preview", "first", "--force", "--json")), &plans))
	require.Equal(t, "0.1.2", plans[0].Version)
	require.NotNil(t, plans[0].Shapes[0].Stages[1].Reuse)
	require.Contains(t, plans[0].Base.Digest, "sha256:")
}

func TestSameBuildTwiceGivesTheSameBits(t *testing.T) {
	t.Parallel()
	digests := map[string]bool{}
	for i := range 2 {
		p := me(t)
		p.dir = filepath.Join(p.dir, strings.Repeat("deep/", i)+"x")
		require.NoError(t, os.MkdirAll(p.dir, 0o755))
		p.starter()
		p.image("[[stage]]\nname = \"a\"\ninline = \"mkdir -p /opt/a/b; echo x > /opt/a/b/c; ln /opt/a/b/c /opt/d; rm /etc/hosts; chmod 700 " +
			"/opt\"\n")
		p.ok("build", "first")
		var list []struct {
			Trees     []struct{ Layers []string }
			Artifacts []struct{ Digest string }
		}
		require.NoError(t, json.Unmarshal([]byte(p.ok("list", "--json")), &list))
		digests[fmt.Sprint(list[0].Trees, list[0].Artifacts)] = true
		time.Sleep(1100 * time.Millisecond) // another second, so that a time that leaks shows
	}
	require.Len(t, digests, 1)
}

func TestVersionReachesScriptsThatNameIt(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.image("[[stage]]\nname = \"plain\"\ninline = \"env\"\n[[stage]]\nname = \"stamp\"\ninline = \"echo v=$ZYGOS_VERSION i=$ZYGOS_IMAGE " +
		"b=$ZYGOS_BUILD\"\n" +
		"[[stage]]\nname = \"given\"\ninline = \"echo $V\"\nenv = { V = \"${image}-${version}\" }\n")
	r := p.run("build", "first")
	require.Contains(t, r.err, "stamp | v=0.1.0 i=first b=b-")
	require.Contains(t, r.err, "given | first-0.1.0")
	require.NotContains(t, r.err, "plain | ZYGOS_VERSION")
	require.Contains(t, r.err, "plain | ZYGOS_BUILDING=1")
	r = p.run("build", "first", "--force")
	require.Contains(t, r.err, "plain            reused")
	require.Contains(t, r.err, "stamp | v=0.1.1")
	require.Contains(t, r.err, "given | first-0.1.1")
	require.Contains(t, p.ok("build", "first"), "up to date", "a new number alone is no change")
}

func TestRegionThatFailsDoesNotHoldUpTheOthers(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.ok("demo", "ebb", "--quiet")
	p.dir = filepath.Join(p.dir, "ebb")
	p.cloud()
	p.ok("build", "turbine-link", "--force")
	far := filepath.Join(p.dir, "regions/far-skerry")
	require.NoError(t, os.Rename(far, far+".away"))
	require.NoError(t, os.WriteFile(far, nil, 0o600)) // the line is down
	p.fails(6, "not complete in far-skerry", "publish", "turbine-link")
	var m manifest.Manifest
	require.NoError(t, json.Unmarshal([]byte(p.ok("manifest", "turbine-link", "--json")), &m))
	require.Len(t, m.Regions, 2, "only what was verified")
	p.fails(6, "is not in far-skerry; place it there", "locate", "turbine-link", "--region", "far-skerry")
	require.NoError(t, os.Remove(far))
	require.NoError(t, os.Rename(far+".away", far))
	out := p.ok("publish", "turbine-link")
	require.Contains(t, out, "already there, verified")
	require.Contains(t, out, "copied and verified")
	// A copy that was damaged since is written again.
	raw := filepath.Join(p.dir, "regions/north-sound/turbine-link/2.3.1/turbine-link-2.3.1-edge.raw")
	require.NoError(t, os.WriteFile(raw, []byte("cut"), 0o644))
	require.Regexp(t, `north-sound +edge raw .* copied and verified`, p.ok("publish", "turbine-link"))
	// When the line is down again, what was placed before stays on the manifest.
	require.NoError(t, os.Rename(far, far+".away"))
	require.NoError(t, os.WriteFile(far, nil, 0o600))
	p.fails(6, "not complete in far-skerry", "publish", "turbine-link")
	require.NoError(t, json.Unmarshal([]byte(p.ok("manifest", "turbine-link", "--json")), &m))
	require.Len(t, m.Regions, 3)
}

func TestDamagedStoreIsNotPublished(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	var list []struct{ Artifacts []struct{ Digest string } }
	require.NoError(t, json.Unmarshal([]byte(p.ok("list", "--json")), &list))
	blob := filepath.Join(p.dir, ".zygos/store/blobs/sha256", strings.TrimPrefix(list[0].Artifacts[0].Digest, "sha256:"))
	file, err := os.OpenFile(blob, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = file.WriteAt([]byte("x"), 0)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	p.fails(6, "is damaged", "publish", "first")
	require.Empty(t, p.glob("regions/here/first/0.1.0/.part-*"))
	var m manifest.Manifest
	require.NoError(t, json.Unmarshal([]byte(p.ok("manifest", "first", "--json")), &m))
	require.Len(t, m.Regions["here"], 1, "only the artifact that is whole")

	// What was placed before and is lost since is no longer named, here or in the region.
	for _, a := range p.glob("regions/here/first/0.1.0/first-*") {
		require.NoError(t, os.Remove(a))
	}
	for _, b := range p.glob(".zygos/store/blobs/sha256/*") {
		require.NoError(t, os.Remove(b))
	}
	p.fails(6, "is made anew by 'zygos build first --force'", "publish", "first")
	p.fails(6, "is not in here", "locate", "first", "--region", "here", "--format", "raw")
	require.Contains(t, p.read("regions/here/index.json"), `"versions":[]`)
	require.NoFileExists(t, filepath.Join(p.dir, "regions/here/first/0.1.0/manifest.json"), "the region holds nothing of it")
}

func TestTagsMoveAndRegionsLearnOfIt(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.ok("build", "first")
	p.ok("publish", "first")
	require.Contains(t, p.ok("tag", "first", "stable", "candidate"), "first@stable -> 0.1.0")
	require.Contains(t, p.read("regions/here/index.json"), `"tags":["candidate","stable"]`)
	p.ok("build", "first", "--force")
	require.Contains(t, p.ok("tag", "first@0.1.1", "stable"), "(was 0.1.0)")
	require.Contains(t, p.ok("tag", "first"), "moved on")
	require.Contains(t, p.ok("show", "first@stable"), "first@0.1.1")
	p.fails(2, "looks like a version", "tag", "first", "1.2")
	p.fails(1, "did you mean first@stable?", "show", "first@stabel")
}
