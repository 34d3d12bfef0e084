// Package plan turns a definition into a plan: the base pinned to a digest, each stage with its
// key, what can be reused and why the rest must run, the version it will get. A plan is plain
// data; carrying it out is another package's work.
//
// A stage's key is the hash of a complete description of what it will do: the digest of the tree
// it starts from, its files and scripts by content and in order, environment, user, network and
// the engine's version. Two stages with one key do the same, and a snapshot found by the key can
// take the place of running it. The promise does not cover what a script fetches from a network
// or draws from a clock.
package plan

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"zygos/internal/definition"
	"zygos/internal/layer"
)

// Engine is the version of everything that shapes a layer; a change makes all keys new.
const Engine = 1

// Plan is what a build will do.
type Plan struct {
	Image       string                `json:"image"`
	Version     string                `json:"version"`
	Build       string                `json:"build"`
	Base        Base                  `json:"base"`
	Stages      []Stage               `json:"stages"`
	Keep        []string              `json:"keep,omitempty"`
	Artifacts   []definition.Artifact `json:"artifacts"`
	Regions     []string              `json:"regions"`
	Labels      map[string]string     `json:"labels"`
	Fingerprint string                `json:"fingerprint"`
	// Unchanged is the version that already is what this plan would make, "" if none is.
	Unchanged string `json:"unchanged,omitempty"`
}

// Base is what a build starts from.
type Base struct {
	Name    string   `json:"name"`
	Version string   `json:"version"`         // release of a base, version of an image
	Digest  string   `json:"digest"`          // of the archive, or of the parent's tree
	Image   bool     `json:"image,omitempty"` // one of our own images
	Layers  []string `json:"layers"`          // digests, lowest first; nil for a base not unpacked yet
	Epoch   int64    `json:"epoch"`           // no time in its tree is later
}

// Stage is one stage of a plan.
type Stage struct {
	Name    string          `json:"name"`
	Shared  string          `json:"shared,omitempty"` // file of a shared stage
	Steps   []Step          `json:"steps"`
	Env     []string        `json:"env,omitempty"`
	User    string          `json:"user,omitempty"`
	Dir     string          `json:"dir,omitempty"`
	Network bool            `json:"network"`
	Timeout time.Duration   `json:"timeout_ns,omitempty"`
	Key     string          `json:"key,omitempty"`    // "" as long as the tree before it is not known
	Reuse   *layer.Snapshot `json:"reuse,omitempty"`  // snapshot that takes its place
	Reason  string          `json:"reason,omitempty"` // why it will run
}

// Step is a file to copy or a script to run.
type Step struct {
	Name   string `json:"name"`             // for people
	Source string `json:"source,omitempty"` // file in the workspace, "" for an inline script
	Digest string `json:"sha256"`           // of the content
	To     string `json:"to,omitempty"`     // of a file: where in the image
	Mode   string `json:"mode,omitempty"`
	Owner  string `json:"owner,omitempty"`
	Script []byte `json:"-"` // of a script: its content
}

// Parent is a version that an image is based on.
type Parent struct {
	Version string
	Layers  []string
	Epoch   int64
}

// Known answers what plans depend on outside the definition.
type Known interface {
	NextVersion(ctx context.Context, image, series, version string) (string, error)
	Parent(ctx context.Context, ref definition.Ref) (*Parent, error)
	// Newest is the newest version and its fingerprint, or those of the exact version if given; "" if there is none.
	Newest(ctx context.Context, image, version string) (newest, fingerprint string, err error)
	Base(b *definition.Base) *layer.Snapshot
	Snapshot(key string) *layer.Snapshot
}

