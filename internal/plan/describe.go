package plan

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"zygos/internal/definition"
	"zygos/internal/plain"
	"zygos/internal/secret"
)

// Item is one file, folder or link that a step copies.
type Item struct {
	Source string `json:"source,omitempty"` // in the workspace
	To     string `json:"to"`
	Mode   string `json:"mode"`             // octal
	Digest string `json:"sha256,omitempty"` // of a file
	Link   string `json:"link,omitempty"`   // target of a link
	Dir    bool   `json:"dir,omitempty"`
}

// InputError says that an input has no value, or one that cannot be.
type InputError struct{ What, Do string }

func (e *InputError) Error() string { return e.What + "; " + e.Do }

// content is what a plan needs to know of a file.
type content struct {
	digest string
	names  string // variables that it mentions
	mode   fs.FileMode
}

// describer turns a definition's stages into a plan's, with ${…} replaced by values.
type describer struct {
	ctx     context.Context
	root    string
	img     *definition.Image
	plan    *Plan
	options Options
	known   Known
	files   map[string]content
	values  map[string]string // of inputs, by where they come from
	key     []byte            // of the marks
	seen    map[Source]bool   // in the plan's sources
}

func (d *describer) describe(version, build string) error {
	p := d.plan
	p.Labels, p.Inputs, p.Sources, d.seen = map[string]string{}, map[string]string{}, nil, map[Source]bool{}
	if err := d.source(d.img.File); err != nil {
		return err
	}
	for i := range p.Shapes {
		shape := &p.Shapes[i]
		shape.Stages, shape.Artifacts = nil, nil
		var variant *definition.Variant
		var given map[string]string
		if i < len(d.img.Variants) {
			variant = &d.img.Variants[i]
			given = variant.Inputs
		}
		values := map[string]string{"image": d.img.Name, "version": version, "variant": shape.Variant, "build": build}
		if err := d.inputs(d.img.Inputs, d.options.Set, given, values); err != nil {
			return err
		}
		shape.Inputs = onlyInputs(values)
		if variant != nil {
			shape.Labels = expandAll(variant.Labels, values)
			if err := d.shown(shape.Labels); err != nil {
				return err
			}
		} else {
			p.Inputs = shape.Inputs
		}
		if i == 0 {
			p.Labels = expandAll(d.img.Labels, values)
			if err := d.shown(p.Labels); err != nil {
				return err
			}
		}
		for j := range d.img.Stages {
			if !d.img.Stages[j].In(shape.Variant) {
				continue
			}
			s, err := d.stage(&d.img.Stages[j], values)
			if err != nil {
				return err
			}
			shape.Stages = append(shape.Stages, *s)
		}
		for _, a := range d.img.Artifacts {
			if a.In(shape.Variant) {
				shape.Artifacts = append(shape.Artifacts, definition.Artifact{Name: a.Name, Format: a.Format, Size: a.Size, Says: a.Says})
			}
		}
		shape.FirstBoot = nil
		for _, f := range d.img.FirstBoots {
			text, err := d.script(f.Script)
			if err != nil {
				return err
			}
			boot := FirstBoot{Name: f.Name, Source: f.Script.Path, Digest: Digest(text), Network: f.Network, Trial: f.Trial,
				Script: text}
			for _, name := range slices.Sorted(maps.Keys(f.Env)) {
				boot.Env = append(boot.Env, name+"="+definition.Expand(f.Env[name], values))
			}
			shape.FirstBoot = append(shape.FirstBoot, boot)
		}
		if err := d.checks(shape, values); err != nil {
			return err
		}
	}
	return d.force()
}

// force marks the stages that --from asks for.
func (d *describer) force() error {
	from := d.plan.From
	found := from == ""
	for i := range d.plan.Shapes {
		forced := false
		stages := d.plan.Shapes[i].Stages
		for j := range stages {
			forced = forced || (from != "" && stages[j].Name == from)
			stages[j].Forced = forced
		}
		found = found || forced
	}
	if found {
		return nil
	}
	var names []string
	for i := range d.img.Stages {
		names = append(names, d.img.Stages[i].Name)
	}
	return &InputError{fmt.Sprintf("%s has no stage %q", d.img.Name, from), "stages are " + strings.Join(names, ", ")}
}

func onlyInputs(values map[string]string) map[string]string {
	list := map[string]string{}
	for name, value := range values {
		if in, ok := strings.CutPrefix(name, "input."); ok {
			list[in] = value
		}
	}
	return list
}

func expandAll(texts, values map[string]string) map[string]string {
	list := map[string]string{}
	for name, text := range texts {
		list[name] = definition.Expand(text, values)
	}
	return list
}

