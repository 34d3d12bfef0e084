// Package plan turns a definition into a plan: the base pinned to a digest, each stage with its
// key, what can be reused and why the rest must run, the version it will get. A plan is plain
// data; carrying it out is another package's work.
//
// A stage's key is the hash of a complete description of what it will do: the digest of the tree
// it starts from, its files and scripts by content and in order, environment, secrets as a keyed
// hash, user, network and the engine's version. Two stages with one key do the same, and a
// snapshot found by the key can take the place of running it. The promise does not cover what a
// script fetches from a network or draws from a clock; refresh bounds how long it is relied on.
package plan

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/secret"
)

// KeyVersion is the version of everything that shapes a layer; a change makes all keys new.
const KeyVersion = 3

// Plan is what a build will do.
type Plan struct {
	Image       string            `json:"image"`
	Version     string            `json:"version"`
	Build       string            `json:"build"`
	Why         string            `json:"why"` // what makes the build necessary
	Base        Base              `json:"base"`
	Shapes      []Shape           `json:"shapes"` // one for each variant
	Inputs      map[string]string `json:"inputs"`
	Keep        []string          `json:"keep,omitempty"`
	Regions     []string          `json:"regions"`
	Labels      map[string]string `json:"labels"`
	Limits      definition.Limits `json:"limits"`
	Sources     []Source          `json:"sources"`
	Fingerprint string            `json:"fingerprint"`
	// Unchanged is the version that already is what this plan would make, "" if none is.
	Unchanged string `json:"unchanged,omitempty"`
	// Behind is the newest version of the image, if the definition makes versions of a lower series.
	Behind string `json:"behind,omitempty"`
	// Assumed are inputs whose values come from commands and were taken as they last were.
	Assumed []string `json:"assumed,omitempty"`
	// Adopted is the file that the version is made of as it is, "" for one that is built.
	Adopted string `json:"adopted,omitempty"`
	// What was asked for: see Options.
	Force bool   `json:"force,omitempty"`
	From  string `json:"from,omitempty"`
	Epoch string `json:"source_date_epoch,omitempty"`
}

// Base is what a build starts from.
type Base struct {
	Name    string  `json:"name"`
	Version string  `json:"version"`         // release of a base, version of an image
	Digest  string  `json:"digest"`          // of the archive, or of the parent's trees
	Key     string  `json:"key,omitempty"`   // see definition.Base
	Image   bool    `json:"image,omitempty"` // one of our own images
	Found   *Origin `json:"found,omitempty"` // how its release was found, nil if the definition names it
}

// Shape is what one variant goes through; an image without variants has one without a name.
type Shape struct {
	Variant   string                `json:"variant,omitempty"`
	From      string                `json:"-"` // variant of the base
	Inputs    map[string]string     `json:"inputs,omitempty"`
	Labels    map[string]string     `json:"labels,omitempty"` // the variant's own
	Layers    []string              `json:"layers"`           // of the base, lowest first; nil for one not unpacked yet
	Epoch     int64                 `json:"epoch"`            // what the clock of its stages comes to, seconds since 1970
	Stages    []Stage               `json:"stages"`
	Artifacts []definition.Artifact `json:"artifacts"`
	FirstBoot []FirstBoot           `json:"first_boot,omitempty"`
	Checks    []Check               `json:"checks,omitempty"`
}

// Check is what judges what was captured: a script, as a stage of one step, or expectations. It is no part of what makes a version
// what it is.
type Check struct {
	Stage
	Booted bool                     `json:"booted,omitempty"` // in a machine that was started
	Warn   bool                     `json:"warn,omitempty"`
	Expect []definition.Expectation `json:"expect,omitempty"`
}

