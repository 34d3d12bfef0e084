package cli_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// define writes an image with a base, whatever else it says, and an archive as its artifact.
func (p *person) define(name, base, rest string) {
	p.write("images/"+name+".toml", "series = \"0.1\"\nbase = \""+base+"\"\n"+rest+"\n[[artifact]]\nformat = \"tar\"\n")
}

// ask runs commands in an image's tree and returns what they print.
func (p *person) ask(commands string, ref ...string) string {
	p.t.Helper()
	cmd := p.command(append([]string{"enter"}, ref...)...)
	cmd.Stdin = strings.NewReader(commands)
	out, err := cmd.Output()
	require.NoError(p.t, err)
	return string(out)
}

func TestInputsComeFromManyPlaces(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.define("first", "field-os", `
[input.site]
default = "north"
[input.depth]
from = "env:DEPTH"
[[stage]]
name = "s"
inline = "echo $SITE $DEPTH > /site"
env = { SITE = "${input.site}", DEPTH = "${input.depth}" }`)
	p.fails(2, `input "depth" of first has no value (its source, env:DEPTH, has none); give one with --set depth=VALUE or --inputs FILE`,
		"build", "first")
	p.env = []string{"DEPTH=12"}
	p.ok("build", "first")
	require.Equal(t, "north 12\n", p.ask("cat /site", "first"))
	require.Contains(t, p.ok("preview", "first", "--set", "site=south"), `will run: input site changed from "north" to "south"`)
	p.write("values.toml", "site = \"west\"\ndepth = \"99\"\n")
	p.ok("build", "first", "--inputs", "values.toml")
	require.Equal(t, "west 99\n", p.ask("cat /site", "first"))
	p.ok("build", "first", "--inputs", "values.toml", "--set", "site=a=b")
	require.Equal(t, "a=b 99\n", p.ask("cat /site", "first"))
	p.fails(2, `first has no input "sitte"; did you mean "site"?`, "build", "first", "--set", "sitte=x")
	p.fails(2, `has no '='`, "build", "first", "--set", "site")
	p.fails(2, `first has no stage "zzz"; known are s`, "build", "first", "--from", "zzz")
}

const secretImage = `
[input.enrol-key]
secret = true
from = "env:ENROL"
[[stage]]
name = "with"
secrets = ["enrol-key"]
inline = "%s"
[[stage]]
name = "without"
inline = "env; ls /run/zygos; exit 0"`

func TestSecretsReachTheirStageAndNothingElse(t *testing.T) {
	t.Parallel()
	const value = "k3y/of+the=north wind"
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.define("first", "field-os", fmt.Sprintf(secretImage,
			`echo \"env $ENROL_KEY\"; printf '%s' \"$ENROL_KEY\" | base64; cat /run/zygos/secrets/enrol-key | fold -w 4; ls -l `+
				`/run/zygos/secrets; sha256sum < /run/zygos/secrets/enrol-key > /mark`))
		p.fails(2, `the secret "enrol-key" has no value: ENROL is not set`, "build", "first")
		p.fails(2, `a value on the command line shows in the list of processes`, "build", "first", "--set", "enrol-key=x")
		p.env = []string{"ENROL=" + value}
		r := p.run("build", "first", "--json")
		require.Zero(t, r.code, r.out+r.err)
		require.NotContains(t, r.out, "k3y/")
		require.Contains(t, r.out, `"text":"env ***"`)
		require.Contains(t, r.out, "-r--------    1 root     root            21")
		require.NotContains(t, p.ok("log", "first", "--stage", "without"), "ENROL")
		require.NotContains(t, p.ok("log", "first", "--stage", "without"), "secrets")
		// Nowhere in the state, in no form that a search would find.
		out, _ := exec.Command("grep", "-rlE", "k3y/|azN5L29m|k3y%2F", p.dir+"/.zygos", p.dir+"/images").Output()
		require.Empty(t, string(out))
		require.Contains(t, p.ok("preview", "first"), "up to date")
		p.env = []string{"ENROL=another value of it"}
		require.Contains(t, p.ok("preview", "first"), "will run: secret enrol-key changed")
		p.env = []string{"ENROL=short"}
		p.fails(2, "it has 5 bytes", "preview", "first")
	})
}

