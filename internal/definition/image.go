package definition

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Image is what images/NAME.toml says.
type Image struct {
	Name      string
	File      string // relative to the workspace
	Summary   string
	Series    string // MAJOR.MINOR, or empty if Version is set
	Version   string
	Base      string // name of a base, or a reference to an image
	BasePos   Pos
	Labels    map[string]string
	Inputs    []Input   // in order of appearance
	Variants  []Variant // in order of appearance; none for an image of one shape
	Stages    []Stage
	Limits    Limits
	Keep      []string // seal groups to leave alone
	Artifacts []Artifact
	Regions   []string
	pos       map[string]Pos // of keys that are checked against other files
}

// Input is a value that a definition or a shared stage takes.
type Input struct {
	Name     string
	Help     string
	Default  string
	Required bool   // without a default
	Secret   bool   // never stored
	From     string // env:NAME, file:PATH or command:…; "" for none
	Pos      Pos
}

// Variable is the name of the environment variable that a secret arrives in.
func (in *Input) Variable() string { return strings.ToUpper(strings.ReplaceAll(in.Name, "-", "_")) }

// Variant is one of several shapes that a definition yields.
type Variant struct {
	Name   string
	Inputs map[string]string
	Labels map[string]string
	Pos    Pos
}

// Limits bound what the machine of each stage may use; 0 for no limit.
type Limits struct {
	Memory    int64   `json:"memory,omitempty"` // bytes
	Processes int64   `json:"processes,omitempty"`
	CPU       float64 `json:"cpu,omitempty"` // processors
}

// Stage is a named, ordered group of steps: first the files, then the scripts.
type Stage struct {
	Name    string
	Pos     Pos
	Shared  string            // file of a shared stage, "" for one written in the image
	Inputs  []Input           // of a shared stage, its own
	Given   map[string]string // values for them; may hold ${…} of the image
	Files   []File
	Scripts []Script
	Env     []EnvVar
	Secrets []Input
	User    string
	Dir     string
	Timeout time.Duration
	Retries int
	Refresh time.Duration // older snapshots are not reused; 0 for any age
	Network bool          // reach the host's network
	Restart bool          // the machine restarts after the scripts
	Only    []string      // variants; empty for all
	Bring   []string      // paths in the image that are brought out after the stage
}

// In says whether the stage belongs to a variant.
func (s *Stage) In(variant string) bool { return len(s.Only) == 0 || slices.Contains(s.Only, variant) }

// File is a file, a folder or a group of files that a stage copies into the image.
type File struct {
	From  string // relative to the workspace: a file, a folder or a pattern
	To    string // absolute path in the image; of a folder or a pattern, the folder there
	Mode  int    // of files, -1 to take 0755 for executable ones and else 0644
	Owner string
	Pos   Pos
}

// IsPattern says whether a path names files by a pattern.
func IsPattern(from string) bool { return strings.ContainsAny(from, "*?[") }

// Script is run in the image: a file of the workspace, or a text written in the definition.
type Script struct {
	Path   string // relative to the workspace, "" for an inline script
	Inline string
	Pos    Pos
}

// EnvVar is a variable of a stage's scripts; Value may hold ${…}.
type EnvVar struct{ Name, Value string }

// Artifact is a file to capture from a build.
type Artifact struct {
	Format string   `json:"format"`
	Size   int64    `json:"bytes,omitempty"` // of a disk; 0 for the smallest plus a margin
	Only   []string `json:"only,omitempty"`  // variants; empty for all
}

// In says whether the artifact belongs to a variant.
func (a *Artifact) In(variant string) bool {
	return len(a.Only) == 0 || slices.Contains(a.Only, variant)
}

// VariantNames lists the variants, or one without a name.
func (img *Image) VariantNames() []string {
	if len(img.Variants) == 0 {
		return []string{""}
	}
	names := make([]string, len(img.Variants))
	for i := range img.Variants {
		names[i] = img.Variants[i].Name
	}
	return names
}

