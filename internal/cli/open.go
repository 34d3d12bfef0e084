package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"zygos/internal/base"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/store"
	"zygos/internal/workspace"
)

// place is a workspace with its state opened.
type place struct {
	*workspace.Workspace
	catalog *catalog.Catalog
	store   *store.Store
	layers  *layer.Store
	use     *os.File // locked while this process uses the state
	frozen  bool     // the state can only be read
	mu      sync.Mutex
	key     string                            // of the marks of secrets, once it was asked for
	id      string                            // of the state
	traces  map[string]map[string]*plan.Trace // as they were when they were first asked for
}

// load finds the workspace and reads its definitions.
func (in *invocation) load() (*workspace.Workspace, error) {
	w, err := workspace.Find(in.workspace, in.state)
	if err != nil {
		return nil, err
	}
	return w, w.Load()
}

// How a command takes wrong definitions.
type care int

const (
	lenient care = iota // as they are: what was built stays findable while somebody edits
	each                // image by image
	strict              // not at all
)

// open loads the workspace and opens its state.
func (in *invocation) open(ctx context.Context, how care) (*place, error) {
	w, err := workspace.Find(in.workspace, in.state)
	if err != nil {
		return nil, err
	}
	load := map[care]func() error{lenient: w.LoadOrganisation, each: w.LoadEach, strict: w.Load}[how]
	err = load()
	var problems definition.Problems
	if err != nil && (how != lenient || !errors.As(err, &problems)) {
		return nil, err
	}
	p := &place{Workspace: w, traces: map[string]map[string]*plan.Trace{}}
	err = w.MakeState()
	if err == nil {
		p.use, err = useLock(ctx, w.State)
	}
	if p.frozen = cannotWrite(err) && isFolder(w.State); p.frozen { // whoever only looks needs no more
		p.use, err = os.Open(w.State)
	}
	if err != nil {
		return nil, fmt.Errorf("the state folder cannot be used: %w; name another one with --state DIR", err)
	}
	if p.store, err = store.Open(filepath.Join(w.State, "store")); err != nil {
		return nil, err
	}
	p.layers = &layer.Store{Dir: filepath.Join(w.State, "layers")}
	ids, _ := machine.Planned()
	p.layers.Owners = layer.Owners{First: ids.First, Count: ids.Count}
	_, p.layers.Check = machine.Inside()
	return p, p.openCatalog(ctx, problems)
}

func (p *place) close() {
	if p.catalog != nil {
		p.catalog.Close() // every change was committed
	}
	p.use.Close()
}