// inputs finds the value of each input that is no secret: set on the command line, from where the
// definition says, given by the variant or the stage that uses a shared one, or the default.
func (d *describer) inputs(list []definition.Input, set, given, values map[string]string) error {
	for i := range list {
		in := &list[i]
		value, ok := set[in.Name]
		if in.Secret {
			if ok {
				return &InputError{fmt.Sprintf("%q is a secret: a value on the command line shows in the list of processes", in.Name),
					fmt.Sprintf("give it by %s, as its definition says", in.From)}
			}
			continue
		}
		if !ok && d.looksAway(in) {
			value, ok = d.last(in.Name, values)
		} else if !ok && in.From != "" {
			var err error
			if value, ok, err = d.fetch(in); err != nil {
				return err
			}
		}
		if !ok {
			value, ok = given[in.Name]
		}
		if !ok && in.Required {
			from := ""
			if in.From != "" {
				from = fmt.Sprintf(" (its source, %s, has none)", in.From)
			}
			return &InputError{fmt.Sprintf("%s: input %q of %s has no value%s", in.Pos, in.Name, d.img.Name, from),
				fmt.Sprintf("give one with --set %s=VALUE or --inputs FILE, or add default = \"…\"", in.Name)}
		}
		if !ok {
			value = in.Default
		}
		if unfit := plain.Unfit(value); unfit != "" {
			return &InputError{fmt.Sprintf("%s: the value of input %q of %s cannot be used: %s", in.Pos, in.Name, d.img.Name, unfit),
				"give it another one"}
		}
		values["input."+in.Name] = value
	}
	return nil
}

// shown refuses labels that cannot be shown.
func (d *describer) shown(labels map[string]string) error {
	for name, value := range labels {
		if unshown := plain.Unshown(value); unshown != "" {
			return &InputError{fmt.Sprintf("%s: the label %q cannot be used: %s", d.img.File, name, unshown), "give the input in it another value"}
		}
	}
	return nil
}

// fetch reads an input's value from its source, once for a plan.
func (d *describer) fetch(in *definition.Input) (value string, ok bool, err error) {
	if value, ok := d.values[in.From]; ok {
		return value, true, nil
	}
	value, ok, err = secret.Read(d.ctx, in.From, d.root)
	if err != nil {
		return "", false, &InputError{fmt.Sprintf("%s: input %q: %v", in.Pos, in.Name, err), "correct from, or make the source available"}
	}
	if ok {
		d.values[in.From] = value
	}
	return value, ok, nil
}

// looksAway says whether the value of an input comes from a command that is not to run, and notes it.
func (d *describer) looksAway(in *definition.Input) bool {
	if !d.options.Preview || !strings.HasPrefix(in.From, "command:") {
		return false
	}
	if !slices.Contains(d.plan.Assumed, in.Name) {
		d.plan.Assumed = append(d.plan.Assumed, in.Name)
	}
	return true
}

// last is the value that an input had at the last build.
func (d *describer) last(name string, values map[string]string) (value string, ok bool) {
	for i := range d.img.Stages {
		t := d.known.Trace(d.img.Name, values["variant"], d.img.Stages[i].Name)
		if t == nil {
			continue
		}
		if value, ok = t.Stage.Inputs[name]; !ok {
			value, ok = t.Inputs[name]
		}
		if ok {
			return value, true
		}
	}
	return "", false
}

// lastMark is the mark that a secret had when the stage last ran, "" if it never did.
func (d *describer) lastMark(name, stage string, values map[string]string) string {
	if t := d.known.Trace(d.img.Name, values["variant"], stage); t != nil {
		for _, m := range t.Stage.Secrets {
			if m.Name == name {
				return m.Mark
			}
		}
	}
	return ""
}

// secret reads a secret and marks it.
func (d *describer) secret(in *definition.Input, stage string, values map[string]string) (Mark, error) {
	if d.looksAway(in) {
		return Mark{Name: in.Name, Variable: in.Variable(), Mark: d.lastMark(in.Name, stage, values)}, nil
	}
	value, ok, err := d.fetch(in)
	if err != nil {
		return Mark{}, err
	}
	if !ok {
		return Mark{}, &InputError{fmt.Sprintf("%s: the secret %q has no value: %s is not set", in.Pos, in.Name,
			strings.TrimPrefix(in.From, "env:")), "set it in the environment of this command"}
	}
	if why := secret.Check(value); why != "" {
		return Mark{}, &InputError{fmt.Sprintf("%s: the value of the secret %q cannot be used: %s", in.Pos, in.Name, why), "use another value"}
	}
	if d.key == nil {
		if d.key, err = d.known.SecretKey(d.ctx); err != nil {
			return Mark{}, err
		}
	}
	return Mark{Name: in.Name, Variable: in.Variable(), Mark: secret.Mark(d.key, in.Name, value),
		Value: secret.Secret{Name: in.Name, Value: value}}, nil
}