// SealGroups are the names that [seal] keep may use.
var SealGroups = []string{"identity", "ssh-host-keys", "logs", "history", "package-caches", "temporary", "random-seed", "leases"}

// reader reads one image's files.
type reader struct {
	root     string
	image    *Image
	problems *Problems
	scope    *Stage // the shared stage being read, nil for the image
}

func (r *reader) knownInputs() []Input {
	if r.scope != nil {
		return r.scope.Inputs
	}
	return r.image.Inputs
}

// ReadImage reads images/NAME.toml and the shared stages it uses; root is the workspace's folder.
func ReadImage(root, file string, problems *Problems) *Image {
	name := strings.TrimSuffix(path.Base(file), ".toml")
	img := &Image{Name: name, File: file, Labels: map[string]string{}, pos: map[string]Pos{}}
	r := reader{root: root, image: img, problems: problems}
	problems.name("an image (it is the file's name)", name, Pos{file, 1, 1})
	t := r.parse(file, Pos{file, 1, 1})
	if t == nil {
		return img
	}
	img.Summary, _ = t.text("summary")
	r.numbers(t)
	img.Base, img.BasePos = t.textMust("base", "a base of zygos.toml, or an image")
	img.Inputs = r.inputs(t)
	r.variants(t)
	for _, l := range t.textMap("labels") {
		img.Labels[l.name] = r.expandable(l.text, l.pos)
	}
	for _, s := range t.tables("stage") {
		r.stage(s)
	}
	if seal := t.sub("seal"); seal != nil {
		for _, k := range seal.texts("keep") {
			if problems.oneOf("seal group", k.text, k.pos, SealGroups, nil) {
				img.Keep = append(img.Keep, k.text)
			}
		}
		seal.done()
	}
	for _, a := range t.tables("artifact") {
		r.artifact(a)
	}
	if l := t.sub("limits"); l != nil {
		img.Limits = Limits{Memory: l.size("memory"), Processes: l.count("processes", 1), CPU: l.fraction("cpu")}
		l.done()
	}
	if len(img.Artifacts) == 0 && t.find("artifact") == nil {
		problems.add(t.pos, fmt.Sprintf("image %s has no artifact", name), `add [[artifact]] with format = "tar"`)
	}
	if p := t.sub("publish"); p != nil {
		for _, region := range p.texts("regions") {
			img.Regions = append(img.Regions, region.text)
			img.pos["region "+region.text] = region.pos
		}
		p.done()
	}
	t.later("check")
	t.done()
	for _, v := range img.VariantNames() {
		if len(img.Artifacts) > 0 && v != "" && !slices.ContainsFunc(img.Artifacts, func(a Artifact) bool { return a.In(v) }) {
			problems.add(img.pos["variant "+v], fmt.Sprintf("variant %q has no artifact", v), "add [[artifact]] for it, or name it in an artifact's only")
		}
	}
	return img
}

func (r *reader) parse(file string, at Pos) *table {
	text, err := os.ReadFile(filepath.Join(r.root, file))
	if err != nil {
		r.problems.add(at, fmt.Sprintf("%s cannot be read: %v", file, cause(err)), "correct the path or make the file readable")
		return nil
	}
	return parse(file, text, r.problems)
}

