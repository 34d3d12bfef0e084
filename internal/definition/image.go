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
	Inputs    map[string]string // name -> value
	Stages    []Stage
	Keep      []string // seal groups to leave alone
	Artifacts []Artifact
	Regions   []string
	pos       map[string]Pos // of keys that are checked against other files
}

// Stage is a named, ordered group of steps: first the files, then the scripts.
type Stage struct {
	Name    string
	Pos     Pos
	Shared  string // file of a shared stage, "" for one written in the image
	Files   []File
	Scripts []Script
	Env     []EnvVar
	User    string
	Dir     string
	Timeout time.Duration
	Network bool // reach the host's network
}

// File is a file that a stage copies into the image.
type File struct {
	From  string // relative to the workspace
	To    string // absolute path in the image
	Mode  uint32
	Owner string
}

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
	Format string
	Size   int64 // bytes, of a disk; 0 for the smallest plus a margin
}

// SealGroups are the names that [seal] keep may use.
var SealGroups = []string{"identity", "ssh-host-keys", "logs", "history", "package-caches", "temporary", "random-seed", "leases"}

// reader reads one image's files.
type reader struct {
	root     string
	image    *Image
	problems *Problems
}

// ReadImage reads images/NAME.toml and the shared stages it uses; root is the workspace's folder.
func ReadImage(root, file string, problems *Problems) *Image {
	name := strings.TrimSuffix(path.Base(file), ".toml")
	img := &Image{Name: name, File: file, Labels: map[string]string{}, Inputs: map[string]string{}, pos: map[string]Pos{}}
	r := reader{root: root, image: img, problems: problems}
	problems.name("an image (it is the file's name)", name, Pos{file, 1, 1})
	t := r.parse(file, Pos{file, 1, 1})
	if t == nil {
		return img
	}
	img.Summary, _ = t.text("summary")
	r.numbers(t)
	img.Base, img.BasePos = t.textMust("base", "a base of zygos.toml, or an image")
	r.inputs(t)
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
	t.later("variant", "check")
	t.done()
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

func (r *reader) inputs(t *table) {
	for _, e := range t.named("input") {
		e.table.later("secret", "from")
		e.table.text("help")
		text, _ := e.table.text("default")
		if e.table.find("default") == nil && e.table.find("secret") == nil {
			r.problems.add(e.pos, fmt.Sprintf("input %q has no default, and setting one for a build is not supported yet", e.name), `add default = "…"`)
		}
		r.image.Inputs[e.name] = text
		e.table.done()
	}
}

// stage reads one [[stage]]: a shared one, or one written out.
func (r *reader) stage(t *table) {
	use, at := t.text("use")
	if use == "" {
		r.addStage(t, "")
		return
	}
	for _, e := range t.entries {
		if e.name != "use" {
			e.read = true
			r.problems.add(e.pos, fmt.Sprintf("%q beside \"use\": a shared stage is used as it is", e.name), "take it out, or write the stage here without use")
		}
	}
	if !r.inside(use, at) || !r.isFile(use, at) {
		return
	}
	if shared := r.parse(use, at); shared != nil {
		shared.name = "[stage]"
		r.addStage(shared, use)
	}
}

var envForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`) })

func (r *reader) addStage(t *table, shared string) {
	s := Stage{Pos: t.pos, Shared: shared, Network: true}
	var at Pos
	s.Name, at = t.textMust("name", "setup")
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
	t.later("secrets", "retries", "refresh", "only")
	t.done()
	r.image.Stages = append(r.image.Stages, s)
}

func (r *reader) file(s *Stage, t *table) {
	from, at := t.textMust("from", "files/NAME")
	to, toAt := t.textMust("to", "/path/in/the/image")
	f := File{From: from, To: r.expandable(to, toAt)}
	if to != "" && (!path.IsAbs(to) || strings.HasSuffix(to, "/")) {
		r.problems.add(toAt, fmt.Sprintf("%q is no file in the image", to), "write the whole path of the file, from '/'")
	}
	owner, ownerAt := t.text("owner")
	if owner == "" {
		owner = "root:root"
	}
	f.Owner = r.expandable(owner, ownerAt)
	mode, modeAt := t.text("mode")
	if mode != "" {
		n, err := strconv.ParseUint(mode, 8, 32)
		if err != nil || n > 0o7777 {
			r.problems.add(modeAt, fmt.Sprintf("%q is no mode", mode), `write octal digits, for instance "0640"`)
		}
		f.Mode = uint32(n)
	}
	t.done()
	if from == "" || !r.inside(from, at) || !r.isFile(from, at) {
		return
	}
	if mode == "" {
		f.Mode = 0o644
		if info, err := os.Stat(filepath.Join(r.root, from)); err == nil && info.Mode()&0o100 != 0 {
			f.Mode = 0o755
		}
	}
	s.Files = append(s.Files, f)
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
		r.problems.add(at, fmt.Sprintf("%q is no regular file", name), "name single files; folders are not supported yet")
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
	t.later("only")
	t.done()
	if slices.ContainsFunc(r.image.Artifacts, func(o Artifact) bool { return o.Format == format }) {
		r.problems.add(at, fmt.Sprintf("a second artifact has the format %q", format), "keep one of each format")
		return
	}
	if ok {
		r.image.Artifacts = append(r.image.Artifacts, a)
	}
}

var placeholder = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$\{([^}]*)\}`) })

// expandable checks the ${…} in a text and returns the text.
func (r *reader) expandable(text string, at Pos) string {
	known := []string{"image", "version", "build"}
	for name := range r.image.Inputs {
		known = append(known, "input."+name)
	}
	slices.Sort(known)
	for _, m := range placeholder().FindAllStringSubmatch(text, -1) {
		if m[1] == "variant" {
			r.problems.add(at, `"${variant}" is not supported yet`, "take it out for now")
		} else if !slices.Contains(known, m[1]) {
			r.problems.add(at, fmt.Sprintf("%q refers to nothing", m[0]), suggest(m[1], known, "known are "+strings.Join(known, ", ")))
		}
	}
	return text
}

// Expand replaces ${…} by values: image, version, build, input.NAME.
func Expand(text string, values map[string]string) string {
	return placeholder().ReplaceAllStringFunc(text, func(m string) string { return values[m[2:len(m)-1]] })
}