// Who only looks runs no command that gives a value, and changes nothing.
func TestLookingRunsNothing(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.write("stages/zone.toml", "name = \"zone\"\ninline = \"echo ${input.zone} > /zone\"\nenv = { Z = \"${input.zone}\" "+
			"}\n[input.zone]\nfrom = \"command:touch ran; echo UTC\"\n")
		p.write("stages/zone.toml", strings.Replace(p.read("stages/zone.toml"), "${input.zone} > /zone", "$Z > /zone", 1))
		p.define("first", "field-os", "[input.key]\nsecret = true\nfrom = \"command:touch ran; echo a-value-of-it\"\n[input.site]\nfrom = "+
			"\"command:touch ran; echo north\"\n"+
			"[[stage]]\nname = \"s\"\nsecrets = [\"key\"]\nenv = { SITE = \"${input.site}\" }\ninline = \"echo $SITE > /site\"\n[[stage]]\nuse "+
			"= \"stages/zone.toml\"\n")
		look := func() {
			for _, args := range [][]string{{"preview", "first"}, {"due"}, {"lint"}, {"scripts"}} {
				p.run(args...)
			}
			require.Empty(t, p.glob("ran"))
		}
		look()
		require.Empty(t, p.glob(".zygos/secret-key"), "nor is anything drawn")
		p.ok("build", "first")
		require.Len(t, p.glob("ran"), 1)
		require.NoError(t, os.Remove(filepath.Join(p.dir, "ran")))
		look()
		require.Contains(t, p.ok("lineage", "first"), "first@0.1.0")
		require.Contains(t, p.ok("due"), "Nothing is due", "values are taken as they were")
		r := p.run("preview", "first")
		require.Contains(t, r.out, "is up to date")
		require.Contains(t, r.err, "note: inputs site, key, zone come from a command, which only a build runs; taken as at the last build")
		require.Contains(t, p.ok("preview", "first", "--against", "first"), "is the one that first@0.1.0 was built from")
		require.Empty(t, p.glob("ran"))
		require.Contains(t, p.ok("build", "first"), "up to date")
		require.Len(t, p.glob("ran"), 1)
	})
}

func TestSecretLeftInTheTreeFailsTheBuild(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.env = []string{"ENROL=k3y/of+the=north wind"}
	for script, where := range map[string]string{
		`echo x=$ENROL_KEY > /etc/x`:                                               "in /etc/x",
		`printf 'u:%s' \"$ENROL_KEY\" | base64 > /b`:                               "in /b",
		`printf '%s' \"$ENROL_KEY\" | hexdump -v -e '/1 \"%02x\"' > /h; [ -s /h ]`: "in /h",
		`mkdir -p \"/opt/${ENROL_KEY#*/}\"; ln -s \"x$ENROL_KEY\" /l`: "in the target of " +
			"the link /l",
		`mkdir -p \"/opt/$ENROL_KEY\"`: "in the name of /opt/***",
		`mkdir /o; echo $ENROL_KEY | gzip > /o/f.gz; tar cz -f /a.tgz /o; rm -r /o`: "in the compressed " +
			"contents of /a.tgz",
		`mkdir /o; echo $ENROL_KEY | gzip > /o/f.gz; tar c -f /a.tar /o; rm -r /o`: "in the compressed " +
			"contents of /a.tar",
		`mkdir /o; echo $ENROL_KEY > /o/f; tar czf /a.tgz /o; rm -r /o`: "in the compressed " +
			"contents of /a.tgz",
		`head -c 300000 /dev/urandom > /r; printf '%s' \"$ENROL_KEY\" >> /r; head -c 300000 /dev/urandom >> /r`: "in /r",
		`echo $ENROL_KEY > /var/log/kept-by-mistake.txt; mkdir -p /opt; echo $ENROL_KEY | gzip | gzip > /opt/twice.gz`: "in the compressed " +
			"contents of /opt/twice.gz",
	} {
		p.define("first", "field-os", fmt.Sprintf(secretImage, script))
		r := p.run("build", "first")
		require.Equal(t, 4, r.code, script+r.err)
		require.Contains(t, r.err, "secret  enrol-key\n  place   "+where+", written by stage with\n", script)
		found, err := exec.Command("grep", "-rlaF", "of+the=north", filepath.Join(p.dir, ".zygos")).CombinedOutput()
		require.Error(t, err, "the layer that holds it is thrown away, and nothing else tells it: %s", found)
	}
	r := p.run("build", "first")
	require.Contains(t, r.err, "with             runs: ", "what was found is not built upon")
	require.Equal(t, "[]\n", p.ok("list", "--json"))
}