// Make plans a build of an image. With force, an unchanged image is planned as if it had changed.
func Make(ctx context.Context, root string, org *definition.Organisation, img *definition.Image, known Known, force bool) (*Plan, error) {
	p := &Plan{Image: img.Name, Build: newBuildID(), Keep: img.Keep, Artifacts: img.Artifacts, Regions: img.Regions, Labels: map[string]string{}}
	if err := p.pin(ctx, org, img, known); err != nil {
		return nil, err
	}
	// Numbers that change with every build stay out of the fingerprint.
	if err := p.describe(root, img, map[string]string{"image": img.Name, "version": "${version}", "build": "${build}"}); err != nil {
		return nil, err
	}
	p.Fingerprint = p.fingerprint(img)
	newest, fingerprint, err := known.Newest(ctx, img.Name, img.Version)
	if err != nil {
		return nil, err
	}
	if newest != "" && fingerprint == p.Fingerprint && !force {
		p.Unchanged, p.Version = newest, newest
	} else if p.Version, err = known.NextVersion(ctx, img.Name, img.Series, img.Version); err != nil {
		return nil, err
	}
	if err := p.describe(root, img, map[string]string{"image": img.Name, "version": p.Version, "build": p.Build}); err != nil {
		return nil, err
	}
	p.match(known)
	return p, nil
}

// newBuildID is b-DATE-TIME-RANDOM, UTC: ids sort by time.
func newBuildID() string {
	now := time.Now().UTC()
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %d", now.UnixNano(), os.Getpid()))
	return "b-" + now.Format("20060102-150405") + "-" + hex.EncodeToString(sum[:2])
}

// pin finds what the image's base is now.
func (p *Plan) pin(ctx context.Context, org *definition.Organisation, img *definition.Image, known Known) error {
	if b := org.Base(img.Base); b != nil {
		p.Base = Base{Name: b.Name, Version: b.Release, Digest: "sha256:" + b.SHA256}
		if snap := known.Base(b); snap != nil {
			p.Base.Layers, p.Base.Epoch = []string{snap.Layer}, snap.Epoch
		}
	} else {
		ref, err := definition.ParseRef(img.Base)
		if err != nil {
			return err
		}
		parent, err := known.Parent(ctx, ref)
		if err != nil {
			return fmt.Errorf("%s: base of %s: %w", img.BasePos, img.Name, err)
		}
		p.Base = Base{Name: ref.Image, Version: parent.Version, Image: true, Layers: parent.Layers, Epoch: parent.Epoch,
			Digest: "sha256:" + layer.TreeDigest(parent.Layers)}
	}
	if epoch, ok, err := SourceDateEpoch(); err != nil {
		return err
	} else if ok {
		p.Base.Epoch = epoch
	}
	return nil
}

// SourceDateEpoch is the time that the environment sets for reproducible builds, in seconds since 1970.
func SourceDateEpoch() (epoch int64, set bool, err error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		return 0, false, nil
	}
	epoch, err = strconv.ParseInt(text, 10, 64)
	if err != nil || epoch < 0 {
		return 0, false, fmt.Errorf("SOURCE_DATE_EPOCH is %q; set it to seconds since 1970, or unset it", text)
	}
	return epoch, true, nil
}

// describe lists the stages with ${…} replaced by values.
func (p *Plan) describe(root string, img *definition.Image, values map[string]string) error {
	for name, value := range img.Inputs {
		values["input."+name] = value
	}
	expand := func(text string) string { return definition.Expand(text, values) }
	for name, text := range img.Labels {
		p.Labels[name] = expand(text)
	}
	p.Stages = nil
	for i := range img.Stages {
		d := &img.Stages[i]
		s := Stage{Name: d.Name, Shared: d.Shared, User: expand(d.User), Dir: expand(d.Dir), Network: d.Network, Timeout: d.Timeout}
		mentions := ""
		for _, f := range d.Files {
			sum, names, err := readFile(filepath.Join(root, f.From))
			if err != nil {
				return err
			}
			mentions += names
			s.Steps = append(s.Steps, Step{Name: "copy " + f.From, Source: f.From, Digest: sum, To: expand(f.To),
				Mode: fmt.Sprintf("%04o", f.Mode), Owner: expand(f.Owner)})
		}
		for _, script := range d.Scripts {
			step := Step{Name: "inline script", Script: []byte(script.Inline)}
			if script.Path != "" {
				content, err := os.ReadFile(filepath.Join(root, script.Path))
				if err != nil {
					return err
				}
				step = Step{Name: script.Path, Source: script.Path, Script: content}
			}
			mentions += mentioned(step.Script)
			step.Digest = digest(step.Script)
			s.Steps = append(s.Steps, step)
		}
		s.Env = environment(d, values, mentions, expand)
		p.Stages = append(p.Stages, s)
	}
	return nil
}

