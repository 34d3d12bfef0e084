package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/manifest"
	"zygos/internal/plain"
	"zygos/internal/region"
	"zygos/internal/store"
)

var cmdPublish = &command{
	lines: true,
	name:  "publish", group: "publish", args: "REF", least: 1, most: 1,
	summary: "place a version's artifacts in its regions and write its manifest",
	text: `Copies each artifact that a region takes, under a temporary name; verifies it there by its
digest; renames it; then records it. What is there already is verified and not copied again.
Regions work in parallel; if one fails the others go on, and the command ends with 6.
Regions are those of the image's [publish], or those named with --region.`,
	example: "zygos publish turbine-link@stable\nzygos publish turbine-link --region far-skerry",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.Var(&in.set.regions, "region", "only the region `NAME`; may be repeated")
	},
	run: opened(strict, runPublish),
}

// publication is what happened to one artifact in one region.
type publication struct {
	Region   string        `json:"region"`
	Variant  string        `json:"variant,omitempty"`
	Format   string        `json:"format,omitempty"`
	ID       string        `json:"id,omitempty"`
	Location string        `json:"location,omitempty"`
	Copied   bool          `json:"copied"`
	Bytes    int64         `json:"bytes,omitempty"`
	Took     time.Duration `json:"took_ns"`
	Error    string        `json:"error,omitempty"`
}

func runPublish(ctx context.Context, in *invocation, p *place) error {
	v, err := p.resolve(ctx, in.args[0])
	if err == nil {
		err = p.writable()
	}
	if err == nil {
		err = v.Usable()
	}
	if err != nil {
		return err
	}
	regions, err := p.regionsFor(in, v)
	if err != nil {
		return err
	}
	l := in.live()
	done := p.place(ctx, in, l, v, regions)
	l.end()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	documents := errors.Join(p.writeManifest(ctx, v, regions), p.refresh(ctx, v.Image, regions...))
	if err := in.published(v, done); err != nil {
		return err // a region that did not take an artifact does not take a document either
	}
	return documents
}

// regionsFor lists the regions a version goes to.
func (p *place) regionsFor(in *invocation, v *catalog.Version) ([]*definition.Region, error) {
	names := []string(in.set.regions)
	if len(names) == 0 {
		img, err := p.Image(v.Image)
		if err != nil {
			return nil, err
		}
		if names = img.Regions; len(names) == 0 {
			return nil, fmt.Errorf("%s names no regions; add [publish] regions = […], or name one with --region", img.File)
		}
	}
	var list []*definition.Region
	for _, name := range names {
		r := p.Org.Region(name)
		if r == nil {
			return nil, wrongUse("region %q is not in zygos.toml; regions are %s", name, strings.Join(p.Org.RegionNames(), ", "))
		}
		list = append(list, r)
	}
	return list, nil
}

// publishes says whether an image's definition names regions.
func (p *place) publishes(image string) bool {
	img, err := p.Image(image)
	return err == nil && len(img.Regions) > 0
}

// place brings the artifacts to all regions at once. An error of one is in its publication.
func (p *place) place(ctx context.Context, in *invocation, l *live, v *catalog.Version, regions []*definition.Region) []publication {
	var mu sync.Mutex
	var list []publication
	var done, total int64
	for _, r := range regions {
		for _, a := range v.Artifacts {
			if region.Takes(r, a.Format) {
				total += a.Bytes
			}
		}
	}
	told := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		done += n
		l.show("", "publish "+v.Ref(), done, total)
	}
	var group errgroup.Group
	group.SetLimit(4)
	for _, r := range regions {
		group.Go(func() error {
			for _, result := range p.placeIn(ctx, v, r, told) {
				mu.Lock()
				list = append(list, result)
				mu.Unlock()
				if in.json {
					_ = in.jsonLine(result) // the exit code tells all the same
				}
			}
			return nil
		})
	}
	_ = group.Wait() // errors are in the publications
	slices.SortFunc(list, func(a, b publication) int {
		return strings.Compare(a.Region+a.Variant+a.Format, b.Region+b.Variant+b.Format)
	})
	return list
}

