package build

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"zygos/internal/catalog"
	"zygos/internal/inventory"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/seal"
	"zygos/internal/state"
	"zygos/internal/store"
)

// branch is one variant of a build on its way.
type branch struct {
	*run
	shape     *plan.Shape
	number    int
	layers    []string
	counted   catalog.Tree
	makers    []string // for each layer beyond the base: the stage that made it
	tree      *layer.Tree
	spare     string // see layer.Upper
	record    record.Shape
	traces    []*plan.Trace
	artifacts []catalog.Artifact
	judged    []record.CheckResult
}

func (b *branch) emit(w record.What) { b.tell(b.shape.Variant, w) }

func (b *branch) carryOut(ctx context.Context) error {
	defer b.keepTraces()
	b.spare = filepath.Join(b.dir, "spare-"+state.ShapeName(b.shape.Variant))
	if err := os.Mkdir(b.spare, 0o700); err != nil {
		return b.Full(err, 0)
	}
	for i := range b.shape.Stages {
		if err := b.stage(ctx, i); err != nil {
			return err
		}
		if err := b.bring(ctx, &b.shape.Stages[i]); err != nil {
			return err
		}
	}
	if b.plan.Adopted == "" {
		if err := b.seal(); err != nil {
			return b.Full(err, 0)
		}
	}
	release, err := b.slot(ctx)
	if err != nil {
		return err
	}
	defer release()
	if err := b.searchSecrets(ctx); err != nil {
		return err
	}
	if err := b.measure(); err != nil {
		return err
	}
	if err := b.judge(ctx); err != nil {
		return err
	}
	if b.artifacts, err = b.capture(ctx); err != nil {
		return err
	}
	return b.judgeBooted(ctx)
}

// measure counts what the tree holds.
func (b *branch) measure() error {
	tree, err := b.merged()
	if err != nil {
		return err
	}
	found := inventory.Read(&layer.Files{Store: b.Layers, Layers: b.layers, Tree: tree})
	b.counted = catalog.Tree{Variant: b.shape.Variant, Layers: b.layers, Labels: b.shape.Labels, Files: len(tree.Nodes()),
		Bytes: tree.Size(), Packages: len(found.Packages)}
	return nil
}

// merged is the tree as it stands.
func (b *branch) merged() (*layer.Tree, error) {
	if b.tree == nil {
		var err error
		if b.tree, err = b.Layers.Stack(b.layers); err != nil {
			return nil, err
		}
	}
	return b.tree, nil
}

func (b *branch) push(digest, maker string) {
	if digest == layer.EmptyDigest {
		return
	}
	b.layers = append(b.layers[:len(b.layers):len(b.layers)], digest)
	b.makers = append(b.makers, maker)
	if b.tree == nil {
		return
	}
	if x, err := b.Layers.Index(digest); err == nil {
		b.tree.Push(x)
	} else {
		b.tree = nil // merged meets the error again
	}
}

// seal removes what clones must not share, as a layer of its own.
func (b *branch) seal() error {
	began := time.Now()
	tree, err := b.merged()
	if err != nil {
		return err
	}
	var scripts []seal.Script
	for _, f := range b.shape.FirstBoot {
		scripts = append(scripts, seal.Script{Name: f.Name, Text: f.Script, Env: f.Env, Network: f.Network, Trial: f.Trial})
	}
	x, contents, results := seal.Seal(tree, seal.Request{Keep: b.plan.Keep, Epoch: b.shape.Epoch, Scripts: scripts})
	digest := layer.EmptyDigest
	if len(x) > 0 {
		if digest, err = b.keep(x, contents); err != nil {
			return fmt.Errorf("seal: %w", err)
		}
	}
	b.push(digest, "seal")
	for i := range results {
		results[i].Paths = b.maskAll(results[i].Paths)
	}
	b.record.Seal = results
	b.emit(record.Sealed{Results: results, Layer: digest, Took: time.Since(began)})
	return nil
}

// keep writes a layer whose files have small contents, by path, or none.
func (b *branch) keep(x layer.Index, contents map[string][]byte) (string, error) {
	dir, err := b.Layers.Begin(b.dir)
	if err != nil {
		return "", err
	}
	folder := layer.Folder{Dir: filepath.Join(dir, "tree"), Owners: b.Layers.Owners}
	for i := range x {
		if err := folder.Put(&x[i], bytes.NewReader(contents[x[i].Path])); err != nil {
			return "", err
		}
	}
	if err := folder.Finish(x); err != nil {
		return "", err
	}
	return b.Layers.Commit(dir, x)
}

