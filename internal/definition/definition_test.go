package definition_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/demo"
	"zygos/internal/app"
	"zygos/internal/definition"
	"zygos/internal/workspace"
)

const goodOrg = `[workspace]
name = "ebbline"
[base.field-os]
release = "1.2.0"
from = ["bases/a.tar"]
sha256 = "` + zeros + `"
[region.north-sound]
kind = "folder"
path = "regions/north-sound"
formats = ["raw"]
`

const zeros = "0000000000000000000000000000000000000000000000000000000000000000"

const goodImage = `series = "1.0"
base = "field-os"
[[stage]]
name = "one"
scripts = ["scripts/one.sh"]
[[artifact]]
format = "tar"
`

// load writes files into a workspace and returns its problems, a line each.
func load(t *testing.T, files map[string]string) ([]string, *workspace.Workspace) {
	dir := t.TempDir()
	all := map[string]string{"zygos.toml": goodOrg, "images/a.toml": goodImage, "scripts/one.sh": "true\n", "files/f": "x"}
	for name, text := range files {
		all[name] = text
	}
	for name, text := range all {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	w, err := app.Find(app.Where{Workspace: dir})
	require.NoError(t, err)
	err = w.Load()
	if err == nil {
		return nil, w
	}
	require.IsType(t, definition.Problems{}, err)
	return strings.Split(err.Error(), "\n"), w
}

func TestGoodDefinitionsLoad(t *testing.T) {
	problems, w := load(t, map[string]string{"images/a.toml": `
series = "2.3"
base = "field-os"
labels = { owner = "controls" }
input.site = { default = "north" }
[[stage]]
use = "stages/clock.toml"
[[stage]]
name = "link"
files = [{ from = "files/f", to = "/etc/${input.site}", mode = "0640", owner = "root:link" }]
scripts = [
  "scripts/one.sh", # first
]
env = { SITE = "${input.site}", V = "${version}" }
timeout = "1h30m"
network = "none"
[seal]
keep = ["logs"]
[[artifact]]
format = "raw"
size = "2GiB"
boot = "none"
[publish]
regions = ["north-sound"]
`, "stages/clock.toml": "name = \"clock\"\ninline = \"date\"\n"})
	require.Empty(t, problems)
	img := w.Images[0]
	require.Equal(t, []string{"clock", "link"}, []string{img.Stages[0].Name, img.Stages[1].Name})
	require.Equal(t, 0o640, img.Stages[1].Files[0].Mode)
	require.False(t, img.Stages[1].Network)
	require.Equal(t, int64(2<<30), img.Artifacts[0].Size)
	require.Equal(t, "/etc/north", definition.Expand(img.Stages[1].Files[0].To, map[string]string{"input.site": "north"}))
}

func TestFirstBootsAreInOrder(t *testing.T) {
	problems, w := load(t, map[string]string{"images/a.toml": goodImage + `[[first_boot]]
name = "enrol"
inline = "x"
after = "network"
env = { SITE = "north" }
[[first_boot]]
name = "late"
inline = "x"
after = "early"
[[first_boot]]
name = "after-enrol"
inline = "x"
after = "enrol"
[[first_boot]]
name = "early"
script = "scripts/one.sh"
`})
	require.Empty(t, problems)
	var order []string
	for _, f := range w.Images[0].FirstBoots {
		order = append(order, fmt.Sprint(f.Name, f.Network))
	}
	require.Equal(t, []string{"earlyfalse", "latefalse", "enroltrue", "after-enroltrue"}, order, "what waits for the network comes last")
}

func TestEveryProblemHasItsPlaceAndWhatToDo(t *testing.T) {
	image := func(s string) map[string]string { return map[string]string{"images/a.toml": s} }
	with := func(s string) map[string]string { return image(goodImage + s) }
	org := func(s string) map[string]string { return map[string]string{"zygos.toml": goodOrg + s} }
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"syntax": {image("series = \n"), `images/a.toml:1:10: `},
		"unknown key": {image("sumary = \"x\"\n" + goodImage),
			`images/a.toml:1:1: unknown key "sumary" in the file; did you mean "summary"?`},
		"unknown stage key": {image(strings.Replace(goodImage, "[[artifact]]", "script = []\n[[artifact]]", 1)),
			`images/a.toml:6:1: unknown key "script" in [stage]; did you mean "scripts"?`},
		"wrong type": {image("summary = 3\n" + goodImage), `images/a.toml:1:1: "summary" must be a text; write summary = "…"`},
		"number in list": {image(strings.Replace(goodImage, `["scripts/one.sh"]`, `["scripts/one.sh", 7]`, 1)),
			`images/a.toml:5:30: "scripts" must hold texts only`},
		"missing file": {image(strings.Replace(goodImage, "one.sh", "oen.sh", 1)),
			`images/a.toml:5:12: "scripts/oen.sh" does not exist; did you mean "scripts/one.sh"?`},
		"outside":          {image(strings.Replace(goodImage, "scripts/one.sh", "../one.sh", 1)), `is not in the workspace`},
		"folder as script": {image(strings.Replace(goodImage, "scripts/one.sh", "scripts", 1)), `"scripts" is no regular file`},
		"idle check": {with("[[check]]\nname = \"x\"\n"),
			`images/a.toml:8:3: check "x" checks nothing; give it a script, inline or expect`},
		"check of no disk": {with("[[check]]\nname = \"x\"\ninline = \"y\"\nin = \"vm\"\n"), "and no disk starts; give an artifact boot"},
		"two checks": {with("[[check]]\nname = \"x\"\ninline = \"y\"\n[[check]]\nname = \"x\"\ninline = \"y\"\n"),
			`a second check is called "x"`},
		"check of both":    {with("[[check]]\nname = \"x\"\ninline = \"y\"\nscript = \"z\"\n"), `either "script" or "inline"`},
		"expects nothing":  {with("[[check]]\nname = \"x\"\nexpect = []\n"), `"expect" must be a list of tables`},
		"expects what not": {with("[[check]]\nname = \"x\"\nexpect = [{ wind = \"north\" }]\n"), `does not say what it is about`},
		"contract in a contract": {map[string]string{"images/a.toml": goodImage + "[[check]]\nuse = \"checks/c.toml\"\n",
			"checks/c.toml": "[[check]]\nuse = \"checks/d.toml\"\n"}, "a contract uses no other"},
		"empty contract": {map[string]string{"images/a.toml": goodImage + "[[check]]\nuse = \"checks/c.toml\"\n", "checks/c.toml": ""},
			"the contract has no check"},
		"whole number": {image(strings.Replace(goodImage, "[[artifact]]", "retries = -2\n[[artifact]]", 1)),
			`images/a.toml:6:1: "retries" must be a whole number, 0 or more`},
		"age": {image(strings.Replace(goodImage, "[[artifact]]", "refresh = \"7 days\"\n[[artifact]]", 1)),
			`"7 days" is no duration; write for instance "90s", "10m", "1h30m" or "7d"`},
		"flag": {image(strings.Replace(goodImage, "[[artifact]]", "restart = \"yes\"\n[[artifact]]", 1)),
			`"restart" must be true or false`},
		"no such variant": {image(strings.Replace(goodImage, "[[artifact]]", "only = [\"edge\"]\n[[artifact]]", 1)),
			`images/a.toml has no variants; add [variant.edge]`},
		"variant's artifact": {with("only = [\"x\"]\n[variant.x]\n[variant.y]\n"), `images/a.toml:10:10: variant "y" has no artifact`},
		"variant's input": {with("[variant.x]\ninputs = { sit = \"a\" }\n[input.site]\n"),
			`images/a.toml:9:18: there is no input "sit"; did you mean "site"?`},
		"variant misnamed": {with("only = [\"ede\"]\n[variant.edge]\n[[artifact]]\nformat = \"raw\"\n"),
			`images/a.toml:8:9: there is no variant "ede"; did you mean "edge"?`},
		"secret without from": {with("[input.key]\nsecret = true\n"),
			`images/a.toml:8:8: the secret "key" does not say where its value comes from`},
		"secret with default": {with("[input.key]\nsecret = true\nfrom = \"env:KEY\"\ndefault = \"hunter22\"\n"),
			`the secret "key" has a default`},
		"source of a value": {with("[input.key]\nfrom = \"vault:x\"\n"), `"vault:x" is no source of a value`},
		"secret in a text": {image(strings.Replace(goodImage, "[[artifact]]",
			"env = { A = \"${input.key}\" }\n[input.key]\nsecret = true\nfrom = \"env:K\"\n[[artifact]]", 1)),
			`"${input.key}" would write a secret into a text that is stored; name it in the stage's secrets; scripts read $KEY`},
		"no such secret": {image(strings.Replace(goodImage, "[[artifact]]", "secrets = [\"key\"]\n[[artifact]]", 1)),
			`images/a.toml:6:12: there is no secret "key"`},
		"no secret": {image(strings.Replace(goodImage, "[[artifact]]", "secrets = [\"site\"]\n[input.site]\n[[artifact]]", 1)),
			`input "site" is no secret`},
		"secret's variable": {image(strings.Replace(goodImage, "[[artifact]]",
			"env = { KEY = \"\" }\nsecrets = [\"key\"]\n[input.key]\nsecret = true\nfrom = \"env:K\"\n[[artifact]]", 1)),
			`arrives in the variable KEY, which env sets too`},
		"input's name": {with("[input.Site]\ndefault = \"\"\n"), `"Site" is no name for an input`},
		"nothing matches": {image(strings.Replace(goodImage, "[[artifact]]",
			"files = [{ from = \"files/*.conf\", to = \"/etc\" }]\n[[artifact]]", 1)), `no file matches "files/*.conf"`},
		"brought from /run": {image(strings.Replace(goodImage, "[[artifact]]", "bring = [\"/run/x\"]\n[[artifact]]", 1)),
			`"/run/x" is gone when the stage ends`},
		"limit":  {with("[limits]\ncpu = 0\n"), `"cpu" must be a number, 0.01 or more`},
		"budget": {org("[state]\nbudget = \"20GB\"\n"), `"20GB" is no size`},
		"shared stage's input": {map[string]string{"images/a.toml": goodImage + "[[stage]]\nuse = \"stages/x.toml\"\n[input.site]\n",
			"stages/x.toml": "name = \"x\"\ninline = \"date\"\nenv = { A = \"${input.site}\" }\n"},
			`stages/x.toml:3:13: "${input.site}" refers to nothing; a shared stage has inputs of its own: add [input.site] to it, and inputs ` +
				`= { site = "${input.site}" } beside use`},
		"shared stage's variants": {map[string]string{"images/a.toml": goodImage + "[[stage]]\nuse = \"stages/x.toml\"\n",
			"stages/x.toml": "name = \"x\"\ninline = \"date\"\nonly = [\"a\"]\n"}, `stages/x.toml:3:1: a shared stage knows no variants`},
		"first boot in a circle": {with("[[first_boot]]\nname = \"a\"\ninline = \"x\"\nafter = \"a\"\n"),
			`images/a.toml:11:9: first boot "a" comes after "a", which never ends before it; break the circle`},
		"first boot after nothing": {with("[[first_boot]]\nname = \"a\"\ninline = \"x\"\nafter = \"c\"\n"),
			`images/a.toml:11:9: first boot "a" comes after "c", which never ends before it; name another one of [[first_boot]], or "network"`},
		"first boot that does nothing": {with("[[first_boot]]\nname = \"a\"\n"),
			`images/a.toml:8:3: first boot "a" does nothing; give it script or inline`},
		"first boot twice": {with("[[first_boot]]\nname = \"a\"\ninline = \"x\"\n[[first_boot]]\nname = \"a\"\ninline = \"x\"\n"),
			`images/a.toml:12:8: "a" is taken; choose another name`},
		"boots without boot": {with("[[artifact]]\nformat = \"qcow2\"\nboots = \"3m\"\n"),
			`images/a.toml:10:1: boots says nothing about a disk that does not boot; add boot = "uefi", or take it out`},
		"word not known": {with("[[artifact]]\nformat = \"qcow2\"\ncompression = \"zstandard\"\n"),
			`images/a.toml:10:15: unknown compression "zstandard"; choose from zlib, zstd, none`},
		"not of this format": {with("[[artifact]]\nformat = \"vmdk\"\nlayout = \"fixed\"\n"),
			`images/a.toml:10:1: an artifact of the format vmdk has no layout of its own; take layout out, or use one of the formats vhd`},
		"format unknown": {image(strings.Replace(goodImage, `"tar"`, `"ratr"`, 1)), `unknown format "ratr"`},
		"size":           {with("[[artifact]]\nformat = \"raw\"\nsize = \"2GB\"\n"), `images/a.toml:10:8: "2GB" is no size`},
		"duration": {image(strings.Replace(goodImage, "[[artifact]]", "timeout = \"10\"\n[[artifact]]", 1)),
			`"10" is no duration`},
		"mode": {image(strings.Replace(goodImage, "[[artifact]]",
			"files = [{ from = \"files/f\", to = \"/f\", mode = \"999\" }]\n[[artifact]]", 1)), `images/a.toml:6:48: "999" is no mode`},
		"both numbers": {image("version = \"1.0.0\"\n" + goodImage), `both "series" and "version" are set`},
		"no number":    {image(strings.Replace(goodImage, "series = \"1.0\"\n", "", 1)), `neither "series" nor "version" is set`},
		"bad series":   {image(strings.Replace(goodImage, "\"1.0\"", "\"1\"", 1)), `"1" is no series`},
		"bad version":  {image(strings.Replace(goodImage, "series = \"1.0\"", "version = \"1.0\"", 1)), `"1.0" is no version`},
		"base of nothing": {image(strings.Replace(goodImage, "field-os", "field-so", 1)),
			`images/a.toml:2:8: base "field-so" is neither in zygos.toml nor an image; did you mean "field-os"?`},
		"base with a version": {image(strings.Replace(goodImage, "field-os", "field-os@1.2.0", 1)), `which says itself which release it is`},
		"cycle": {map[string]string{"images/a.toml": strings.Replace(goodImage, "field-os", "b", 1),
			"images/b.toml": strings.Replace(goodImage, "field-os", "a@stable", 1)}, `images are each other's base: a -> b -> a`},
		"own base": {image(strings.Replace(goodImage, "field-os", "a", 1)), `a -> a`},
		"region of nothing": {with("[publish]\nregions = [\"north-sund\"]\n"),
			`images/a.toml:9:12: region "north-sund" is not in zygos.toml; did you mean "north-sound"?`},
		"placeholder": {image(strings.Replace(goodImage, "[[artifact]]", "env = { A = \"${input.sit}\" }\n[[artifact]]", 1)),
			`"${input.sit}" refers to nothing`},
		"reserved variable": {image(strings.Replace(goodImage, "[[artifact]]", "env = { ZYGOS_IMAGE = \"x\" }\n[[artifact]]", 1)),
			`"ZYGOS_IMAGE" cannot be set`},
		"two stages": {with("[[stage]]\nname = \"one\"\ninline = \"x\"\n"), `a second stage is named "one"`},
		"idle stage": {with("[[stage]]\nname = \"two\"\n"), `stage "two" does nothing`},
		"use and more": {map[string]string{"images/a.toml": goodImage + "[[stage]]\nuse = \"stages/x.toml\"\nuser = \"y\"\n",
			"stages/x.toml": "name = \"x\"\ninline = \"date\"\n"}, `"user" beside "use"`},
		"seal group": {with("[seal]\nkeep = [\"log\"]\n"), `unknown seal group "log"; did you mean "logs"?`},
		"name clash": {map[string]string{"images/field-os.toml": goodImage}, `base "field-os" has the name of an image`},
		"checksum": {map[string]string{"zygos.toml": strings.Replace(goodOrg, zeros, "abc", 1)},
			`zygos.toml:6:10: "abc" is no SHA-256 checksum`},
		"region kind":          {org("[region.x]\nkind = \"cluod\"\n"), `unknown kind of region "cluod"; did you mean "cloud"?`},
		"cloud without a site": {org("[region.x]\nkind = \"cloud\"\nurl = \"https://x.example\"\nsite = \"A B\"\n"), "no name of a site"},
		"folder with accounts": {org("[region.x]\nkind = \"folder\"\npath = \"x\"\naccounts = [\"a\"]\n"), "knows no accounts; take it out"},
		"rate":                 {org("[region.x]\nkind = \"folder\"\npath = \"x\"\nrate = \"fast\"\n"), `"fast" is no size`},
		"name of what is not":  {org("[region.x]\nkind = \"folder\"\npath = \"x\"\nname = \"${imgae}\"\n"), "did you mean \"image\"?"},
		"name with a slash":    {org("[region.x]\nkind = \"folder\"\npath = \"x\"\nname = \"a/${version}\"\n"), "is no name for artifacts"},
		"terms of no region": {with("[publish]\nregions = [\"north-sound\"]\n[publish.region.north]\nrate = \"1MiB\"\n"),
			"is not in zygos.toml"},
		"terms of another region": {with("[publish.region.north-sound]\nrate = \"1MiB\"\n"), "is not published to region"},
		"terms that a kind lacks": {with("[publish]\nregions = [\"north-sound\"]\n[publish.region.north-sound]\nclass = \"cold\"\n"),
			"knows no class"},
		"registry with a query":    {org("[region.x]\nkind = \"registry\"\nurl = \"https://x.example/a?b\"\n"), "no address of a server"},
		"registry with a password": {org("[region.x]\nkind = \"registry\"\nurl = \"https://a:b@x.example\"\n"), "the url holds a password"},
		"registry in capitals":     {org("[region.x]\nkind = \"registry\"\nurl = \"https://x.example/Golden\"\n"), "no path in a registry"},
		"plain credentials":        {org("[region.x]\nkind = \"registry\"\nurl = \"https://x.example\"\ncredentials = \"pw\"\n"), "no source"},
		"store without a bucket":   {org("[region.x]\nkind = \"s3\"\nurl = \"https://x.example\"\n"), "bucket"},
		"store with a path":        {org("[region.x]\nkind = \"s3\"\nurl = \"https://x.example/b\"\nbucket = \"b\"\n"), "no more than its host"},
		"encryption": {org("[region.x]\nkind = \"s3\"\nurl = \"https://x.example\"\nbucket = \"b\"\nencryption = \"rot13\"\n"),
			"no encryption"},
		"tag rules": {org("[tag.stable]\nneeds = [\"signed\"]\n"),
			`need "signed" is not supported yet; supported are regions, age, from, checks`},
		"catalog's url": {org("[catalog]\nurl = \"mysql://db/x\"\n"),
			"the url is no address of a PostgreSQL database; write postgres://USER@HOST/DATABASE"},
		"catalog's database": {org("[catalog]\nurl = \"postgres://db\"\n"), "the url is no address of a PostgreSQL database"},
		"catalog's password": {org("[catalog]\nurl = \"postgres://u:p@db/x\"\n"),
			"the url holds a password, which anybody who reads the file knows; take it out"},
		"catalog's password in its query": {org("[catalog]\nurl = \"postgres://u@db/x?password=p\"\n"),
			"the url holds a password, which anybody who reads the file knows; take it out"},
		"catalog with an odd sslmode": {org("[catalog]\nurl = \"postgres://u@db/x?sslmode=bogus\"\n"),
			`unknown sslmode "bogus"; choose from disable, allow, prefer`},
		"label with a control character": {with("[labels]\nx = \"a\\u0000b\"\n"), "it holds the control character U+0000; take it out"},
		"catalog's credentials": {org("[catalog]\nurl = \"postgres://db/x\"\ncredentials = \"hunter\"\n"),
			`"hunter" is no source of a value`},
		"catalog without a place": {org("[catalog]\ncredentials = \"env:X\"\n"), "url"},
		"keep":                    {org("[keep]\ntagged = true\n"), "[keep] says nothing; add versions = 5, days = 90, or both"},
		"tag's age":               {org("[tag.stable]\nneeds = [\"age:old\"]\n"), `"age:old" says no age`},
		"tag's origin":            {org("[tag.stable]\nneeds = [\"from:1.2\"]\n"), `"from:1.2" names no tag`},
		"no artifact":             {image(goodImage[:strings.Index(goodImage, "[[artifact]]")]), `image a has no artifact`},
		"wrong tag selector":      {image(strings.Replace(goodImage, `"field-os"`, `"a@@b"`, 1)), `is no base and no reference`},
	} {
		t.Run(name, func(t *testing.T) {
			problems, _ := load(t, c.files)
			require.Contains(t, strings.Join(problems, "\n"), c.want)
			require.Len(t, problems, 1, "one mistake, one problem")
		})
	}
}