// readFile is a file's digest and, of a file that may be a script, the variables it names.
func readFile(name string) (sum, names string, err error) {
	f, err := os.Open(name)
	if err != nil {
		return "", "", err
	}
	defer f.Close()
	const script = 1 << 20
	hash := sha256.New()
	head, err := io.ReadAll(io.TeeReader(io.LimitReader(f, script), hash))
	if err == nil {
		_, err = io.Copy(hash, f)
	}
	return hex.EncodeToString(hash.Sum(nil)), mentioned(head), err
}

var volatile = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`ZYGOS_(IMAGE|VERSION|BUILD)\b`) })

// mentioned lists the variables that differ between images and builds and that a text names.
func mentioned(content []byte) (names string) {
	for _, m := range volatile().FindAll(content, -1) {
		names += string(m) + " "
	}
	return names
}

// environment is what a stage's scripts see. Variables that would give each build a key of its
// own are set only for stages whose files or scripts name them.
func environment(d *definition.Stage, values map[string]string, mentions string, expand func(string) string) []string {
	env := []string{"ZYGOS_STAGE=" + d.Name, "ZYGOS_BUILDING=1", "ZYGOS_VARIANT="}
	for _, name := range []string{"image", "version", "build"} {
		variable := map[string]string{"image": "ZYGOS_IMAGE", "version": "ZYGOS_VERSION", "build": "ZYGOS_BUILD"}[name]
		if strings.Contains(mentions, variable+" ") {
			env = append(env, variable+"="+values[name])
		}
	}
	for _, v := range d.Env {
		env = append(env, v.Name+"="+expand(v.Value))
	}
	return env
}

func digest(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

func hashOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // only plain data comes here
	}
	return digest(text)
}

// fingerprint is the hash of everything that went into a version.
func (p *Plan) fingerprint(img *definition.Image) string {
	return hashOf(struct {
		Engine          int
		Base            string
		Epoch           string
		Series, Version string
		Stages          []Stage
		Keep            []string
		Artifacts       []definition.Artifact
		Labels          map[string]string
	}{Engine, p.Base.Digest, os.Getenv("SOURCE_DATE_EPOCH"), img.Series, img.Version, p.Stages, p.Keep, p.Artifacts, p.Labels})
}

// StageKey is the key of a stage that starts from the tree which the layers make.
func (p *Plan) StageKey(i int, layers []string) string {
	s := p.Stages[i]
	s.Key, s.Reuse, s.Reason, s.Shared = "", nil, "", ""
	s.Timeout = 0 // a limit changes nothing in what comes out
	s.Steps = slices.Clone(s.Steps)
	for j := range s.Steps {
		s.Steps[j].Name, s.Steps[j].Source = "", ""
	}
	return hashOf(struct {
		Engine int
		Tree   string
		Epoch  int64
		Stage  Stage
	}{Engine, layer.TreeDigest(layers), p.Base.Epoch, s})
}

// match finds what can be reused, as far as it can be known before the build.
func (p *Plan) match(known Known) {
	layers := p.Base.Layers
	certain := layers != nil
	for i := range p.Stages {
		s := &p.Stages[i]
		if !certain {
			s.Reason = "the base is not unpacked yet"
			if i > 0 {
				s.Reason = "the stage before it runs; reused if that comes out as in an earlier build"
			}
			continue
		}
		s.Key = p.StageKey(i, layers)
		if s.Reuse = known.Snapshot(s.Key); s.Reuse == nil {
			s.Reason = "no earlier build ran exactly this on this tree"
			certain = false
			continue
		}
		layers = append(layers[:len(layers):len(layers)], s.Reuse.Layer)
	}
}
