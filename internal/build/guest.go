package build

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/judge"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/vm"
)

// Booting is a disk that is to start with the kernel of its tree and our agent.
type Booting struct {
	vm.Machine
	Image    string
	Artifact definition.Artifact
	Store    *layer.Store
	Layers   []string
	Tree     *layer.Tree // merged already
}

// upLimit is in what time a machine must be up if its definition does not say.
const upLimit = 5 * time.Minute

// Bootable leaves the artifacts that start, the quickest to read first.
func Bootable(list []definition.Artifact) []definition.Artifact {
	starts := slices.DeleteFunc(slices.Clone(list), func(a definition.Artifact) bool { return !a.Boots() })
	rank := func(a definition.Artifact) int { return artifact.Find(a.Format).StartRank }
	slices.SortStableFunc(starts, func(a, b definition.Artifact) int { return artifact.ByRank(rank(a), rank(b)) })
	return starts
}

// Boot starts a disk; the error is a *vm.NotUpError if it does not come up. tell hears each line of its console.
func (e *Engine) Boot(ctx context.Context, b Booting, tell func(line string)) (*vm.Running, error) {
	host, err := vm.Find(ctx, e.Dir.Machines())
	if err != nil {
		return nil, fmt.Errorf("no machine can be started here: %w", err)
	}
	t := artifact.Tree{Digest: layer.TreeDigest(b.Layers), Nodes: b.Tree.Nodes(), Merged: b.Tree, Content: func(n *layer.Node) string {
		return filepath.Join(b.Store.TreeDir(b.Layers[n.Layer]), n.Path)
	}}
	if t.Layout, err = b.Store.Disk(b.Layers[0]); err != nil {
		return nil, err
	}
	o := artifact.Options{Says: b.Artifact.Says, Label: b.Image}
	b.BIOS = BIOS(b.Store, b.Layers, b.Artifact)
	start, err := t.Start(o)
	if err != nil {
		return nil, err
	}
	image, err := start.Kernel.Open()
	if err != nil {
		return nil, err
	}
	defer image.Close()
	initrd, err := start.Initrd.Open()
	if err != nil {
		return nil, err
	}
	defer initrd.Close()
	limit := b.Artifact.Says.Span("boots")
	if limit == 0 {
		limit = upLimit
	}
	b.Format, b.CPUs, b.Memory = artifact.Find(b.Artifact.Format).QEMU, TryCPUs, TryMemory
	return host.Boot(ctx, b.Machine, vm.Kernel{Image: image, Initrd: initrd, Cmdline: start.Cmdline}, limit, tell)
}

// BIOS says whether a disk of a tree starts without UEFI only.
func BIOS(from *layer.Store, layers []string, a definition.Artifact) bool {
	layout, err := from.Disk(layers[0])
	t := artifact.Tree{Layout: layout}
	return err == nil && t.BIOS(artifact.Options{Says: a.Says})
}

// ChecksIn leaves the checks that judge a machine that was started, or the others.
func ChecksIn(checks []plan.Check, booted bool) []plan.Check {
	return slices.DeleteFunc(slices.Clone(checks), func(c plan.Check) bool { return c.Booted != booted })
}

// JudgeBooted judges by the checks of a machine that is started for them, if there are any; tell hears its console, up that it came up.
func (e *Engine) JudgeBooted(ctx context.Context, on *judge.Bench, checks []plan.Check, disk func() (Booting, error),
	tell func(line string), up func(*vm.Running), each func(record.CheckResult)) ([]record.CheckResult, error) {
	checks = ChecksIn(checks, true)
	return on.Booted(ctx, checks, func(ctx context.Context) (*vm.Running, error) {
		d, err := disk()
		if err != nil {
			return nil, err
		}
		d.Alone = Alone(d.Artifact) && !slices.ContainsFunc(checks, func(c plan.Check) bool { return c.Network })
		guest, err := e.Boot(ctx, d, tell)
		if err == nil {
			up(guest)
		}
		return guest, err
	}, each)
}