// FirstBoot is a script that clones run once, in the order in which they stand.
type FirstBoot struct {
	Name    string   `json:"name"`
	Source  string   `json:"source,omitempty"` // in the workspace, "" for an inline script
	Digest  string   `json:"sha256"`
	Env     []string `json:"env,omitempty"`
	Network bool     `json:"network,omitempty"`
	Trial   bool     `json:"trial,omitempty"` // it runs in trials too
	Script  []byte   `json:"-"`
}

// Stage is one stage of a plan.
type Stage struct {
	Name    string   `json:"name"`
	Shared  string   `json:"shared,omitempty"` // file of a shared stage
	Steps   []Step   `json:"steps"`
	Env     []string `json:"env,omitempty"`
	Secrets []Mark   `json:"secrets,omitempty"`
	User    string   `json:"user,omitempty"`
	Dir     string   `json:"dir,omitempty"`
	Network bool     `json:"network"`
	Machine string   `json:"machine,omitempty"` // that carries it out, "" for the sandbox
	// Bounds are the limits of another machine than the sandbox: what it is given may change what comes out.
	Bounds  *definition.Limits `json:"bounds,omitempty"`
	Restart bool               `json:"restart,omitempty"`
	Timeout time.Duration      `json:"timeout_ns,omitempty"`
	Retries int                `json:"retries,omitempty"`
	Refresh time.Duration      `json:"refresh_ns,omitempty"`
	Bring   []string           `json:"bring,omitempty"`
	Uses    []string           `json:"uses,omitempty"` // inputs that its texts name
	// Inputs are those of a shared stage.
	Inputs map[string]string `json:"inputs,omitempty"`

	Key    string          `json:"key,omitempty"`    // "" as long as the tree before it is not known
	Reuse  *layer.Snapshot `json:"reuse,omitempty"`  // snapshot that takes its place
	Reason string          `json:"reason,omitempty"` // why it will run
	Forced bool            `json:"forced,omitempty"` // it runs even if it could be reused
}

// Mark stands for a secret that a stage gets: whether it changed shows, not what it is.
type Mark struct {
	Name     string        `json:"name"`
	Variable string        `json:"variable"`
	Mark     string        `json:"mark"`
	Value    secret.Secret `json:"-"`
}

// Step is something to copy or a script to run.
type Step struct {
	Name   string `json:"name"`             // for people
	Source string `json:"source,omitempty"` // in the workspace, "" for an inline script
	Digest string `json:"sha256"`           // of the content; of copied files, of all that they are
	*Copy         // nil for a script
	Script []byte `json:"-"` // its content; not kept in records
}

// Copy is a group of files to copy.
type Copy struct {
	To    string `json:"to,omitempty"` // where in the image, "" for what a pattern finds
	Owner string `json:"owner,omitempty"`
	Files []Item `json:"files,omitempty"`
}

// Source is a file of the workspace that went into a plan.
type Source struct {
	Path   string `json:"path"`
	Digest string `json:"sha256"`
}

// Parent is a version that an image is based on.
type Parent struct {
	Version string
	Trees   map[string][]string // layers by variant, which name what it consists of
	Here    map[string][]string // layers that make the same trees in this state, where it has them; nil if those of Trees do
	Epoch   int64
}

// Adopted is what the base of a version is called that was made elsewhere.
const Adopted = "adopted"

// Newest is the version that an unchanged definition already has.
type Newest struct {
	Version     string
	Fingerprint string
	Created     time.Time
	Base        Base   // without its key
	Recalled    string // says that a newer one, or this one, is recalled; "" if none is
}

// Trace is how a stage was when it last came to its end.
type Trace struct {
	Engine int               `json:"engine"`
	Build  string            `json:"build"`
	Base   Base              `json:"base"`
	Tree   string            `json:"tree"` // digest of the tree it started from
	Inputs map[string]string `json:"inputs"`
	Stage  Stage             `json:"stage"`
}