func (p *place) placeIn(ctx context.Context, v *catalog.Version, r *definition.Region, told func(int64)) []publication {
	target := region.Open(r, p.Path)
	var list []publication
	for _, a := range v.Artifacts {
		if !region.Takes(r, a.Format) {
			continue
		}
		began := time.Now()
		result := publication{Region: r.Name, Variant: a.Variant, Format: a.Format, Bytes: a.Bytes}
		source, err := p.source(ctx, v, a)
		item := region.Item{Organisation: p.Org.Name, Image: v.Image, Version: v.Version, Variant: a.Variant, Format: a.Format, Digest: a.Digest, Bytes: a.Bytes,
			Source: source, Name: build.FileName(v.Image, v.Version, a)}
		var placed region.Placed
		if err == nil {
			placed, err = target.Place(ctx, item, told)
		}
		if errors.Is(err, region.ErrAbsent) && ctx.Err() == nil {
			// What an earlier publication placed is not there as it was; no manifest names it from now on.
			err = errors.Join(err, p.catalog.Unplace(ctx, region.ID(r.Name, item)))
		} else if err == nil {
			err = p.catalog.Place(ctx, catalog.Placement{ID: placed.ID, Image: v.Image, Version: v.Version, Region: r.Name, Variant: a.Variant, Format: a.Format,
				Artifact: a.Digest, Location: placed.Location, Verified: time.Now()})
			if leaving := (*catalog.LeavingError)(nil); errors.As(err, &leaving) { // prune began meanwhile, and does not know of this copy
				err = errors.Join(err, target.Remove(ctx, placed.Location))
			}
		}
		result.ID, result.Location, result.Copied, result.Took = placed.ID, placed.Location, placed.Copied, time.Since(began)
		if err != nil {
			result.ID, result.Location, result.Error = "", "", err.Error()
		}
		list = append(list, result)
	}
	if len(list) == 0 {
		list = append(list, publication{Region: r.Name, Error: fmt.Sprintf("takes only %s, and %s has no such artifact", strings.Join(r.Formats, ", "), v.Ref())})
	}
	return list
}

// shape is a format with its variant.
func shape(variant, format string) string {
	if variant == "" {
		return format
	}
	return variant + " " + format
}

// published writes the result.
func (in *invocation) published(v *catalog.Version, done []publication) error {
	var failed []string
	var rows [][]string
	for _, d := range done {
		state := "already there, verified"
		if d.Copied {
			state = "copied and verified"
		}
		if d.Error != "" {
			state = "FAILED"
			if !slices.Contains(failed, d.Region) {
				failed = append(failed, d.Region)
			}
		}
		rows = append(rows, []string{d.Region, dash(shape(d.Variant, d.Format)), dash(d.ID), mib(d.Bytes), human(d.Took), state})
	}
	if !in.json {
		if err := in.columns([]string{"REGION", "FORMAT", "ID", "SIZE", "TOOK", "STATE"}, rows); err != nil {
			return err
		}
	}
	if len(failed) > 0 {
		var why []string
		for _, d := range done {
			if d.Error != "" {
				why = append(why, fmt.Sprintf("  %s %s: %s", d.Region, shape(d.Variant, d.Format), d.Error))
			}
		}
		return &incompleteError{fmt.Sprintf("%s is not complete in %s; the other regions are, and the manifest names only what was verified\n%s\nRun the command again once the cause is mended; what is there is not copied again. An artifact that is missing or damaged in the store is made anew by 'zygos build %s --force'",
			v.Ref(), strings.Join(failed, ", "), strings.Join(why, "\n"), v.Image)}
	}
	in.next(fmt.Sprintf("zygos manifest %s · zygos locate %s --region %s", v.Ref(), v.Ref(), done[0].Region))
	return nil
}

func (p *place) manifestOf(ctx context.Context, v *catalog.Version) (*manifest.Manifest, error) {
	placements, err := p.catalog.Placements(ctx, v.Image, v.Version, "")
	if err != nil {
		return nil, err
	}
	return manifest.For(v, placements), nil
}

// writeManifest writes a version's manifest into the state, into each region that holds it, and
// into those just tried, which may hold one that is out of date.
func (p *place) writeManifest(ctx context.Context, v *catalog.Version, tried []*definition.Region) error {
	m, err := p.manifestOf(ctx, v)
	if err != nil {
		return err
	}
	text, err := manifest.Canonical(m)
	if err != nil {
		return err
	}
	own := filepath.Join(p.State, "manifests", v.Image, v.Version+".json")
	if err := os.MkdirAll(filepath.Dir(own), 0o755); err != nil {
		return err
	}
	if err := store.WriteFile(own, text); err != nil {
		return err
	}
	var failed error
	for i := range p.Org.Regions {
		r := &p.Org.Regions[i]
		if m.Regions[r.Name] == nil && !slices.Contains(tried, r) {
			continue
		}
		if _, err := region.Open(r, p.Path).Document(ctx, filepath.Join(v.Image, v.Version, "manifest.json"), text); err != nil {
			failed = errors.Join(failed, &incompleteError{fmt.Sprintf("the manifest could not be written to %s: %v", r.Name, err)})
		}
	}
	return failed
}