// cause is an error without the path, which is named beside it anyway.
func cause(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

// numbers reads series or version.
func (r *reader) numbers(t *table) {
	series, seriesAt := t.text("series")
	version, versionAt := t.text("version")
	r.image.Series, r.image.Version = series, version
	_, _, isSeries := ParseSeries(series)
	_, isVersion := ParseVersion(version)
	switch {
	case series != "" && version != "":
		r.problems.add(versionAt, `both "series" and "version" are set`, "keep series to take the next free number, or version for exactly one")
	case series == "" && version == "":
		r.problems.add(t.pos, `neither "series" nor "version" is set`, `add series = "1.0"; builds become 1.0.0, 1.0.1 and so on`)
	case series != "" && !isSeries:
		r.problems.add(seriesAt, fmt.Sprintf("%q is no series", series), `write MAJOR.MINOR, for instance "2.3"`)
	case version != "" && !isVersion:
		r.problems.add(versionAt, fmt.Sprintf("%q is no version", version), `write MAJOR.MINOR.PATCH, for instance "2.4.0"`)
	}
}

var inputForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z][a-z0-9_-]{0,62}$`) })

// inputs reads the inputs of an image or a shared stage.
func (r *reader) inputs(t *table) (list []Input) {
	for _, e := range t.named("input") {
		in := Input{Name: e.name, Pos: e.pos}
		if !inputForm().MatchString(e.name) {
			r.problems.add(e.pos, fmt.Sprintf("%q is no name for an input", e.name), "use lower-case letters, digits, '_' and '-', a letter first")
		}
		in.Secret = e.table.flag("secret")
		in.Help, _ = e.table.text("help")
		in.Default, _ = e.table.text("default")
		in.Required = e.table.find("default") == nil
		var at Pos
		if in.From, at = e.table.text("from"); in.From != "" {
			kind, rest, _ := strings.Cut(in.From, ":")
			if (kind != "env" && kind != "file" && kind != "command") || rest == "" {
				r.problems.add(at, fmt.Sprintf("%q is no source of a value", in.From), `write "env:NAME", "file:PATH" or "command:COMMAND"`)
			}
		}
		if in.Secret && !in.Required {
			r.problems.add(e.table.find("default").pos, fmt.Sprintf("the secret %q has a default, which anybody who reads the definition knows", e.name), `take it out, and say from = "env:NAME"`)
		}
		if in.Secret && in.From == "" && e.table.find("from") == nil {
			r.problems.add(e.pos, fmt.Sprintf("the secret %q does not say where its value comes from", e.name), `add from = "env:NAME", "file:PATH" or "command:COMMAND"`)
		}
		e.table.done()
		list = append(list, in)
	}
	return list
}

func findInput(list []Input, name string) *Input {
	for i := range list {
		if list[i].Name == name {
			return &list[i]
		}
	}
	return nil
}

func inputNames(list []Input) []string {
	names := make([]string, len(list))
	for i := range list {
		names[i] = list[i].Name
	}
	return names
}

// given reads values for inputs that are known.
func (r *reader) given(t *table, inputs []Input) map[string]string {
	values := map[string]string{}
	for _, v := range t.textMap("inputs") {
		if in := findInput(inputs, v.name); in == nil {
			r.problems.add(v.pos, fmt.Sprintf("there is no input %q", v.name), suggest(v.name, inputNames(inputs), "add [input."+v.name+"]"))
		} else if in.Secret {
			r.problems.add(v.pos, fmt.Sprintf("%q is a secret and takes no value from a definition", v.name), "say where it comes from in [input."+v.name+"] from")
		}
		values[v.name] = r.expandable(v.text, v.pos)
	}
	return values
}

func (r *reader) variants(t *table) {
	for _, e := range t.named("variant") {
		v := Variant{Name: e.name, Pos: e.pos, Labels: map[string]string{}}
		r.problems.name("a variant", e.name, e.pos)
		v.Inputs = r.given(e.table, r.image.Inputs)
		for _, l := range e.table.textMap("labels") {
			v.Labels[l.name] = r.expandable(l.text, l.pos)
		}
		e.table.done()
		r.image.Variants = append(r.image.Variants, v)
		r.image.pos["variant "+e.name] = e.pos
	}
}

// only reads the variants that a stage or an artifact belongs to.
func (r *reader) only(t *table) (list []string) {
	known := r.image.VariantNames()
	for _, v := range t.texts("only") {
		switch {
		case len(r.image.Variants) == 0:
			r.problems.add(v.pos, fmt.Sprintf("%s has no variants", r.image.File), "add [variant."+v.text+"], or take only out")
		case !slices.Contains(known, v.text):
			r.problems.add(v.pos, fmt.Sprintf("there is no variant %q", v.text), suggest(v.text, known, "variants are "+strings.Join(known, ", ")))
		}
		list = append(list, v.text)
	}
	return list
}

// stage reads one [[stage]]: a shared one, or one written out.
func (r *reader) stage(t *table) {
	use, at := t.text("use")
	if use == "" {
		r.addStage(t, nil, "")
		return
	}
	for _, e := range t.entries {
		switch e.name {
		case "use", "name", "inputs", "only":
		default:
			e.read = true
			r.problems.add(e.pos, fmt.Sprintf("%q beside \"use\": of a shared stage only name, inputs and only may be said here", e.name), "take it out, or write the stage here without use")
		}
	}
	if !r.inside(use, at) || !r.isFile(use, at) {
		t.ask("name")
		t.ask("inputs")
		t.ask("only")
		t.done()
		return
	}
	if shared := r.parse(use, at); shared != nil {
		shared.name = "[stage]"
		r.addStage(shared, t, use)
	}
}

var envForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`) })

