package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"zygos/internal/artifact"
	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/reading"
	"zygos/internal/record"
	"zygos/internal/session"
	"zygos/internal/state"
	"zygos/internal/store"
	"zygos/internal/supply"
)

// AdoptRequest asks for a file that was made elsewhere to become a version.
type AdoptRequest struct{ File, Image, Version string }

// Adopt makes a version of a disk or a root archive: its tree becomes a layer, and a disk is kept as it is. Nothing runs and nothing is
// sealed.
func (a *Session) Adopt(ctx context.Context, r AdoptRequest) (*record.Record, error) {
	img, err := a.Image(r.Image)
	if err != nil {
		return nil, err
	}
	if _, ok := definition.ParseVersion(r.Version); !ok {
		return nil, state.Ask("%q is no version; write MAJOR.MINOR.PATCH, for instance --version 1.0.0", r.Version)
	}
	if _, err := (session.Known{Session: a.Session}).NextVersion(ctx, r.Image, "", r.Version); err != nil {
		return nil, err
	}
	if len(img.Variants) > 0 {
		return nil, state.Ask("%s has variants, and a file that is adopted has one shape; define an image without variants for it", r.Image)
	}
	file, err := filepath.Abs(r.File)
	if err != nil {
		return nil, err
	}
	made, kind, err := adopted(file)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	done := int64(0)
	blob, err := store.Digest(ctx, file, func(n int64) {
		done += n
		a.Progress("read "+filepath.Base(file), done, info.Size())
	})
	if err != nil {
		return nil, err
	}
	digits := blob.Digest.Hex()
	b := &definition.Base{Name: plan.Adopted, Release: digits[:12], From: []string{file}, SHA256: blob.Digest, Kind: kind}
	p := &plan.Plan{Image: r.Image, Version: r.Version, Build: plan.NewBuildID(), Why: "adopted from " + filepath.Base(file), Adopted: file,
		Base:   plan.Base{Name: b.Name, Version: b.Release, Digest: blob.Digest.String()},
		Inputs: map[string]string{}, Labels: img.Labels, Regions: img.Regions, Sources: []plan.Source{},
		Fingerprint: plan.Digest([]byte(plan.Adopted + "\n" + digits)),
		Shapes:      []plan.Shape{{Stages: []plan.Stage{}, Artifacts: []definition.Artifact{made}}}}
	engine, err := a.engine()
	if err == nil {
		_, _, err = a.Sweep(ctx, false)
	}
	if err != nil {
		return nil, err
	}
	engine.Base = func(ctx context.Context, _ plan.Base, _, temp string, tell func(string, int64, int64)) (*layer.Snapshot, error) {
		return supply.Importer(a.Session, temp, tell).Ensure(ctx, b)
	}
	return engine.Run(ctx, p)
}

// adopted is what a file becomes an artifact as, and as which kind of base it is read.
func adopted(name string) (made definition.Artifact, kind string, err error) {
	file, err := os.Open(name)
	if err != nil {
		return made, "", err
	}
	defer file.Close()
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = state.Ask("%s is no file", name)
	}
	if err != nil {
		return made, "", err
	}
	if kind = base.KindOf(name); kind != "disk" {
		return definition.Artifact{Format: "tar"}, kind, nil
	}
	d, form, err := artifact.OpenDisk(file, info.Size())
	if err != nil {
		return made, "", fmt.Errorf("%s: %w", name, err)
	}
	if base.IsPacked(file) {
		return made, "", state.Ask("%s is packed; unpack it first, so that it can be kept as it is", name)
	}
	if artifact.Find(form) == nil {
		return made, "", fmt.Errorf("%s is a %s, which is no format of artifacts", name, form)
	}
	made = definition.Artifact{Format: form}
	if t, err := reading.Partitions(d); err == nil && t.Scheme != "" {
		made.Says = artifact.Says{"boot": "base"}
	}
	return made, kind, nil
}