// refresh writes the indexes of the regions that hold versions of an image, and of those just tried.
func (p *place) refresh(ctx context.Context, image string, tried ...*definition.Region) error {
	lock, err := os.OpenFile(filepath.Join(p.State, "regions.lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return err
	}
	defer lock.Close() // and with it the lock
	if err := flock.Take(ctx, lock); err != nil {
		return err
	}
	var failed error
	for i := range p.Org.Regions {
		r := &p.Org.Regions[i]
		held, err := p.catalog.Placements(ctx, image, "", r.Name)
		if err != nil {
			return err
		}
		if len(held) == 0 && !slices.Contains(tried, r) {
			continue
		}
		if err := p.writeIndex(ctx, r); err != nil {
			failed = errors.Join(failed, &incompleteError{fmt.Sprintf("the index of %s could not be written: %v", r.Name, err)})
		}
	}
	return failed
}

// writeIndex writes a region's index, and again while another machine changes what it says.
func (p *place) writeIndex(ctx context.Context, r *definition.Region) error {
	text, err := p.index(ctx, r)
	for err == nil {
		written := text
		if _, err = region.Open(r, p.Path).Document(ctx, "index.json", written); err != nil {
			return err
		}
		if text, err = p.index(ctx, r); bytes.Equal(text, written) {
			break
		}
	}
	return err
}

// index is what the index of a region has to say; versions that prune removes are in it no more.
func (p *place) index(ctx context.Context, r *definition.Region) ([]byte, error) {
	placements, err := p.catalog.Placements(ctx, "", "", r.Name)
	if err != nil {
		return nil, err
	}
	placements = slices.DeleteFunc(placements, func(pl catalog.Placement) bool { return pl.Leaving })
	tags, err := p.catalog.Tags(ctx)
	if err != nil {
		return nil, err
	}
	recalled, err := p.catalog.Recalled(ctx)
	if err != nil {
		return nil, err
	}
	return manifest.Canonical(manifest.IndexOf(r.Name, placements, func(ref string) []string { return tags[ref] }, func(ref string) *catalog.Recall { return recalled[ref] }))
}

var cmdManifest = &command{
	name: "manifest", group: "publish", args: "REF", least: 1, most: 1,
	summary: "print a version's manifest: which artifacts belong to each region",
	text: `Prints a summary; --json prints the document zygos.manifest/1 in its canonical form, as it
lies in the state and in each region. It names only placements that were verified.
'zygos schema manifest' prints its JSON Schema.`,
	example: "zygos manifest turbine-link@stable\nzygos manifest turbine-link@stable --json",
	run:     opened(lenient, runManifest),
}

func runManifest(ctx context.Context, in *invocation, p *place) error {
	v, err := p.look(ctx, in.args[0])
	if err != nil {
		return err
	}
	m, err := p.manifestOf(ctx, v)
	if err != nil {
		return err
	}
	if in.json {
		text, err := manifest.Canonical(m)
		if err == nil {
			if isTerminal(in.out) { // in a pipe or file, it is the document byte for byte
				text = append(plain.JSON(text), '\n')
			}
			_, err = raw(in.out).Write(text)
		}
		return err
	}
	rows := [][2]string{{"manifest", in.paint(bold, v.Ref())}, {"build", m.Build}, {"created", m.Created},
		{"base", fmt.Sprintf("%s@%s  %s", m.Base.Name, m.Base.Version, m.Base.Digest)}}
	for _, name := range slices.Sorted(maps.Keys(m.Labels)) {
		rows = append(rows, [2]string{"label", name + " = " + m.Labels[name]})
	}
	formats, width := map[string]string{}, 0
	for _, a := range m.Artifacts {
		formats[a.Digest] = shape(a.Variant, a.Format)
		width = max(width, len(formats[a.Digest]))
	}
	for _, a := range m.Artifacts {
		rows = append(rows, [2]string{"artifact", fmt.Sprintf("%-*s %10s  %s", width, shape(a.Variant, a.Format), mib(a.Bytes), a.Digest)})
	}
	for _, name := range slices.Sorted(maps.Keys(m.Regions)) {
		for _, pl := range m.Regions[name] {
			rows = append(rows, [2]string{"region", fmt.Sprintf("%-12s %-*s  %s  verified %s", name, width, formats[pl.Artifact], pl.ID, pl.Verified)})
		}
	}
	in.pairs(rows)
	if len(m.Regions) == 0 {
		in.note("no region holds it yet")
		if p.publishes(v.Image) {
			in.next("zygos publish " + v.Ref())
		}
		return nil
	}
	in.next(fmt.Sprintf("zygos manifest %s --json   prints the document", v.Ref()))
	return nil
}

var cmdSchema = &command{
	name: "schema", group: "help", args: "[DOCUMENT]", most: 1,
	summary: "print the JSON Schema of a document: manifest, region",
	text:    "Prints the schema as it ships with this program; without DOCUMENT, lists which there are.",
	example: "zygos schema manifest",
	run: func(_ context.Context, in *invocation) error {
		names := slices.Sorted(maps.Keys(manifest.Schemas))
		if len(in.args) == 0 {
			if in.json {
				return in.writeJSON(names)
			}
			for _, name := range names {
				fmt.Fprintln(in.out, name)
			}
			in.next("zygos schema " + names[0])
			return nil
		}
		schema, ok := manifest.Schemas[in.args[0]]
		if !ok {
			return wrongUse("no document %q; there are %s", in.args[0], strings.Join(names, ", "))
		}
		var check json.RawMessage
		if err := json.Unmarshal(schema, &check); err != nil {
			return err
		}
		_, err := in.out.Write(schema)
		return err
	},
}
