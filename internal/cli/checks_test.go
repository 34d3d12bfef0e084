package cli_test

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/manifest"
)

// checked is a workspace whose image has checks, beside a stage that makes what they look at.
func checked(t *testing.T, checks string) *person {
	p := me(t)
	p.starter()
	p.write("checks/one.sh", "#!/bin/sh\n# Looks at the greeting.\ngrep -q \"$WANT\" /one\n")
	p.write("images/first.toml", `series = "0.1"
base   = "field-os"
[[stage]]
name   = "one"
inline = "echo hello > /one; chmod 0640 /one; mkdir -p /opt /etc/sudoers.d; echo 'keeper:x:500:0:K:/:/bin/sh' >> /etc/passwd; `+
		`echo 'keeper ALL=(ALL) ALL' > /etc/sudoers.d/keeper; echo '@includedir /etc/sudoers.d' > /etc/sudoers; `+
		`cp /bin/busybox /opt/suid; chmod 4755 /opt/suid"
`+checks+`
[[artifact]]
format = "tar"
[publish]
regions = ["here"]
`)
	return p
}

const goodChecks = `
[[check]]
name   = "greeting"
script = "checks/one.sh"
env    = { WANT = "hello" }
[[check]]
name   = "instance"
inline = """
echo "$ZYGOS_IMAGE $ZYGOS_VERSION ${ZYGOS_BUILDING:-done}"
echo spoilt > /one
(sleep 1000 &)
"""
[[check]]
name   = "not here"
inline = "exit 77"
[[check]]
name   = "later"
level  = "warn"
inline = "echo a pity; exit 3"
[[check]]
name   = "expected"
expect = [
    { path = "/one", mode = "0640", owner = "root:root", holds = "hello" },
    { path = "/nothing", absent = true },
    { account = "keeper", groups = ["root"], shell = "/bin/sh", may_sudo = true },
    { account = "nobody-else", absent = true },
    { runs = "cat /one", prints = "^hel+o$" },
    { setuid = ["/opt/suid"] },
    { writable_by_all = [] },
    { size_at_most = "64MiB" },
]
`

