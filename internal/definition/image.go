package definition

import (
	"cmp"
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

	"zygos/internal/artifact"
	"zygos/internal/seal"
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
	Retention *Retention
	Artifacts []Artifact
	Regions   []string
	Terms     map[string]Terms // by region, what differs there
	Checks    []Check
	// FirstBoots are in the order in which they run.
	FirstBoots []FirstBoot
	pos        map[string]Pos  // of keys that are checked against other files
	asked      map[string]said // by region, of what differs there
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

// Artifact is a file to capture from a build.
type Artifact struct {
	Name   string        `json:"name,omitempty"` // "" for the format
	Format string        `json:"format"`
	Size   int64         `json:"bytes,omitempty"` // of a disk; 0 for the smallest plus a margin
	Only   []string      `json:"only,omitempty"`  // variants; empty for all
	Says   artifact.Says `json:"says,omitempty"`  // all else, by option of the format
	At     Pos           `json:"-"`               // of the size
}

// Called is the name, which is unique among the artifacts of a variant.
func (a *Artifact) Called() string { return cmp.Or(a.Name, a.Format) }

// In says whether the artifact belongs to a variant.
func (a *Artifact) In(variant string) bool {
	return len(a.Only) == 0 || slices.Contains(a.Only, variant)
}

// Boots says whether it is a disk that can be started here.
func (a *Artifact) Boots() bool {
	f := artifact.Find(a.Format)
	return f != nil && f.QEMU != "" && a.Says["boot"] != "" && a.Says["boot"] != "none"
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

// reader reads one image's files.
type reader struct {
	root     string
	image    *Image
	problems *Problems
	scope    *Stage          // the shared stage being read, nil for the image
	stages   map[string]bool // names that were met
	checked  map[string]bool // names of checks
	kinds    ExpectKinds
}

func (r *reader) knownInputs() []Input {
	if r.scope != nil {
		return r.scope.Inputs
	}
	return r.image.Inputs
}

// ReadImage reads images/NAME.toml and the shared stages it uses; root is the workspace's folder.
func ReadImage(root, file string, kinds ExpectKinds, problems *Problems) *Image {
	name := strings.TrimSuffix(path.Base(file), ".toml")
	img := &Image{Name: name, File: file, Labels: map[string]string{}, pos: map[string]Pos{}}
	r := reader{root: root, image: img, problems: problems, stages: map[string]bool{}, checked: map[string]bool{},
		kinds: kinds}
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
	for _, l := range t.labels() {
		img.Labels[l.name] = r.expandable(l.text, l.pos)
	}
	for _, s := range t.tables("stage") {
		r.stage(s)
	}
	if group := t.sub("seal"); group != nil {
		for _, k := range group.texts("keep") {
			if problems.oneOf("seal group", k.text, k.pos, seal.Names(), nil) {
				img.Keep = append(img.Keep, k.text)
			}
		}
		group.done()
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
		for _, e := range p.named("region") {
			terms, asked := readTerms(e.table, artifact.Names(), Abilities)
			e.table.done()
			if img.Terms == nil {
				img.Terms, img.asked = map[string]Terms{}, map[string]said{}
			}
			img.Terms[e.name], img.asked[e.name], img.pos["terms "+e.name] = terms, asked, e.pos
		}
		p.done()
	}
	if keep := t.sub("keep"); keep != nil {
		retention := readRetention(keep)
		img.Retention = &retention
	}
	r.firstBoots(t)
	r.checks(t, nil, "")
	t.done()
	for _, v := range img.VariantNames() {
		if len(img.Artifacts) > 0 && v != "" && !slices.ContainsFunc(img.Artifacts, func(a Artifact) bool { return a.In(v) }) {
			problems.add(img.pos["variant "+v], fmt.Sprintf("variant %q has no artifact", v),
				"add [[artifact]] for it, or name it in an artifact's only")
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

// source checks where a value is to come from.
func (p *Problems) source(from string, at Pos) {
	kind, rest, _ := strings.Cut(from, ":")
	if (kind != "env" && kind != "file" && kind != "command") || rest == "" {
		p.add(at, fmt.Sprintf("%q is no source of a value", from), `write "env:NAME", "file:PATH" or "command:COMMAND"`)
	}
}

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
			r.problems.source(in.From, at)
		}
		if in.Secret && !in.Required {
			r.problems.add(e.table.find("default").pos,
				fmt.Sprintf("the secret %q has a default, which anybody who reads the definition knows", e.name),
				`take it out, and say from = "env:NAME"`)
		}
		if in.Secret && in.From == "" && e.table.find("from") == nil {
			r.problems.add(e.pos, fmt.Sprintf("the secret %q does not say where its value comes from", e.name),
				`add from = "env:NAME", "file:PATH" or "command:COMMAND"`)
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
			r.problems.add(v.pos, fmt.Sprintf("%q is a secret and takes no value from a definition", v.name),
				"say where it comes from in [input."+v.name+"] from")
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
		for _, l := range e.table.labels() {
			v.Labels[l.name] = r.expandable(l.text, l.pos)
		}
		e.table.done()
		r.image.Variants = append(r.image.Variants, v)
		r.image.pos["variant "+e.name] = e.pos
	}
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
		f, err := os.Open(filepath.Join(r.root, name))
		if err != nil {
			r.problems.add(at, fmt.Sprintf("%q cannot be read: %v", name, cause(err)), "make the file readable for whoever builds")
			return false
		}
		f.Close()
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
	r.problems.add(at, fmt.Sprintf("%q does not exist", name),
		suggest(name, known, "correct the path, which is relative to the folder of zygos.toml"))
	return false
}

func (r *reader) artifact(t *table) {
	a := Artifact{}
	word, at := t.textMust("format", "tar")
	ok := word != "" && r.problems.oneOf("format", word, at, artifact.Names(), nil)
	a.Format = word
	if name, pos := t.text("name"); name != "" {
		r.problems.name("an artifact", name, pos)
		if at = pos; name != word {
			a.Name = name
		}
	}
	format := artifact.Find(word)
	for _, o := range artifact.AllOptions() {
		e := t.find(o.Name)
		if format != nil { // several formats may have an option of one name, with other words
			if i := slices.IndexFunc(format.Options, func(own *artifact.Option) bool { return own.Name == o.Name }); i >= 0 {
				o = format.Options[i]
			} else if e != nil {
				r.problems.add(e.pos, fmt.Sprintf("an artifact of the format %s has no %s of its own", word, o.Name),
					fmt.Sprintf("take %s out, or use one of the formats %s", o.Name, strings.Join(artifact.Taking(o.Name), ", ")))
			}
		}
		value := r.option(t, o)
		switch {
		case value == "":
		case o.Name == "size":
			a.At = e.pos
			a.Size, _ = strconv.ParseInt(value, 10, 64) // it was one
		default:
			if a.Says == nil {
				a.Says = artifact.Says{}
			}
			a.Says[o.Name] = value
		}
	}
	if format != nil {
		for _, o := range format.Options {
			if o.Needs != "" && a.Says[o.Name] != "" && slices.Contains([]string{"", "none"}, a.Says[o.Needs]) {
				r.problems.add(t.find(o.Name).pos, fmt.Sprintf("%s says nothing about a disk that does not boot", o.Name),
					"add boot = \"uefi\", or take it out")
			}
		}
	}
	a.Only = r.only(t)
	t.done()
	for _, v := range r.image.VariantNames() {
		if a.In(v) && slices.ContainsFunc(r.image.Artifacts, func(o Artifact) bool { return o.Called() == a.Called() && o.In(v) }) {
			r.problems.add(at, strings.TrimSuffix(fmt.Sprintf("a second artifact is called %q, variant %s", a.Called(), v), ", variant "),
				`tell them apart: name = "…"`)
			return
		}
	}
	if ok {
		r.image.Artifacts = append(r.image.Artifacts, a)
	}
}

// option reads what a definition says of an artifact, in the form in which it is kept; "" for nothing, or the default.
func (r *reader) option(t *table, o *artifact.Option) string {
	number := func(n int64) string {
		if n == 0 {
			return ""
		}
		return strconv.FormatInt(n, 10)
	}
	switch o.Is {
	case artifact.Bytes:
		return number(t.size(o.Name))
	case artifact.Count:
		return number(t.count(o.Name, 1))
	case artifact.Parts:
		return r.partitions(t, o.Name)
	case artifact.Span:
		if d := t.duration(o.Name); d > 0 {
			return d.String()
		}
		return ""
	}
	text, at := t.text(o.Name)
	switch {
	case text == "":
	case o.Is == artifact.Word:
		if !r.problems.oneOf(o.Name, text, at, o.Words, nil) || (text == o.Words[0] && !o.Open) {
			return ""
		}
	case strings.ContainsAny(text, "\n\x00"):
		r.problems.add(at, o.Name+" is one line", "take the line break out")
	}
	return text
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
			r.problems.add(at, fmt.Sprintf("%q would write a secret into a text that is stored", m[0]),
				fmt.Sprintf("name it in the stage's secrets; scripts read $%s", in.Variable()))
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
