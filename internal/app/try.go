package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/disk"
	"zygos/internal/record"
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
	About    string
	Fast     bool
	Changes  string // file of what the guest writes, "" if it is thrown away
	host     *vm.Host
	machine  vm.Machine
	image    string
	artifact definition.Artifact
	layers   []string // of its tree
}

// Bootable finds a disk and what starts it.
func (a *Session) Bootable(ctx context.Context, r BootRequest) (*Boot, error) {
	host, err := vm.Find(ctx, a.Dir.Machines())
	if err != nil {
		return nil, err
	}
	view, err := a.View(ctx, r.Word, r.Variant, "")
	if err != nil {
		return nil, err
	}
	boot := &Boot{About: view.About, host: host, Fast: host.Fast, layers: view.Layers,
		machine: vm.Machine{Disk: view.Disk, CPUs: build.TryCPUs, Memory: build.TryMemory, Ports: r.Ports}}
	if view.Disk == "" {
		v, err := a.ResolveAny(ctx, r.Word)
		if err != nil {
			return nil, fmt.Errorf("%s kept no disk that can be started; only one that failed is kept: %w", r.Word, err)
		}
		list, err := a.bootable(v, r.Variant)
		if err == nil && r.Artifact != "" {
			if list = slices.DeleteFunc(list, func(f bootable) bool { return f.Called() != r.Artifact }); len(list) == 0 {
				err = state.Ask("%s has no artifact %q that boots; 'zygos show %s' lists what it has", v.Ref(), r.Artifact, v.Ref())
			}
		}
		if err != nil {
			return nil, err
		}
		boot.image, boot.artifact, boot.About = v.Image, list[0].Artifact, fmt.Sprintf("%s, %s", v.Ref(), list[0].file.Key())
		if boot.machine.Disk, err = supply.Artifact(ctx, a.Session, v, list[0].file, a.Progress); err != nil {
			return nil, err
		}
	} else {
		boot.image, boot.artifact = view.Image, *view.Artifact
	}
	boot.machine.BIOS = build.BIOS(a.Layers, boot.layers, boot.artifact)
	boot.machine.Alone = build.Alone(boot.artifact)
	boot.machine.Format = artifact.Find(boot.artifact.Format).QEMU
	if r.Keep {
		boot.Changes = a.Kept(r.Word) + ".qcow2"
	}
	return boot, nil
}

// Kept is a new name below the state for what changes in an instance of a version or a build.
func (a *Session) Kept(word string) string {
	return a.Dir.Tried(strings.NewReplacer("@", "-", ":", "-").Replace(word) + time.Now().UTC().Format("-20060102-150405-") +
		strings.ToLower(rand.Text()[:6]))
}

// bootable is an artifact that starts.
type bootable struct {
	definition.Artifact
	file catalog.Artifact
}

// bootable lists the artifacts of a version that start, of one variant if it is named, the quickest to read first.
func (a *Session) bootable(v *catalog.Version, variant string) (list []bootable, err error) {
	record, err := record.Read(a.Dir, v.Build)
	if err != nil {
		return nil, fmt.Errorf("the record of %s is not in this state: %w", v.Ref(), err)
	}
	for _, shape := range record.Plan.Shapes {
		if variant != "" && variant != shape.Variant {
			continue
		}
		for _, f := range build.Bootable(shape.Artifacts) {
			at := slices.IndexFunc(v.Artifacts, func(o catalog.Artifact) bool { return o.Variant == shape.Variant && o.Name == f.Called() })
			if at >= 0 {
				list = append(list, bootable{f, v.Artifacts[at]})
			}
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s has no disk that boots; give an artifact of images/%s.toml boot = \"uefi\"", v.Ref(), v.Image)
	}
	return list, nil
}

// Command starts a disk with the kernel of its tree and our agent, runs a command in it, and returns its exit code; up hears how long the
// start took, tell each line of the console.
func (a *Session) Command(ctx context.Context, b *Boot, command []string, out, errs io.Writer, tell func(string),
	up func(*vm.Running)) (code int, err error) {
	tree, err := a.Layers.Stack(b.layers)
	if err != nil {
		return 0, err
	}
	err = a.started(ctx, b, func(engine *build.Engine) error {
		guest, err := engine.Boot(ctx, build.Booting{Machine: b.machine, Image: b.image, Artifact: b.artifact, Store: a.Layers, Layers: b.layers,
			Tree: tree}, tell)
		if err != nil {
			return err
		}
		defer guest.Stop()
		up(guest)
		code, err = guest.Command(ctx, command, out, errs)
		return err
	})
	return code, err
}

// Start starts a disk with its console on this terminal's files, until it is turned off.
func (a *Session) Start(ctx context.Context, b *Boot, in, out, errs *os.File) error {
	return a.started(ctx, b, func(*build.Engine) error { return b.host.Show(ctx, b.machine, in, out, errs) })
}

// started runs what starts a disk, which has a folder for what is thrown away and a file for what is kept.
func (a *Session) started(ctx context.Context, b *Boot, run func(*build.Engine) error) error {
	engine, err := a.engine()
	if err != nil {
		return err
	}
	return a.During(ctx, "try-"+rand.Text(), b.layers, func(dir string) error {
		b.machine.Temp = dir
		if b.Changes != "" {
			if err := overlay(ctx, b); err != nil {
				return err
			}
		}
		return run(engine)
	})
}

// overlay makes the file that takes what the guest writes.
func overlay(ctx context.Context, b *Boot) error {
	if err := os.MkdirAll(filepath.Dir(b.Changes), 0o755); err != nil {
		return err
	}
	file, err := os.Open(b.machine.Disk)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	d, _, err := artifact.OpenDisk(file, info.Size())
	if err != nil {
		return err
	}
	text, err := disk.Overlay(b.machine.Disk, b.machine.Format, d.Size())
	if err == nil {
		err = os.WriteFile(b.Changes, text, 0o644)
	}
	b.machine.Changes = b.Changes
	return errors.Join(err, ctx.Err())
}