// Checks judge a fresh instance before anything is captured; what they said stays with the version, and tags may need it.
func TestChecksJudgeWhatIsCaptured(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p0 *person) {
		p := checked(t, goodChecks)
		p.cred = p0.cred
		if p.cred != nil {
			require.NoError(t, chownAll(p.dir, p.cred))
		}
		p.write("zygos.toml", p.read("zygos.toml")+"\n[tag.stable]\nneeds = [\"checks:1h\"]\n")
		r := p.run("build", "first")
		require.Zero(t, r.code, r.err)
		require.Regexp(t, `check +greeting: +passed in`, r.err)
		require.Regexp(t, `check +not here: +skipped in`, r.err)
		require.Regexp(t, `check +later: +warned in`, r.err)
		require.Contains(t, r.err, "a pity")
		require.Contains(t, p.ok("show", "first"), "3 passed, 1 warned, 1 skipped (build by")
		require.Contains(t, p.ok("list"), "3 passed, 1 warned, 1 skipped")
		p.ok("publish", "first")
		var m manifest.Manifest
		text := p.ok("manifest", "first", "--json")
		valid(t, "manifest", text)
		require.NoError(t, json.Unmarshal([]byte(text), &m))
		require.Equal(t, [4]int{3, 0, 1, 1}, [4]int{m.Checks.Passed, m.Checks.Failed, m.Checks.Warned, m.Checks.Skipped})
		require.NotEmpty(t, m.Checks.Document)
		p.ok("tag", "first", "stable")
		require.Contains(t, p.ok("build", "first"), "up to date", "checks make nothing due")

		// Today's checks judge a version again; what they say goes where the version is.
		p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), `WANT = "hello"`, `WANT = "goodbye"`, 1))
		require.Contains(t, p.ok("build", "first"), "up to date", "nor does a check that changed")
		r = p.fails(4, "", "test", "first", "--junit", "junit.xml")
		require.Regexp(t, `greeting +sandbox +FAILED .* exit code 1`, r.out)
		require.Contains(t, r.out, "first@0.1.0: 1 failed, 2 passed, 1 warned, 1 skipped")
		var suite struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
		}
		require.NoError(t, xml.Unmarshal([]byte(p.read("junit.xml")), &suite))
		require.Equal(t, [2]int{5, 1}, [2]int{suite.Tests, suite.Failures})
		p.ok("verify")
		p.fails(5, "1 of 5 checks failed when first@0.1.0 was last judged; zygos test", "tag", "first", "stable")
		r = p.fails(4, "", "test", "first", "--tap")
		require.Contains(t, r.out, "TAP version 14\n1..5\nnot ok 1 - greeting\n# exit code 1")
		require.Contains(t, r.out, "ok 3 - not here # SKIP")
		require.Contains(t, p.ok("test", "first", "--check", "expected"), "first@0.1.0: 1 passed")
		require.Contains(t, p.ok("show", "first"), "1 failed", "some checks alone are no judgement")
		// By the definition that it was built with, and as it lies in a region, it is what it was.
		require.Contains(t, p.ok("test", "first", "--recorded"), "3 passed, 1 warned, 1 skipped")
		p.fails(4, "", "test", "first", "--region", "here")
		require.Contains(t, p.ok("test", "first", "--region", "here", "--recorded"), "3 passed, 1 warned, 1 skipped")
		require.Contains(t, p.ok("show", "first"), "(test in here by")
		archive := p.glob("regions/here/first/0.1.0/*.zst")[0]
		require.NoError(t, os.WriteFile(archive, []byte("cut"), 0o644))
		p.fails(1, "it ends after 3 of", "test", "first", "--region", "here")
		require.Empty(t, p.glob(".zygos/run/*"), "nothing is left")
		// Where only a disk lies, its file system is read.
		p.write("zygos.toml", p.read("zygos.toml")+"\n[region.disks]\nkind = \"folder\"\npath = \"disks\"\nformats = [\"qcow2\"]\n")
		p.ok("capture", "first", "--format", "qcow2")
		p.ok("publish", "first", "--region", "disks")
		require.Contains(t, p.ok("test", "first", "--region", "disks", "--recorded"), "3 passed, 1 warned, 1 skipped")
		p.fails(2, "no check \"gone\"; it has greeting", "test", "first", "--check", "gone")
	})
}

func chownAll(dir string, to *syscall.Credential) error {
	return filepath.Walk(dir, func(name string, _ os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(name, int(to.Uid), int(to.Gid))
	})
}