// Known answers what plans depend on outside the definition.
type Known interface {
	NextVersion(ctx context.Context, image, series, version string) (string, error)
	Parent(ctx context.Context, ref definition.Ref) (*Parent, error)
	// Newest is the newest version, or the exact one if given; nil if there is none.
	Newest(ctx context.Context, image, version string) (*Newest, error)
	Base(ctx context.Context, b *definition.Base) *layer.Snapshot
	Snapshot(ctx context.Context, key string) *layer.Snapshot
	// Trace is how a stage last came to its end, nil if it never did.
	Trace(image, variant, stage string) *Trace
	// Text is a file's content as an earlier build saw it, by digest; nil if it was not kept.
	Text(digest string) []byte
	// SecretKey is the key of the marks of secrets.
	SecretKey(ctx context.Context) ([]byte, error)
}

// Options are what the command line says about a build.
type Options struct {
	Force bool              // plan an unchanged image as if it had changed
	From  string            // this stage and those after it run in any case
	Set   map[string]string // values of inputs
	// Look runs no commands: what inputs would get from them is taken as it was at the last build.
	Preview bool
	// Epoch is what SOURCE_DATE_EPOCH says: no time in the image is later than so many seconds since 1970.
	// "" leaves it to the base.
	Epoch string
}

// Make plans a build of an image.
func Make(ctx context.Context, root string, org *definition.Organisation, img *definition.Image, known Known, o Options) (*Plan, error) {
	p := &Plan{Image: img.Name, Build: NewBuildID(), Keep: img.Keep, Regions: img.Regions, Limits: img.Limits,
		Force: o.Force, From: o.From, Epoch: o.Epoch}
	d := describer{ctx: ctx, root: root, img: img, plan: p, options: o, known: known, files: map[string]content{}, values: map[string]string{}}
	if err := p.pin(ctx, org, img, &d); err != nil {
		return nil, err
	}
	// Numbers that change with every build stay out of the fingerprint.
	if err := d.describe("${version}", "${build}"); err != nil {
		return nil, err
	}
	p.Fingerprint = p.fingerprint(img)
	newest, err := known.Newest(ctx, img.Name, img.Version)
	if err == nil && newest != nil && img.Version == "" && below(img.Series, newest.Version) {
		// The definition makes versions of a lower series, and is compared with those.
		p.Behind = newest.Version
		newest, err = known.Newest(ctx, img.Name, img.Series)
	}
	if err != nil {
		return nil, err
	}
	same := newest != nil && newest.Fingerprint == p.Fingerprint && !o.Force && o.From == ""
	if same {
		p.Version = newest.Version
	} else if p.Version, err = known.NextVersion(ctx, img.Name, img.Series, img.Version); err != nil {
		return nil, err
	}
	if err := d.describe(p.Version, p.Build); err != nil {
		return nil, err
	}
	var gone time.Time
	if same {
		gone = newest.Created
	}
	old := d.match(gone)
	switch {
	case same && !old:
		p.Unchanged = newest.Version
	case same: // too old: the same definition makes a new version
		if p.Version, err = known.NextVersion(ctx, img.Name, img.Series, img.Version); err != nil {
			return nil, err
		}
		if err := d.describe(p.Version, p.Build); err != nil {
			return nil, err
		}
		d.match(gone)
	}
	p.Why = p.why(newest)
	return p, nil
}

// below reports whether a series is lower than that of a version.
func below(series, version string) bool {
	major, minor, ok := definition.ParseSeries(series)
	v, known := definition.ParseVersion(version)
	return ok && known && (major < v.Major || major == v.Major && minor < v.Minor)
}

// why says in words what makes the build necessary.
func (p *Plan) why(newest *Newest) string {
	switch {
	case p.Unchanged != "":
		return "nothing changed"
	case newest == nil:
		return "first version"
	case p.Force:
		return "asked for with --force"
	case newest.Recalled != "":
		return newest.Recalled
	case newest.Base.Name == Adopted:
		return newest.Version + " was adopted, and the definition builds another"
	}
	for _, shape := range p.Shapes {
		for _, s := range shape.Stages {
			if s.Reuse == nil && s.Key != "" {
				return s.Name + ": " + s.Reason
			}
		}
	}
	was := newest.Base
	if was.Key = p.Base.Key; was.Name != "" {
		if moved := p.Base.since(&was); moved != "" { // and is not unpacked yet
			return moved
		}
	}
	return "labels, sealing or artifacts changed"
}