func cannotWrite(err error) bool {
	return errors.Is(err, unix.EROFS) || errors.Is(err, os.ErrPermission)
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// writable refuses to begin what would change the state, if that can only be read.
func (p *place) writable() error {
	if p.frozen {
		return fmt.Errorf("%w (%s); name another one with --state DIR, or run the command where it can be written", catalog.ErrFrozen, p.State)
	}
	return nil
}

// useLock takes part in the lock that all processes hold which use a state.
func useLock(ctx context.Context, state string) (*os.File, error) {
	if err := os.MkdirAll(filepath.Join(state, "locks"), 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(state, "locks", ".use"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	return f, flock.Share(ctx, f)
}

// ifAlone does something if no other process uses the state, and says whether that is so. Call it
// before this process has unfinished files: for a moment it holds no lock.
func (p *place) ifAlone(ctx context.Context, do func() error) (alone bool, err error) {
	if alone = unix.Flock(int(p.use.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil; alone {
		err = do()
	}
	return alone, errors.Join(err, flock.Share(ctx, p.use))
}

// importer brings bases into the state.
func (p *place) importer(temp string, progress func(doing string, done, total int64)) *base.Importer {
	return &base.Importer{Root: p.Root, Store: p.store, Layers: p.layers, Downloads: filepath.Join(p.State, "downloads"), Temp: temp, Progress: progress}
}

// resolve finds the version that a reference on the command line means.
func (p *place) resolve(ctx context.Context, text string) (*catalog.Version, error) {
	ref, err := definition.ParseRef(text)
	if err != nil {
		return nil, wrongUse("%s", err)
	}
	v, err := p.catalog.Resolve(ctx, ref)
	var missing *catalog.NotFoundError
	if errors.As(err, &missing) {
		if versions, e := p.catalog.Versions(ctx, ref.Image); e == nil && len(versions) == 0 {
			if _, e := p.Image(ref.Image); e != nil {
				return nil, e
			}
		}
	}
	return v, err
}

// look is resolve for whoever only looks: a version that is recalled can be looked at.
func (p *place) look(ctx context.Context, text string) (*catalog.Version, error) {
	v, err := p.resolve(ctx, text)
	var recalled *catalog.RecalledError
	if errors.As(err, &recalled) {
		return p.catalog.Resolve(ctx, definition.Ref{Image: recalled.Image, Selector: recalled.Version})
	}
	return v, err
}

// The plan asks through these.

func (p *place) NextVersion(ctx context.Context, image, series, version string) (string, error) {
	return p.catalog.NextVersion(ctx, image, series, version, p.alive)
}

func (p *place) Parent(ctx context.Context, ref definition.Ref) (*plan.Parent, error) {
	v, err := p.catalog.Resolve(ctx, ref)
	if err != nil {
		return nil, err
	}
	return p.parentOf(v, func(b *definition.Base) *layer.Snapshot { return p.Base(ctx, b) })
}

func (p *place) Newest(ctx context.Context, image, version string) (*plan.Newest, error) {
	heads, err := p.catalog.Heads(ctx, []string{image})
	if err != nil {
		return nil, err
	}
	return newestOf(ctx, heads, image, version)
}

// looker plans without building: it checks and changes nothing.
type looker struct{ *place }

func (l looker) Parent(ctx context.Context, ref definition.Ref) (*plan.Parent, error) {
	v, err := l.catalog.Resolve(ctx, ref)
	return l.parent(v, err)
}

func (l looker) parent(v *catalog.Version, err error) (*plan.Parent, error) {
	if err != nil {
		return nil, err
	}
	return l.parentOf(v, func(b *definition.Base) *layer.Snapshot { return l.layers.Peek(base.Key(b)) })
}

func (l looker) Base(_ context.Context, b *definition.Base) *layer.Snapshot {
	return l.layers.Peek(base.Key(b))
}

func (l looker) Snapshot(_ context.Context, key string) *layer.Snapshot { return l.layers.Peek(key) }

// SecretKey is one that marks nothing as it was if there is none yet: then nothing was built.
func (l looker) SecretKey(ctx context.Context) ([]byte, error) {
	if l.Org.Catalog.URL != "" {
		key, err := l.catalog.SecretKey(ctx, nil)
		return []byte(key), err
	}
	key, err := os.ReadFile(l.secretKey())
	if errors.Is(err, os.ErrNotExist) {
		return []byte(rand.Text()), nil
	}
	return key, err
}

// glance is a looker that reads once for all images what versions there are.
type glance struct {
	looker
	heads *catalog.Heads
}

func (g *glance) Parent(ctx context.Context, ref definition.Ref) (*plan.Parent, error) {
	v, err := g.heads.Resolve(ctx, ref)
	return g.parent(v, err)
}

func (g *glance) Newest(ctx context.Context, image, version string) (*plan.Newest, error) {
	return newestOf(ctx, g.heads, image, version)
}

// NextVersion gives none: nothing is built.
func (g *glance) NextVersion(context.Context, string, string, string) (string, error) { return "", nil }

func newestOf(ctx context.Context, heads *catalog.Heads, image, version string) (*plan.Newest, error) {
	v, err := heads.Resolve(ctx, definition.Ref{Image: image, Selector: version})
	var missing *catalog.NotFoundError
	var recalled *catalog.RecalledError
	switch {
	case errors.As(err, &missing):
		return nil, nil
	case errors.As(err, &recalled): // all of them; none has what a build would make
		return &plan.Newest{Version: recalled.Version, Recalled: strings.TrimPrefix(recalled.Short(), image+"@")}, nil
	case err != nil:
		return nil, err
	}
	n := &plan.Newest{Version: v.Version, Fingerprint: v.Fingerprint, Created: v.Created}
	if version == "" && heads.Newest(image) != nil && errors.As(heads.Newest(image).Usable(), &recalled) {
		n.Recalled = strings.TrimPrefix(recalled.Short(), image+"@")
	}
	return n, nil
}

func (p *place) Base(ctx context.Context, b *definition.Base) *layer.Snapshot {
	p.layers.Touch(base.Key(b))
	return p.layers.Find(ctx, base.Key(b))
}

func (p *place) Trace(image, variant, stage string) *plan.Trace {
	p.mu.Lock()
	defer p.mu.Unlock()
	at := image + "@" + variant
	if p.traces[at] == nil {
		p.traces[at] = build.ReadTraces(p.State, image, variant)
	}
	return p.traces[at][stage]
}

func (p *place) Text(digest string) []byte { return build.Text(p.State, digest) }

// SecretKey is the key with which secrets are marked, drawn when it is first needed: this state's or,
// if several share a catalog, that of all of them.
func (p *place) SecretKey(ctx context.Context) ([]byte, error) {
	own := func() (string, error) {
		key, err := store.First(p.secretKey(), []byte(rand.Text()))
		return string(key), err
	}
	if p.Org.Catalog.URL == "" {
		key, err := own()
		return []byte(key), err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.key == "" {
		var err error
		if p.key, err = p.catalog.SecretKey(ctx, own); err != nil {
			return nil, err
		}
	}
	return []byte(p.key), nil
}

func (p *place) secretKey() string { return filepath.Join(p.State, "secret-key") }

func (p *place) Snapshot(ctx context.Context, key string) *layer.Snapshot {
	return p.layers.Find(ctx, key)
}

// plans makes the plan of one image.
func (p *place) plans(ctx context.Context, name string, o plan.Options) (*plan.Plan, error) {
	return p.plansWith(ctx, name, p, o)
}

// looks is the plan of one image for somebody who only looks.
func (p *place) looks(ctx context.Context, name string, o plan.Options) (*plan.Plan, error) {
	o.Look = true
	return p.plansWith(ctx, name, looker{p}, o)
}

func (p *place) plansWith(ctx context.Context, name string, known plan.Known, o plan.Options) (*plan.Plan, error) {
	img, err := p.Image(name)
	if err != nil {
		return nil, err
	}
	set := map[string]string{}
	for _, in := range img.Inputs {
		if value, ok := o.Set[in.Name]; ok {
			set[in.Name] = value
		}
	}
	o.Set = set
	return plan.Make(ctx, p.Root, p.Org, img, known, o)
}

// who is the person at the keyboard.
func who() string {
	if name := os.Getenv("SUDO_USER"); name != "" {
		return name
	}
	uid := os.Getuid()
	if ids, ok := machine.Inside(); ok && ids.User != 0 {
		uid = int(ids.User)
	}
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return strconv.Itoa(uid)
}

// opened is a command's run that starts with an open place.
func opened(how care, run func(context.Context, *invocation, *place) error) func(context.Context, *invocation) error {
	return func(ctx context.Context, in *invocation) error {
		p, err := in.open(ctx, how)
		if err != nil {
			return err
		}
		defer p.close()
		return run(ctx, in, p)
	}
}