func TestAllProblemsAreReportedAtOnceInOrder(t *testing.T) {
	problems, _ := load(t, map[string]string{"images/a.toml": "sumary = 1\nseries = \"x\"\nbase = \"nope\"\n[[stage]]\nnam = " +
		"\"s\"\n[[artifact]]\nformat = \"zip\"\n"})
	require.Len(t, problems, 7, strings.Join(problems, "\n"))
	for i := 1; i < len(problems); i++ {
		require.LessOrEqual(t, problems[i-1][:16], problems[i][:16])
	}
}

func TestReferences(t *testing.T) {
	for text, want := range map[string]definition.Ref{"a": {Image: "a"}, "a@stable": {Image: "a", Selector: "stable"},
		"a-b@2.3": {Image: "a-b", Selector: "2.3"}} {
		ref, err := definition.ParseRef(text)
		require.NoError(t, err)
		require.Equal(t, want, ref)
		require.Equal(t, text, ref.String())
	}
	for _, text := range []string{"", "@x", "a@", "A", "a b", "../a", "a@b@c"} {
		_, err := definition.ParseRef(text)
		require.Error(t, err, text)
	}
	require.Empty(t, definition.CheckTag("stable"))
	require.NotEmpty(t, definition.CheckTag("2.3"))
	require.NotEmpty(t, definition.CheckTag("2.3.1"))
}