// A check that must pass and fails ends the build: nothing is registered, all that is wrong is said, and the state can be entered.
func TestFailingCheckRefusesTheBuild(t *testing.T) {
	t.Parallel()
	p := checked(t, `
[[check]]
use = "checks/contract.toml"
inputs = { name = "one" }
[[check]]
name = "dies"
inline = "echo dying; kill -9 $$"
`)
	p.write("checks/contract.toml", `
[input.name]
[[check]]
name = "all of it"
expect = [
    { path = "/one", mode = "0600", owner = "daemon:root", holds = "hi" },
    { path = "/two" },
    { path = "/one", absent = true },
    { package = "telnetd", version = ">= 1" },
    { account = "keeper", groups = ["wheel"], shell = "/bin/bash" },
    { account = "daemon-of-nobody" },
    { starts = "ssh" },
    { listens = "tcp/22" },
    { runs = "cat /one", prints = "bye" },
    { runs = "false" },
    { setuid = ["/bin/gone"] },
    { size_at_most = "1KiB" },
]
[[check]]
name = "input"
inline = "echo judged $NAME; test -e /$NAME"
env = { NAME = "${input.name}" }
`)
	r := p.fails(4, "2 of 3 checks failed: all of it, dies", "build", "first")
	for _, line := range []string{
		"/one 0600 daemon:root holds \"hi\": its mode is 0640, its owner is root:root, its content does not hold that",
		"/two: it is not there", "/one is absent: it is there", "package telnetd >= 1: it is not there",
		"account keeper in wheel with /bin/bash: it is not in wheel, but in root, its shell is /bin/sh",
		"account daemon-of-nobody: it is not there", "ssh starts at boot: nothing starts it",
		"tcp/22 is listened on: no configuration", `prints "bye": it prints "hello"`, "false runs: exit code 1",
		"files with setuid: /bin/gone: there also is /opt/suid; there is no /bin/gone", "take at most 1KiB: they take",
		"ended by signal SIGKILL",
		"| dying", "| all of it: 12 of 12 expectations do not hold"} {
		require.Contains(t, r.err, line)
	}
	require.Empty(t, p.versions())
	var builds []struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(p.ok("builds", "--json")), &builds))
	require.Contains(t, p.ok("log", builds[0].ID), "its mode is 0640")
	cmd := p.command("enter", builds[0].ID)
	cmd.Stdin = strings.NewReader("cat /one\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	require.Equal(t, "hello\n", string(out))
}

// Whatever a check does, it ends, its output is bounded, and nothing of it reaches a terminal or another check.
func TestChecksThatLie(t *testing.T) {
	t.Parallel()
	p := checked(t, `
[input.key]
secret = true
from   = "env:KEY"
[[check]]
name    = "hangs"
level   = "warn"
timeout = "1s"
inline  = "sleep 1000"
[[check]]
name   = "floods"
inline = "yes 0123456789012345678901234567890123456789012345678901234567890123456789 | head -c 200000000"
[[check]]
name   = "paints"
level  = "warn"
inline = "printf '\\033[2Jcleared\\n'; exit 1"
[[check]]
name   = "tells"
level  = "warn"
inline = "cat /run/zygos/secrets/key; exit 1"
secrets = ["key"]
[[check]]
name   = "removes"
inline = "rm -rf /one /bin /etc; true"
[[check]]
name   = "counts"
inline = "test -e /one"
`)
	p.env = append(p.env, "KEY=a-very-secret-value")
	began := time.Now()
	r := p.run("build", "first")
	require.Zero(t, r.code, r.err)
	require.Less(t, time.Since(began), time.Minute)
	require.Regexp(t, `floods: +passed`, r.err)
	require.Contains(t, r.err, "it did not end within its timeout of 1s")
	require.NotContains(t, r.err, "\x1b[2J")
	require.NotContains(t, r.err, "a-very-secret-value")
	require.Contains(t, r.err, "***")
	info, err := os.Stat(p.glob(".zygos/builds/*/log.jsonl")[0])
	if err == nil {
		require.Less(t, info.Size(), int64(1<<20))
	}
	require.Contains(t, p.ok("show", "first"), "3 passed, 3 warned")
}

// A version that was registered before there were checks is judged later, and may then be promoted.
func TestVersionFromBeforeChecksIsJudged(t *testing.T) {
	t.Parallel()
	p := checked(t, "")
	p.write("zygos.toml", p.read("zygos.toml")+"\n[tag.stable]\nneeds = [\"checks\"]\n")
	p.ok("build", "first")
	p.fails(5, "first@0.1.0 was never judged; zygos test first@0.1.0", "tag", "first", "stable")
	p.fails(1, "has no check that judges", "test", "first")
	p.write("images/first.toml", strings.Replace(p.read("images/first.toml"), "[[artifact]]",
		"[[check]]\nname = \"it is there\"\nexpect = [{ path = \"/one\" }]\n[[artifact]]", 1))
	require.Contains(t, p.ok("test", "first"), "first@0.1.0: 1 passed")
	p.ok("tag", "first", "stable")
}