// stage reuses a stage's layer or runs it on the tree as it stands.
func (b *branch) stage(ctx context.Context, i int) error {
	s := &b.shape.Stages[i]
	key := b.shape.Key(i, b.layers)
	release, err := b.once(ctx, s.Name, b.shape.Variant, key)
	if err != nil {
		return err
	}
	defer release()
	trace := b.plan.TraceOf(b.number, i, b.layers)
	trace.Stage.Key = key
	snap := b.Layers.Find(ctx, key)
	if snap != nil && !b.Layers.Touch(key) {
		snap = nil
	}
	reason := plan.Reasons{Plan: b.plan, Known: b.Known, Root: b.Root}.Of(b.number, i, b.layers, snap)
	if snap != nil && (reason == "" || snap.Build == b.plan.Build) {
		b.push(snap.Layer, s.Name)
		b.record.Stages = append(b.record.Stages, record.Stage{Name: s.Name, Key: key, Layer: snap.Layer, Bytes: snap.Bytes, Reused: snap.Build})
		b.emit(record.Reused{At: record.At{Stage: s.Name}, Layer: snap.Layer, From: snap.Build, Took: snap.Took})
		b.traces = append(b.traces, trace)
		return nil
	}
	began := time.Now()
	b.emit(record.StageBegan{At: record.At{Stage: s.Name}, Why: reason})
	digest, bytes, w, tries, err := b.insist(ctx, i)
	if err != nil {
		return b.Full(err, 0)
	}
	took := time.Since(began)
	if err := b.Layers.Remember(layer.Snapshot{Key: key, Layer: digest, Bytes: bytes, Build: b.plan.Build, Created: time.Now().UTC(),
		Took: took}); err != nil {
		return b.Full(err, 0)
	}
	b.push(digest, s.Name)
	b.record.Stages = append(b.record.Stages,
		record.Stage{Name: s.Name, Key: key, Layer: digest, Bytes: bytes, Reason: reason, Retries: tries, Took: took, Steps: w.steps})
	b.emit(record.StageDone{At: record.At{Stage: s.Name}, Layer: digest, Bytes: bytes, Took: took})
	b.traces = append(b.traces, trace)
	return nil
}