func (d *describer) stage(def *definition.Stage, values map[string]string) (*Stage, error) {
	var inputs map[string]string
	if def.Shared != "" {
		if err := d.source(def.Shared); err != nil {
			return nil, err
		}
		own := map[string]string{}
		for name, value := range values {
			if !strings.HasPrefix(name, "input.") {
				own[name] = value
			}
		}
		if err := d.inputs(def.Inputs, nil, expandAll(def.Given, values), own); err != nil {
			return nil, err
		}
		values = own
		inputs = onlyInputs(own)
	}
	var texts []string
	expand := func(text string) string {
		texts = append(texts, text)
		return definition.Expand(text, values)
	}
	s := &Stage{Name: def.Name, Shared: def.Shared, User: expand(def.User), Dir: expand(def.Dir), Network: def.Network, Restart: def.Restart,
		Timeout: def.Timeout, Retries: def.Retries, Refresh: def.Refresh, Bring: def.Bring, Inputs: inputs}
	mentions := ""
	for _, f := range def.Files {
		step, names, err := d.copy(f, expand(f.To), expand(f.Owner))
		if err != nil {
			return nil, err
		}
		mentions += names
		s.Steps = append(s.Steps, *step)
	}
	for _, script := range def.Scripts {
		text, err := d.script(script)
		if err != nil {
			return nil, err
		}
		step := Step{Name: cmp.Or(script.Path, "inline script"), Source: script.Path, Script: text}
		mentions += mentioned(step.Script)
		step.Digest = Digest(step.Script)
		s.Steps = append(s.Steps, step)
	}
	for i := range def.Secrets {
		mark, err := d.secret(&def.Secrets[i], def.Name, values)
		if err != nil {
			return nil, err
		}
		s.Secrets = append(s.Secrets, mark)
	}
	s.Env = environment(def, values, mentions, expand)
	s.Uses = used(slices.Concat(texts, givenTexts(def)))
	return s, nil
}

// script is the content of a script, which becomes a source of the plan if it is a file.
func (d *describer) script(s definition.Script) ([]byte, error) {
	if s.Path == "" {
		return []byte(s.Inline), nil
	}
	text, err := os.ReadFile(filepath.Join(d.root, s.Path))
	if err == nil {
		d.addSource(s.Path, Digest(text))
	}
	return text, err
}

func givenTexts(def *definition.Stage) (list []string) {
	for _, text := range def.Given {
		list = append(list, text)
	}
	return list
}

var inputName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\$\{input\.([^}]*)\}`) })

// used lists the inputs that texts name.
func used(texts []string) (names []string) {
	for _, text := range texts {
		for _, m := range inputName().FindAllStringSubmatch(text, -1) {
			names = append(names, m[1])
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (d *describer) source(name string) error {
	c, err := d.content(name)
	d.addSource(name, c.digest)
	return err
}

func (d *describer) addSource(name, sum string) {
	s := Source{name, sum}
	if !d.seen[s] {
		d.seen[s] = true
		d.plan.Sources = append(d.plan.Sources, s)
	}
}

// content reads a file of the workspace once: its digest and, if it may be a script, the variables it names.
func (d *describer) content(name string) (content, error) {
	if c, ok := d.files[name]; ok {
		return c, nil
	}
	f, err := os.Open(filepath.Join(d.root, name))
	if err != nil {
		return content{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return content{}, err
	}
	const script = 1 << 20
	hash := sha256.New()
	head, err := io.ReadAll(io.TeeReader(io.LimitReader(f, script), hash))
	if err == nil {
		_, err = io.Copy(hash, f)
	}
	if err != nil {
		return content{}, err
	}
	c := content{hex.EncodeToString(hash.Sum(nil)), mentioned(head), info.Mode()}
	d.files[name] = c
	return c, nil
}

var volatile = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`ZYGOS_(IMAGE|VERSION|VARIANT|BUILD)\b`) })

// mentioned lists the variables that differ between images, variants and builds and that a text names.
func mentioned(content []byte) (names string) {
	for _, m := range volatile().FindAll(content, -1) {
		names += string(m) + " "
	}
	return names
}

// environment is what a stage's scripts see. Variables that would give each build or variant a key
// of its own are set only for stages whose files or scripts name them.
func environment(d *definition.Stage, values map[string]string, mentions string, expand func(string) string) []string {
	env := []string{"ZYGOS_STAGE=" + d.Name, "ZYGOS_BUILDING=1"}
	for _, name := range []string{"image", "version", "variant", "build"} {
		variable := "ZYGOS_" + strings.ToUpper(name)
		if strings.Contains(mentions, variable+" ") {
			env = append(env, variable+"="+values[name])
		}
	}
	for _, v := range d.Env {
		env = append(env, v.Name+"="+expand(v.Value))
	}
	return env
}