// NewBuildID is an id for a build, b-DATE-TIME-RANDOM, UTC: ids sort by time. Several machines may begin many in a second.
func NewBuildID() string {
	return "b-" + time.Now().UTC().Format("20060102-150405") + "-" + strings.ToLower(rand.Text()[:8])
}

var buildForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^b-\d{8}-\d{6}-[a-z0-9]{1,26}$`) })

// IsBuildID reports whether a word is the id of a build, and not the name of an image that begins as ids do.
func IsBuildID(word string) bool { return buildForm().MatchString(word) }

// pin finds what the image's base is now, and makes the shapes.
func (p *Plan) pin(ctx context.Context, org *definition.Organisation, img *definition.Image, d *describer) error {
	var parent *Parent
	if b := org.Base(img.Base); b != nil {
		p.Base = Base{Name: b.Name, Version: b.Release, Digest: b.SHA256.String(), Key: b.Key}
		if b.Feed != nil && b.SHA256.IsZero() {
			return &UnaskedError{img.BasePos, img.Name, b.Name, b.Asked.At, b.Feed.Wanted()}
		}
		p.Base.Found = FoundBy(b)
		parent = &Parent{Trees: map[string][]string{"": nil}}
		if snap := d.known.Base(ctx, b); snap != nil {
			parent.Trees[""], parent.Epoch = []string{snap.Layer}, snap.Epoch
		}
	} else {
		ref, err := definition.ParseRef(img.Base)
		if err != nil {
			return err
		}
		if parent, err = d.known.Parent(ctx, ref); err != nil {
			return fmt.Errorf("%s: base of %s: %w", img.BasePos, img.Name, err)
		}
		p.Base = Base{Name: ref.Image, Version: parent.Version, Image: true, Digest: "sha256:" + treesDigest(parent.Trees)}
	}
	if p.Epoch != "" {
		epoch, err := strconv.ParseInt(p.Epoch, 10, 64)
		if err != nil || epoch < 0 {
			return fmt.Errorf("SOURCE_DATE_EPOCH is %q; set it to seconds since 1970, or unset it", p.Epoch)
		}
		parent.Epoch = epoch
	}
	for _, variant := range img.VariantNames() {
		from := variant
		layers, ok := parent.Trees[from]
		if !ok {
			from = ""
			layers, ok = parent.Trees[from]
		}
		if parent.Here != nil {
			layers = parent.Here[from]
		}
		if !ok {
			var names []string
			for name := range parent.Trees {
				names = append(names, name)
			}
			slices.Sort(names)
			if len(names) == 0 {
				return fmt.Errorf("%s: of %s@%s no tree is known, so nothing can be built on it; build %s again", img.BasePos, p.Base.Name,
					p.Base.Version, p.Base.Name)
			}
			return fmt.Errorf("%s: %s@%s has the variants %s, and %s says of none of them that it starts from it; add [variant.%s] to %s",
				img.BasePos, p.Base.Name, p.Base.Version, strings.Join(names, ", "), img.Name, names[0], img.File)
		}
		p.Shapes = append(p.Shapes, Shape{Variant: variant, From: from, Layers: layers, Epoch: parent.Epoch})
	}
	return nil
}

// treesDigest names what a version consists of.
func treesDigest(trees map[string][]string) string {
	if layers, ok := trees[""]; ok && len(trees) == 1 {
		return layer.TreeDigest(layers)
	}
	digests := map[string]string{}
	for variant, layers := range trees {
		digests[variant] = layer.TreeDigest(layers)
	}
	return hashOf(digests)
}

// Digest is the hex SHA-256 of a content.
func Digest(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

func hashOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // only plain data comes here
	}
	return Digest(text)
}

// essence is a stage without what changes nothing in what comes out.
func (s Stage) essence() Stage {
	s.Key, s.Reuse, s.Reason, s.Shared, s.Forced = "", nil, "", "", false
	s.Timeout, s.Retries, s.Refresh, s.Bring, s.Uses, s.Inputs = 0, 0, 0, nil, nil, nil
	s.Steps = slices.Clone(s.Steps)
	for i := range s.Steps {
		st := &s.Steps[i]
		st.Name, st.Source = "", ""
		if st.Copy == nil {
			continue
		}
		st.Digest = "" // the files say it
		copied := *st.Copy
		copied.Files = slices.Clone(copied.Files)
		for j := range copied.Files {
			copied.Files[j].Source = ""
		}
		st.Copy = &copied
	}
	return s
}

// fingerprint is the hash of everything that went into a version.
func (p *Plan) fingerprint(img *definition.Image) string {
	shapes := slices.Clone(p.Shapes)
	for i := range shapes {
		shapes[i].Layers, shapes[i].Epoch, shapes[i].Inputs = nil, 0, nil // the base's digest says it
		shapes[i].Checks = nil
		shapes[i].Stages = slices.Clone(shapes[i].Stages)
		for j := range shapes[i].Stages {
			shapes[i].Stages[j] = shapes[i].Stages[j].essence()
		}
	}
	return hashOf(struct {
		Engine          int
		Base            string
		Epoch           string
		Series, Version string
		Shapes          []Shape
		Keep            []string
		Labels          map[string]string
	}{KeyVersion, p.Base.Digest + p.Base.Key, p.Epoch, img.Series, img.Version, shapes, p.Keep, p.Labels})
}

// Key is the key of a stage that starts from the tree which the layers make.
func (s *Shape) Key(i int, layers []string) string { return s.keyOn(i, layer.TreeDigest(layers)) }

func (s *Shape) keyOn(i int, tree string) string {
	return hashOf(struct {
		Engine int
		Tree   string
		Epoch  int64
		Stage  Stage
	}{KeyVersion, tree, s.Epoch, s.Stages[i].essence()})
}

// match finds what can be reused, as far as it can be known before the build, and says whether
// a stage's age asks for a new run. What is no longer kept counts as of the time gone.
func (d *describer) match(gone time.Time) (old bool) {
	p, why := d.plan, Reasons{d.plan, d.known, d.root}
	for i := range p.Shapes {
		shape := &p.Shapes[i]
		layers, tree := slices.Clone(shape.Layers), layer.NewTreeHash(shape.Layers)
		certain := layers != nil
		for j := range shape.Stages {
			s := &shape.Stages[j]
			s.Key, s.Reuse, s.Reason = "", nil, ""
			if !certain {
				s.Reason = "the base is not unpacked yet"
				if j > 0 {
					s.Reason = "the stage before it runs; reused if that comes out as in an earlier build"
				}
				continue
			}
			s.Key = shape.keyOn(j, tree.Digest())
			snap := d.known.Snapshot(d.ctx, s.Key)
			old = old || (s.Refresh > 0 && ((snap != nil && s.Expired(snap)) || (snap == nil && !gone.IsZero() && time.Since(gone) > s.Refresh)))
			if s.Reason = why.Of(i, j, layers, snap); s.Reason != "" {
				certain = false
				continue
			}
			s.Reuse = snap
			layers = append(layers, snap.Layer)
			tree.Push(snap.Layer)
		}
	}
	return old
}

// Expired says whether a snapshot is too old for the stage.
func (s *Stage) Expired(snap *layer.Snapshot) bool {
	old := time.Since(snap.Created)
	return s.Refresh > 0 && (old > s.Refresh || old < -time.Minute) // the age of what was made in the future is not known
}