// insist runs a stage, and again from the same tree after growing pauses if its scripts fail.
func (b *branch) insist(ctx context.Context, i int) (digest string, bytes int64, w *watcher, tries int, err error) {
	s := &b.shape.Stages[i]
	pauses := backoff.NewExponentialBackOff()
	pauses.InitialInterval, pauses.MaxInterval = time.Second, time.Minute
	for ; ; tries++ {
		digest, bytes, w, err = b.runStage(ctx, i, tries == s.Retries)
		var failed *record.Failure
		if !errors.As(err, &failed) || tries == s.Retries || ctx.Err() != nil {
			return digest, bytes, w, tries, err
		}
		pause := pauses.NextBackOff().Round(100 * time.Millisecond)
		b.emit(record.Retry{At: record.At{Stage: s.Name, Step: failed.Step}, Failed: failed.How(), Pause: pause, Try: int64(tries + 1),
			Of: int64(s.Retries)})
		select {
		case <-ctx.Done():
			return "", 0, nil, tries, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// runStage runs a stage once; of the last try, the state in which it failed is kept.
func (b *branch) runStage(ctx context.Context, i int, last bool) (digest string, bytes int64, w *watcher, err error) {
	release, err := b.slot(ctx)
	if err != nil {
		return "", 0, nil, err
	}
	defer release()
	tree, err := b.merged()
	if err != nil {
		return "", 0, nil, err
	}
	s := &b.shape.Stages[i]
	w = &watcher{branch: b, stage: s}
	ground := machine.Ground{Store: b.Layers, Layers: b.layers, Tree: tree, Temp: b.dir, Spare: b.spare, Epoch: b.shape.Epoch}
	on := b.Machines[s.Machine]
	if on == nil {
		return "", 0, nil, fmt.Errorf("stage %s runs on a machine named %q, and this program has none of that name", s.Name, s.Machine)
	}
	result, err := on.Run(ctx, ground, b.orders(s), w)
	if result != nil {
		defer result.Drop()
	}
	if err != nil {
		var failed *machine.StepError
		if errors.As(err, &failed) {
			f := w.failure(failed)
			if free := b.Free(); free < 1<<20 {
				f.Reason = fmt.Sprintf("%s; the disk of %s is full (%d KiB are free): make room and run the command again, finished stages are kept",
					f.How(), b.Dir, free>>10)
			}
			f.Kept = last && b.keepFailed(i, result, f) == nil
			return "", 0, w, f
		}
		if ctx.Err() != nil {
			return "", 0, w, err
		}
		return "", 0, w, fmt.Errorf("stage %s: %w", s.Name, err)
	}
	if s.Restart {
		w.steps = append(w.steps, record.Step{Name: "restart"}) // the next stage starts on a fresh machine, as every stage does
		b.emit(record.StepBegan{At: record.At{Stage: s.Name, Step: "restart"}})
	}
	digest, bytes, err = result.Commit(ctx)
	return digest, bytes, w, err
}

// orders turns a stage of the plan into what the machine is told.
func (b *branch) orders(s *plan.Stage) machine.Stage {
	m := machine.Stage{Name: s.Name, Hostname: "zygos", Network: s.Network, Timeout: s.Timeout,
		Limits: machine.Limits(b.plan.Limits)}
	if s.Bounds != nil {
		m.Limits = machine.Limits(*s.Bounds)
	}
	if b.secrets != nil {
		m.Mask = b.masks()
	}
	for _, secret := range s.Secrets {
		m.Secrets = append(m.Secrets, machine.Secret{Name: secret.Name, Variable: secret.Variable, Value: secret.Value.Value})
	}
	for _, step := range s.Steps {
		if step.Copy == nil {
			m.Steps = append(m.Steps, machine.Step{Name: step.Name,
				Script: &machine.Script{Content: step.Script, User: s.User, Dir: s.Dir, Env: s.Env}})
			continue
		}
		c := &machine.Copy{Owner: step.Owner}
		for _, f := range step.Files {
			mode, _ := strconv.ParseUint(f.Mode, 8, 32) // written by the plan
			c.Items = append(c.Items, machine.Item{From: filepath.Join(b.Root, f.Source), To: f.To, Mode: uint32(mode), Digest: f.Digest,
				Link: f.Link, Dir: f.Dir})
		}
		m.Steps = append(m.Steps, machine.Step{Name: step.Name, Copy: c})
	}
	return m
}

// keepTraces notes how the stages came to their ends, for the reasons of later builds.
func (b *branch) keepTraces() {
	name := b.Dir.Traces(b.plan.Image, b.shape.Variant)
	traces, changed := b.Dir.ReadTraces(b.plan.Image, b.shape.Variant), false
	for _, t := range b.traces {
		if had := traces[t.Stage.Name]; had == nil || had.Stage.Key != t.Stage.Key {
			traces[t.Stage.Name], changed = t, true
		}
	}
	if text, err := json.Marshal(traces); changed && err == nil && os.MkdirAll(filepath.Dir(name), 0o755) == nil {
		_ = store.WriteFile(name, text) // without it, a later reason is only less exact
	}
}

// bring copies files out of the tree into the build's folder.
func (b *branch) bring(ctx context.Context, s *plan.Stage) error {
	if len(s.Bring) == 0 {
		return nil
	}
	tree, err := b.merged()
	if err != nil {
		return err
	}
	for _, from := range s.Bring {
		name := strings.TrimPrefix(from, "/")
		top := tree.Lookup(name)
		if top == nil {
			return fmt.Errorf("stage %s: %s is to be brought out and is not in the image", s.Name, from)
		}
		for _, p := range append([]string{name}, tree.Under(name)...) {
			if n := tree.Lookup(p); n.Kind == layer.File {
				if err := b.bringFile(ctx, s, n); err != nil {
					return fmt.Errorf("stage %s: bring /%s: %w", s.Name, p, err)
				}
			}
		}
	}
	return nil
}

func (b *branch) bringFile(ctx context.Context, s *plan.Stage, n *layer.Node) error {
	from, err := os.Open(b.content(n))
	if err != nil {
		return err
	}
	defer from.Close()
	if b.secrets != nil {
		name, where, err := newSearcher(ctx, b.secrets, newUnpacking()).node(n, b.content(n))
		if err != nil {
			return err
		}
		if name != "" {
			return b.leak(ctx, name, where, n)
		}
	}
	name := b.path(filepath.Join("files", b.shape.Variant, s.Name, n.Path))
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return b.Full(err, 0)
	}
	to, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return b.Full(err, 0)
	}
	_, err = io.Copy(to, cancellable{ctx, from})
	if err = errors.Join(err, to.Close()); err != nil {
		return b.Full(err, n.Size)
	}
	b.emit(record.Brought{At: record.At{Stage: s.Name}, File: name, Bytes: n.Size})
	return nil
}

// content is where a node's bytes lie.
func (b *branch) content(n *layer.Node) string {
	return filepath.Join(b.Layers.TreeDir(b.layers[n.Layer]), n.Path)
}
