package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/disk"
	"zygos/internal/layer"
	"zygos/internal/state"
	"zygos/internal/supply"
	"zygos/internal/vm"
)

// BootRequest asks for a disk that can be started: of a version, or of a build whose disk did not come up.
type BootRequest struct {
	Word     string // a reference or a build's id
	Variant  string
	Artifact string // name, "" for the only one, or the one that starts fastest
	Ports    []vm.Port
	Keep     bool // what the guest writes
}

// Boot is a disk that is ready to start.
type Boot struct {
	About   string
	Fast    bool
	Changes string // file of what the guest writes, "" if it is thrown away
	host    *vm.Host
	machine vm.Machine
}

// Bootable finds a disk and what starts it.
func (a *App) Bootable(ctx context.Context, r BootRequest) (*Boot, error) {
	host, err := vm.Find(ctx, a.Dir.Machines())
	if err != nil {
		return nil, err
	}
	view, err := a.View(ctx, r.Word, r.Variant, "")
	if err != nil {
		return nil, err
	}
	boot := &Boot{host: host, Fast: host.Fast, machine: vm.Machine{CPUs: build.TryCPUs, Memory: build.TryMemory, Ports: r.Ports}}
	format := view.Format
	if boot.machine.Disk = view.Disk; view.Disk == "" {
		v, err := a.Look(ctx, r.Word)
		if err != nil {
			return nil, fmt.Errorf("%s kept no disk that can be started; only one that did not come up is kept: %w", r.Word, err)
		}
		key, err := a.bootable(v, r)
		if err != nil {
			return nil, err
		}
		file := v.Artifacts[slices.IndexFunc(v.Artifacts, func(f catalog.Artifact) bool { return f.Key() == key })]
		if boot.machine.Disk, err = supply.Artifact(ctx, a.State, v, file, a.Progress); err != nil {
			return nil, err
		}
		boot.About, format = fmt.Sprintf("%s, %s", v.Ref(), key), key.Format
	} else {
		boot.About = view.About
	}
	boot.machine.Format = artifact.Find(format).QEMU
	if r.Keep {
		name := strings.NewReplacer("@", "-", ":", "-").Replace(r.Word) + time.Now().UTC().Format("-20060102-150405") + ".qcow2"
		boot.Changes = a.Dir.Tried(name)
	}
	return boot, nil
}

// bootable is the artifact of a version that is to be started.
func (a *App) bootable(v *catalog.Version, r BootRequest) (artifact.Key, error) {
	record, err := build.ReadRecord(a.Dir, v.Build)
	if err != nil {
		return artifact.Key{}, fmt.Errorf("the record of %s is not in this state: %w", v.Ref(), err)
	}
	var list []artifact.Key
	for _, shape := range record.Plan.Shapes {
		for _, f := range shape.Artifacts {
			format := artifact.Find(f.Format)
			if format == nil || format.QEMU == "" || f.Says["boot"] == "" || (r.Variant != "" && r.Variant != shape.Variant) {
				continue
			}
			key := artifact.Key{Variant: shape.Variant, Name: f.Called(), Format: f.Format}
			if r.Artifact == "" || r.Artifact == key.Name {
				list = append(list, key)
			}
		}
	}
	if len(list) == 0 && r.Artifact != "" {
		return artifact.Key{}, state.Ask("%s has no artifact %q that boots; 'zygos show %s' lists what it has", v.Ref(), r.Artifact, v.Ref())
	}
	if len(list) == 0 {
		return artifact.Key{}, fmt.Errorf("%s has no disk that boots; give an artifact of images/%s.toml boot = \"uefi\"", v.Ref(), v.Image)
	}
	quick := []string{"raw", "qcow2", "vhdx", "vhd", "vmdk"} // to read
	slices.SortStableFunc(list, func(a, b artifact.Key) int { return slices.Index(quick, a.Format) - slices.Index(quick, b.Format) })
	return list[0], nil
}

// Start starts a disk with its console on this terminal's files, until it is turned off.
func (a *App) Start(ctx context.Context, b *Boot, in, out, errs *os.File) error {
	dir, hold, err := a.Engine().Hold(ctx, "try-"+rand.Text(), nil)
	if err != nil {
		return err
	}
	defer hold.Close()
	defer func() { _ = layer.RemoveAll(dir) }() // what stays is swept
	b.machine.Temp = dir
	if b.Changes != "" {
		if err := overlay(ctx, b); err != nil {
			return err
		}
	}
	return b.host.Show(ctx, b.machine, in, out, errs)
}

// overlay makes the file that takes what the guest writes.
func overlay(ctx context.Context, b *Boot) error {
	if err := os.MkdirAll(filepath.Dir(b.Changes), 0o755); err != nil {
		return err
	}
	size, err := disk.Capacity(b.machine.Disk, b.machine.Format)
	if err != nil {
		return err
	}
	text, err := disk.Overlay(b.machine.Disk, b.machine.Format, size)
	if err == nil {
		err = os.WriteFile(b.Changes, text, 0o644)
	}
	b.machine.Changes = b.Changes
	return errors.Join(err, ctx.Err())
}