// FuzzDefinition reads any text as zygos.toml, as an image and as a shared stage: every problem has
// a place and says what to do, and reading twice finds the same.
func FuzzDefinition(f *testing.F) {
	f.Add(goodOrg + goodImage)
	f.Add("[[stage]]\nname=1\n[[stage.x]]\na.b.c={}\n")
	err := fs.WalkDir(demo.Files, ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(name, ".toml") {
			var text []byte
			if text, err = demo.Files.ReadFile(name); err == nil {
				f.Add(string(text))
			}
		}
		return err
	})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text string) {
		dir := t.TempDir()
		for _, name := range []string{"zygos.toml", "images/a.toml", "stages/clock.toml"} {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		}
		read := func() definition.Problems {
			var problems definition.Problems
			o := definition.ReadOrganisation(dir, app.Kinds(), &problems)
			img := definition.ReadImage(dir, "images/a.toml", definition.ExpectKinds{}, &problems)
			definition.CheckAll(o, []*definition.Image{img}, &problems)
			_ = problems.Err() // sorts them
			return problems
		}
		problems := read()
		for _, p := range problems {
			require.True(t, p.File != "" && p.Line > 0 && p.Column > 0 && p.What != "" && p.Do != "", "%+v", p)
		}
		require.Equal(t, problems, read())
	})
}

func TestSizesDoNotOverflow(t *testing.T) {
	for _, text := range []string{"16777217TiB", "99999999TiB", "16777216TiB", "999999999GiB", "17TiB", "0MiB"} {
		_, what, _ := definition.ParseSize(text)
		require.NotEmpty(t, what, text)
	}
	size, what, _ := definition.ParseSize("16TiB")
	require.Empty(t, what)
	require.EqualValues(t, 16<<40, size)
}