func TestVariantsShareWhatTheyHaveInCommon(t *testing.T) {
	t.Parallel()
	anyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.define("parent", "field-os", `
[input.size]
default = "one"
[variant.edge]
[variant.bench]
inputs = { size = "two" }
labels = { purpose = "test" }
[[stage]]
name = "common"
inline = "head -c 8 /dev/urandom > /common"
[[stage]]
name = "own"
inline = "echo $SIZE $ZYGOS_VARIANT > /size"
env = { SIZE = "${input.size}" }
[[stage]]
name = "edge-only"
only = ["edge"]
inline = "touch /edge"
[[artifact]]
format = "raw"
only = ["edge"]
[publish]
regions = ["here"]`)
		r := p.run("build", "parent")
		require.Zero(t, r.code, r.err)
		require.Equal(t, 1, strings.Count(r.err, "common           ran in"))
		require.Equal(t, 1, strings.Count(r.err, "common           reused"))
		require.Equal(t, p.ask("cat /common", "parent", "--variant", "edge"), p.ask("cat /common", "parent", "--variant", "bench"))
		require.Equal(t, "two bench\n", p.ask("cat /size", "parent", "--variant", "bench"))
		require.Equal(t, "one edge\n/edge\n", p.ask("cat /size; ls /edge", "parent", "--variant", "edge"))
		require.Contains(t, p.run("enter", "parent").err, "has the variants edge, bench; choose one with --variant")
		require.Contains(t, p.ok("preview", "parent"), "up to date")
		p.ok("publish", "parent")
		var m struct {
			Artifacts []struct {
				Variant, Format string
				Labels          map[string]string
			}
		}
		doc := p.ok("manifest", "parent", "--json")
		valid(t, "manifest", doc)
		valid(t, "region", p.read("regions/here/index.json"))
		require.NoError(t, json.Unmarshal([]byte(doc), &m))
		require.Len(t, m.Artifacts, 3)
		require.Equal(t, "test", m.Artifacts[0].Labels["purpose"])
		p.fails(2, "holds parent@0.1.0 as bench tar, edge raw, edge tar; choose one with --variant, --name or --format", "locate", "parent",
			"--region", "here")
		require.NotEqual(t, p.ok("locate", "parent", "--region", "here", "--format", "tar", "--variant", "bench"),
			p.ok("locate", "parent", "--region", "here", "--format", "tar", "--variant", "edge"))
		require.FileExists(t, p.dir+"/regions/here/parent/0.1.0/parent-0.1.0-bench.tar.zst")

		p.define("child", "parent", "[variant.bench]\n[[stage]]\nname = \"x\"\ninline = \"cat /size > /child\"\n")
		p.ok("build", "child")
		require.Equal(t, "two bench\n", p.ask("cat /child", "child", "--variant", "bench"))
		p.define("child", "parent", "[[stage]]\nname = \"x\"\ninline = \"true\"\n")
		p.fails(1, "images/child.toml:2:8: parent@0.1.0 has the variants bench, edge, and child says of none of them that it starts from it; "+
			"add [variant.bench] to images/child.toml", "build", "child")
	})
}