// addStage reads a stage; of a shared one, user is the table that says use.
func (r *reader) addStage(t, user *table, shared string) {
	s := Stage{Pos: t.pos, Shared: shared, Network: true}
	var at Pos
	s.Name, at = t.textMust("name", "setup")
	if shared != "" {
		s.Pos = user.pos
		s.Inputs = r.inputs(t)
		s.Given = r.given(user, s.Inputs)
		s.Only = r.only(user)
		if name, nameAt := user.text("name"); name != "" {
			s.Name, at = name, nameAt
		}
		user.done()
		t.ask("use")
		if e := t.find("only"); e != nil {
			t.ask("only")
			r.problems.add(e.pos, "a shared stage knows no variants", "write only beside use, in the image")
		}
		// What the shared file says is about its own inputs.
		r = &reader{root: r.root, image: r.image, problems: r.problems, scope: &s}
	} else {
		s.Only = r.only(t)
	}
	if s.Name != "" {
		r.problems.name("a stage", s.Name, at)
		if slices.ContainsFunc(r.image.Stages, func(o Stage) bool { return o.Name == s.Name }) {
			r.problems.add(at, fmt.Sprintf("a second stage is named %q in %s", s.Name, r.image.File), "give each stage a name of its own")
		}
	}
	for _, f := range t.tables("files") {
		r.file(&s, f)
	}
	for _, script := range t.texts("scripts") {
		if r.inside(script.text, script.pos) && r.isFile(script.text, script.pos) {
			s.Scripts = append(s.Scripts, Script{Path: script.text, Pos: script.pos})
		}
	}
	if inline, at := t.text("inline"); inline != "" {
		s.Scripts = append(s.Scripts, Script{Inline: inline, Pos: at})
		if t.find("scripts") != nil {
			r.problems.add(at, `a stage has either "scripts" or "inline"`, "move the inline text into a script file, or into a stage of its own")
		}
	}
	if t.find("files") == nil && t.find("scripts") == nil && t.find("inline") == nil {
		r.problems.add(t.pos, fmt.Sprintf("stage %q does nothing", s.Name), "give it files, scripts or inline")
	}
	for _, v := range t.textMap("env") {
		if !envForm().MatchString(v.name) || strings.HasPrefix(v.name, "ZYGOS_") {
			r.problems.add(v.pos, fmt.Sprintf("%q cannot be set as a variable", v.name), "use letters, digits and '_', and no ZYGOS_ in front, which Zygos sets itself")
		}
		s.Env = append(s.Env, EnvVar{v.name, r.expandable(v.text, v.pos)})
	}
	s.User, _ = t.text("user")
	if s.Dir, at = t.text("dir"); s.Dir != "" && !path.IsAbs(s.Dir) {
		r.problems.add(at, fmt.Sprintf("working directory %q is not absolute", s.Dir), "start it with '/'; it is a path in the image")
	}
	s.Timeout = t.duration("timeout")
	if network, at := t.text("network"); network != "" {
		r.problems.oneOf("network", network, at, []string{"none", "host"}, nil)
		s.Network = network != "none"
	}
	s.Retries = int(min(t.count("retries", 0), 1000))
	s.Refresh = t.duration("refresh")
	s.Restart = t.flag("restart")
	r.secrets(t, &s)
	for _, b := range t.texts("bring") {
		p := path.Clean(b.text)
		if !path.IsAbs(b.text) || p == "/" {
			r.problems.add(b.pos, fmt.Sprintf("%q is no file or folder in the image", b.text), "write its whole path, from '/'")
		} else if top, _, _ := strings.Cut(p[1:], "/"); slices.Contains([]string{"tmp", "run", "proc", "dev"}, top) {
			r.problems.add(b.pos, fmt.Sprintf("%q is gone when the stage ends", b.text), "write it to another folder of the image")
		}
		s.Bring = append(s.Bring, p)
	}
	t.done()
	r.image.Stages = append(r.image.Stages, s)
}