// Artifacts of one format are told apart by their names, from the definition to a deploy job.
func TestSeveralArtifactsOfOneFormat(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	disks := "\n[[artifact]]\nformat = \"raw\"\nname = \"small\"\nsize = \"8MiB\"\n[[artifact]]\nformat = \"raw\"\nname = \"large\"\nsize " +
		"= \"16MiB\"\n"
	text := p.read("images/first.toml")
	p.write("images/first.toml", strings.Replace(text, "[publish]", disks+strings.ReplaceAll(disks, "large", "small")+"[publish]", 1))
	p.fails(3, `a second artifact is called "small"; tell them apart: name = "…"`, "lint")
	p.write("images/first.toml", strings.Replace(text, "[publish]", disks+"[publish]", 1))
	require.Contains(t, p.ok("preview", "first"), "large (raw)")
	p.ok("build", "first")
	require.Contains(t, p.ok("list"), "large (raw), raw, small (raw), tar")
	require.Contains(t, p.ok("show", "first"), "artifact  large (raw)   16.0 MiB")
	p.ok("publish", "first")
	require.FileExists(t, p.dir+"/regions/here/first/0.1.0/first-0.1.0-large.raw")
	require.FileExists(t, p.dir+"/regions/here/first/0.1.0/first-0.1.0.raw", "the default name keeps the file name")
	p.fails(2, "choose one with --variant, --name or --format", "locate", "first", "--region", "here", "--format", "raw")
	large := p.ok("locate", "first", "--region", "here", "--name", "large")
	require.NotEqual(t, large, p.ok("locate", "first", "--region", "here", "--name", "small"))
	require.Contains(t, p.ok("manifest", "first"), "large (raw)  "+strings.TrimSpace(large))
	require.Contains(t, p.read("regions/here/index.json"), `"name":"large"`)
	require.Contains(t, p.ok("regions"), " 1 ")
}

func TestSharedStagesTakeInputs(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("stages/zone.toml", "name = \"zone\"\ninline = \"echo $Z >> /zones\"\nenv = { Z = \"${input.zone}\" }\n[input.zone]\ndefault "+
		"= \"UTC\"\n")
	p.define("first", "field-os", `
[input.zone]
default = "BST"
[[stage]]
use = "stages/zone.toml"
[[stage]]
use = "stages/zone.toml"
name = "again"
inputs = { zone = "${input.zone}-1" }`)
	p.define("second", "field-os", "[[stage]]\nuse = \"stages/zone.toml\"\n")
	p.ok("build", "first", "second")
	require.Equal(t, "UTC\nBST-1\n", p.ask("cat /zones", "first"))
	p.write("stages/zone.toml", strings.Replace(p.read("stages/zone.toml"), "UTC", "GMT", 1))
	p.ok("build", "first", "second")
	require.Equal(t, "GMT\n", p.ask("cat /zones", "second"), "one edit reaches every image")
}