// secrets reads which secrets a stage gets: its own, or the image's.
func (r *reader) secrets(t *table, s *Stage) {
	known := slices.Concat(r.image.Inputs, s.Inputs)
	for _, name := range t.texts("secrets") {
		in := findInput(s.Inputs, name.text)
		if in == nil {
			in = findInput(r.image.Inputs, name.text)
		}
		switch {
		case in == nil:
			r.problems.add(name.pos, fmt.Sprintf("there is no secret %q", name.text), suggest(name.text, inputNames(known), fmt.Sprintf(`add [input.%s] with secret = true and from = "env:NAME"`, name.text)))
		case !in.Secret:
			r.problems.add(name.pos, fmt.Sprintf("input %q is no secret", name.text), fmt.Sprintf("add secret = true to [input.%s], or pass it by env", name.text))
		case slices.ContainsFunc(s.Env, func(v EnvVar) bool { return v.Name == in.Variable() }):
			r.problems.add(name.pos, fmt.Sprintf("the secret %q arrives in the variable %s, which env sets too", name.text, in.Variable()), "rename one of them")
		default:
			s.Secrets = append(s.Secrets, *in)
		}
	}
}

func (r *reader) file(s *Stage, t *table) {
	from, at := t.textMust("from", "files/NAME")
	to, toAt := t.textMust("to", "/path/in/the/image")
	f := File{From: from, To: r.expandable(to, toAt), Mode: -1, Pos: at}
	if to != "" && !path.IsAbs(to) {
		r.problems.add(toAt, fmt.Sprintf("%q is no path in the image", to), "write the whole path, from '/'")
	}
	owner, ownerAt := t.text("owner")
	if owner == "" {
		owner = "root:root"
	}
	f.Owner = r.expandable(owner, ownerAt)
	if mode, modeAt := t.text("mode"); mode != "" {
		n, err := strconv.ParseUint(mode, 8, 32)
		if err != nil || n > 0o7777 {
			r.problems.add(modeAt, fmt.Sprintf("%q is no mode", mode), `write octal digits, for instance "0640"`)
		}
		f.Mode = int(n)
	}
	t.done()
	if from == "" || !r.inside(from, at) {
		return
	}
	if IsPattern(from) {
		found, err := filepath.Glob(filepath.Join(escapeGlob(r.root), from))
		if err != nil {
			r.problems.add(at, fmt.Sprintf("%q is no pattern: %v", from, err), "write for instance \"files/*.conf\"")
		} else if len(found) == 0 {
			r.problems.add(at, fmt.Sprintf("no file matches %q", from), "correct the pattern, which is relative to the folder of zygos.toml")
		}
	} else if info, err := os.Stat(filepath.Join(r.root, from)); (err != nil || !info.IsDir()) && !r.isFile(from, at) {
		return
	}
	s.Files = append(s.Files, f)
}