func TestWhyAStageRuns(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("scripts/a.sh", "#!/bin/sh\necho 1\necho 2\necho 3\n")
	p.write("files/f/x", "x")
	p.write("files/f/y", "y")
	image := "[[stage]]\nname = \"s\"\nscripts = [\"scripts/a.sh\"]\nfiles = [{ from = \"files/f\", to = \"/opt/f\" }]\n[[stage]]\nname = " +
		"\"last\"\ninline = \"true\"\n"
	p.define("first", "field-os", image)
	require.Contains(t, p.ok("preview", "first"), "the base is not unpacked yet")
	p.ok("build", "first")
	for _, c := range []struct {
		change func()
		why    string
	}{
		{func() { p.write("scripts/a.sh", "#!/bin/sh\necho 1\necho two\necho 3\n") }, "scripts/a.sh changed, line 3"},
		{func() { p.write("scripts/a.sh", "#!/bin/sh\necho 1\necho two\necho 3\necho 4\necho 5\n") }, "scripts/a.sh changed, lines 5-6"},
		{func() { p.write("files/f/x", "z\n") }, "files/f/x changed, line 1"},
		{func() { p.write("files/f/new", "") }, "files/f/new added"},
		{func() { require.NoError(t, os.Remove(filepath.Join(p.dir, "files/f/y"))) }, "files/f/y removed"},
		{func() { require.NoError(t, os.Chmod(filepath.Join(p.dir, "files/f/x"), 0o755)) }, "mode of /opt/f/x changed from 0644 to 0755"},
		{func() {
			image = strings.Replace(image, "/opt/f\" }", "/opt/g\" }", 1)
			p.define("first", "field-os", image)
		}, "files/f goes to /opt/g, it was /opt/f"},
		{func() {
			image = strings.Replace(image, "[[stage]]\nname = \"last\"", "user = \"nobody\"\n[[stage]]\nname = \"last\"", 1)
			p.define("first", "field-os", image)
		}, `user changed from "" to "nobody"`},
		{func() {
			image = strings.Replace(image, "user = \"nobody\"", "network = \"none\"", 1)
			p.define("first", "field-os", image)
		}, `user changed from "nobody" to ""; network changed from "host" to "none"`},
		{func() {
			image = strings.Replace(image, "network = \"none\"", "env = { A = \"1\" }", 1)
			p.define("first", "field-os", image)
		}, "variable A changed"},
	} {
		c.change()
		require.Contains(t, p.ok("preview", "first"), "will run: "+c.why)
		r := p.run("build", "first")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.err, "runs: "+c.why)
		require.Contains(t, p.ok("builds", "--quiet"), "s: "+c.why[:min(20, len(c.why))])
	}
	preview := p.ok("preview", "first", "--from", "last")
	require.Contains(t, preview, "s                reused from b-")
	require.Contains(t, preview, "last             will run: asked for by --from last")
	require.Contains(t, p.run("build", "first", "--from", "s").err, "last             runs: it comes after s, asked for by --from")

	p.define("child", "first", "[[stage]]\nname = \"c\"\ninline = \"true\"\n")
	p.ok("build", "child")
	p.ok("build", "first", "--force")
	require.Contains(t, p.ok("preview", "child"), "up to date", "a parent that came out the same is no change")
	p.write("scripts/a.sh", "touch /other\n")
	p.ok("build", "first")
	require.Regexp(t, `will run: base first moved from 0\.1\.11 to 0\.1\.13`, p.ok("preview", "child"))

	out := p.ok("preview", "first", "--against", "first@0.1.0")
	require.Contains(t, out, "changed  scripts/a.sh")
	require.Contains(t, out, "+touch /other")
	require.Contains(t, out, "removed  files/f/y")
	require.Contains(t, p.ok("preview", "first", "--against", "first"), "is the one that first@0.1.13 was built from")
}

func TestRetriesAndRefresh(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.define("first", "field-os", fmt.Sprintf("[[stage]]\nname = \"flaky\"\nretries = 5\nrefresh = \"3s\"\ninline = \"[ ! -e /made ]; "+
		"touch /made; [ $(date +%%s) -ge %d ]\"\n", time.Now().Unix()+2))
	r := p.run("build", "first")
	require.Zero(t, r.code, r.err)
	require.Regexp(t, `failed in inline script: exit code 1; again in [0-9.]+ m?s, retry 1 of 5`, r.err)
	require.Contains(t, p.ok("preview", "first"), "up to date")
	waitFor(t, "the snapshot to age", func() bool {
		return strings.Contains(p.ok("preview", "first"), "will run: its snapshot is older than its refresh age of 3s")
	})
	p.ok("build", "first")
	require.Contains(t, p.ok("list"), "0.1.1")
}

func TestScriptLibrary(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	p.write("scripts/idle.sh", "echo no summary\n")
	p.write("scripts/tools/disk.sh", "#!/bin/sh\n# Grows the disk.\n# needs: resize2fs, sfdisk\n")
	p.define("second", "field-os", "[[stage]]\nname = \"grow\"\nscripts = [\"scripts/tools/disk.sh\"]\n")
	out := p.ok("scripts")
	require.Regexp(t, `scripts/first.sh +Writes a greeting that every login shows. +- +first: greet`, out)
	require.Regexp(t, `scripts/tools/disk.sh +Grows the disk. +resize2fs, sfdisk +second: grow`, out)
	require.NotContains(t, p.ok("scripts", "grow", "SFDISK"), "first.sh")
	out = p.ok("lint")
	require.Contains(t, out, "scripts/idle.sh:1:1: warning: no definition uses this script; name it in a stage's scripts, or delete it")
	require.Contains(t, out, "scripts/idle.sh:1:1: warning: no #! line says what runs it")
	require.Contains(t, out, "scripts/idle.sh:1:1: warning: no comment at its head says what it does")
	var list []struct{ Path string }
	require.NoError(t, json.Unmarshal([]byte(p.ok("scripts", "--json")), &list))
	require.Len(t, list, 3)
}

func TestGroupsOfFilesAndFilesBroughtOut(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.write("files/conf/a.conf", "a")
		p.write("files/conf/sub/run", "#!/bin/sh\n")
		p.write("files/conf/skip.txt", "no")
		require.NoError(t, os.Chmod(filepath.Join(p.dir, "files/conf/sub/run"), fs.FileMode(0o755)))
		require.NoError(t, os.Symlink("a.conf", filepath.Join(p.dir, "files/conf/link")))
		p.define("first", "field-os", `
[[stage]]
name = "copy"
files = [
  { from = "files/conf", to = "/opt/all" },
  { from = "files/conf/*.conf", to = "/opt/some/", mode = "0600" },
  { from = "files/conf/a.conf", to = "/opt/" },
]
inline = "echo report > /opt/report; mkdir -p /opt/d/e; echo deep > /opt/d/e/f"
restart = true
bring = ["/opt/report", "/opt/d"]
[[stage]]
name = "next"
inline = "ls /tmp /run; ls -R -l /opt"
`)
		p.ok("build", "first")
		out := p.ask("cd /opt; find . | sort; stat -c %a all/sub/run all/a.conf some/a.conf; cat all/link", "first")
		require.Equal(t, ".\n./a.conf\n./all\n./all/a.conf\n./all/link\n./all/skip.txt\n./all/sub\n./all/sub/run\n"+
			"./d\n./d/e\n./d/e/f\n./report\n./some\n./some/a.conf\n755\n644\n600\na", out)
		require.Equal(t, "report\n", p.read(strings.TrimPrefix(p.glob(".zygos/builds/b-*/files/copy/opt/report")[0], p.dir)))
		require.Len(t, p.glob(".zygos/builds/b-*/files/copy/opt/d/e/f"), 1)
		p.ok("build", "first", "--force")
		require.Len(t, p.glob(".zygos/builds/b-*/files/copy/opt/report"), 2, "brought out of a reused stage too")
		require.Contains(t, p.ok("log", "first"), "brought  copy")
	})
}

// hungry is a script that takes 128 MiB of memory.
const hungry = "awk 'BEGIN { s = \"x\"; while (length(s) < 100000000) s = s s; print length(s) }'"

func TestLimitsHoldOrAreSaidNotTo(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		p.starter()
		p.define("first", "field-os", "[limits]\nmemory = \"64MiB\"\nprocesses = 20\ncpu = 0.5\n[[stage]]\nname = \"s\"\ninline = "+
			"\"\"\"\n"+hungry+"\n\"\"\"\n")
		r := p.run("build", "first")
		if strings.Contains(p.ok("doctor"), "[limits] would not be in force") {
			require.Zero(t, r.code, r.err)
			require.Contains(t, r.err, "note     the limits on memory, processes and processors are not in force: ")
			return
		}
		require.Equal(t, 4, r.code, r.err)
		require.Contains(t, r.err, "it met its memory limit of 64 MiB and was stopped; raise memory in [limits]")
	})
}