func escapeGlob(p string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(p)
}

// inside refuses paths that leave the workspace.
func (r *reader) inside(name string, at Pos) bool {
	if filepath.IsLocal(name) {
		return true
	}
	r.problems.add(at, fmt.Sprintf("%q is not in the workspace", name), "use a path relative to the folder of zygos.toml, without '..'")
	return false
}

func (r *reader) isFile(name string, at Pos) bool {
	info, err := os.Stat(filepath.Join(r.root, name))
	if err == nil && info.Mode().IsRegular() {
		return true
	}
	if err == nil {
		r.problems.add(at, fmt.Sprintf("%q is no regular file", name), "name a file")
		return false
	}
	known, _ := filepath.Glob(filepath.Join(r.root, filepath.Dir(name), "*")) // the pattern's form is known
	for i := range known {
		known[i], _ = filepath.Rel(r.root, known[i]) // both are absolute
	}
	r.problems.add(at, fmt.Sprintf("%q does not exist", name), suggest(name, known, "correct the path, which is relative to the folder of zygos.toml"))
	return false
}

func (r *reader) artifact(t *table) {
	a := Artifact{}
	format, at := t.textMust("format", "tar")
	ok := format != "" && r.problems.oneOf("format", format, at, formatsNow, formatsLater)
	a.Format = format
	a.Size = t.size("size")
	if e := t.find("size"); e != nil && format == "tar" {
		r.problems.add(e.pos, "an archive has no size of its own", "take size out, or use format = \"raw\"")
	}
	if boot, at := t.text("boot"); boot != "" {
		r.problems.oneOf("boot", boot, at, []string{"none"}, []string{"uefi"})
	}
	a.Only = r.only(t)
	t.done()
	for _, v := range r.image.VariantNames() {
		if a.In(v) && slices.ContainsFunc(r.image.Artifacts, func(o Artifact) bool { return o.Format == format && o.In(v) }) {
			r.problems.add(at, strings.TrimSuffix(fmt.Sprintf("a second artifact has the format %q, variant %s", format, v), ", variant "), "keep one of each format")
			return
		}
	}
	if ok {
		r.image.Artifacts = append(r.image.Artifacts, a)
	}
}

var placeholder = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$\{([^}]*)\}`) })

// expandable checks the ${…} in a text and returns the text.
func (r *reader) expandable(text string, at Pos) string {
	known := []string{"image", "version", "variant", "build"}
	for _, in := range r.knownInputs() {
		if !in.Secret {
			known = append(known, "input."+in.Name)
		}
	}
	slices.Sort(known)
	for _, m := range placeholder().FindAllStringSubmatch(text, -1) {
		name := strings.TrimPrefix(m[1], "input.")
		if in := findInput(r.knownInputs(), name); in != nil && in.Secret && name != m[1] {
			r.problems.add(at, fmt.Sprintf("%q would write a secret into a text that is stored", m[0]), fmt.Sprintf("name it in the stage's secrets; scripts read $%s", in.Variable()))
		} else if !slices.Contains(known, m[1]) {
			do := suggest(m[1], known, "known are "+strings.Join(known, ", "))
			if r.scope != nil && name != m[1] && findInput(r.image.Inputs, name) != nil {
				do = fmt.Sprintf("a shared stage has inputs of its own: add [input.%s] to it, and inputs = { %s = %q } beside use", name, name, m[0])
			}
			r.problems.add(at, fmt.Sprintf("%q refers to nothing", m[0]), do)
		}
	}
	return text
}

// Expand replaces ${…} by values: image, version, variant, build, input.NAME.
func Expand(text string, values map[string]string) string {
	return placeholder().ReplaceAllStringFunc(text, func(m string) string { return values[m[2:len(m)-1]] })
}
