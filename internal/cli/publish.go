package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/artifact"
	"zygos/internal/catalog"
	"zygos/internal/manifest"
	"zygos/internal/plain"
	"zygos/internal/publish"
)

var cmdPublish = &command{
	lines: true,
	after: "; what was placed and verified stays, and the same command goes on from there",
	name:  "publish", group: "publish", args: "REF", least: 1, most: 1,
	summary: "place a version's artifacts in its regions and write its manifest",
	text: `Copies each artifact that a region takes, under a temporary name; verifies it there by its
digest; renames it; then records it. What is there already is verified and not copied again.
Regions work in parallel; if one fails the others go on, and the command ends with 6.
Regions are those of the image's [publish], or those named with --region. --dry-run says what
would be copied; --remove takes the version out of its regions: the documents first.`,
	example: "zygos publish turbine-link@stable\nzygos publish turbine-link --region far-skerry --dry-run\n" +
		"zygos publish turbine-link@2.3.0 --region far-skerry --remove",
	flags: func() flags { return &publishFlags{} },
	run:   opened(app.Strict, runPublish),
}

// publishFlags are those of publish.
type publishFlags struct {
	regions     namesFlag
	dry, remove bool
}

func (f *publishFlags) declare(fs *flag.FlagSet) {
	fs.Var(&f.regions, "region", "only the region `NAME`; may be repeated")
	fs.BoolVar(&f.dry, "dry-run", false, "say what would be done")
	fs.BoolVar(&f.remove, "remove", false, "take the version out of its regions")
}

func runPublish(ctx context.Context, in *invocation, a *app.App) error {
	f := in.flags.(*publishFlags)
	switch {
	case f.dry && f.remove:
		return wrongUse("--dry-run and --remove do not go together; 'zygos verify %s' shows what is where", in.args[0])
	case f.dry:
		return in.planned(ctx, a, f.regions)
	case f.remove:
		return in.unpublish(ctx, a, f.regions)
	}
	l := in.follow(a)
	v, done, err := a.Publish(ctx, in.args[0], f.regions, func(d publish.Placed) {
		if in.json {
			_ = in.jsonLine(d) // the exit code tells all the same
		}
	})
	l.end()
	if v == nil || ctx.Err() != nil {
		return err
	}
	if failed := in.published(v, done); failed != nil {
		return failed // a region that did not take an artifact does not take a document either
	}
	return err
}

// published writes the result.
func (in *invocation) published(v *catalog.Version, done []publish.Placed) error {
	var rows [][]string
	for _, d := range done {
		state := "already there, verified"
		switch {
		case d.Error != "":
			state = "FAILED"
		case d.Copied:
			state = "copied and verified"
		}
		rows = append(rows, []string{d.Region, dash(d.Key().String()), dash(d.ID), mib(d.Bytes), human(d.Took), state})
	}
	if !in.json {
		if err := in.columns([]string{"REGION", "FORMAT", "ID", "SIZE", "TOOK", "STATE"}, rows); err != nil {
			return err
		}
	}
	if err := publish.Incomplete(v, done); err != nil {
		return err
	}
	in.next(fmt.Sprintf("zygos manifest %s · zygos locate %s --region %s", v.Ref(), v.Ref(), done[0].Region))
	return nil
}

// planned says what a publication would do.
func (in *invocation) planned(ctx context.Context, a *app.App, regions []string) error {
	v, list, err := a.PlanPublish(ctx, in.args[0], regions)
	if err != nil {
		return err
	}
	var rows [][]string
	var bytes int64
	for i := range list {
		p := &list[i]
		if in.json {
			if err := in.jsonLine(p); err != nil {
				return err
			}
		}
		if p.Does == "copy" {
			bytes += p.Bytes
		}
		rows = append(rows, []string{p.Region, dash(p.Key().String()), mib(p.Bytes), p.Does, p.Why})
	}
	if in.json {
		return nil
	}
	if err := in.columns([]string{"REGION", "FORMAT", "SIZE", "WOULD", "WHY"}, rows); err != nil {
		return err
	}
	if bytes > 0 {
		in.note("%s would be copied; nothing was done", mib(bytes))
	} else {
		in.note("nothing would be copied")
	}
	in.next("zygos publish " + v.Ref())
	return nil
}

// unpublish takes a version out of regions.
func (in *invocation) unpublish(ctx context.Context, a *app.App, regions []string) error {
	v, list, err := a.Unpublish(ctx, in.args[0], regions)
	if err != nil {
		return err
	}
	var rows [][]string
	var failed []string
	for i := range list {
		d := &list[i]
		if in.json {
			if err := in.jsonLine(d); err != nil {
				return err
			}
		}
		state := "removed"
		if d.Error != "" {
			state = "FAILED"
			failed = append(failed, fmt.Sprintf("  %s %s: %s", d.Region, d.Location, d.Error))
		}
		rows = append(rows, []string{d.Region, d.Key().String(), d.ID, state})
	}
	if len(list) == 0 {
		in.note("%s is in none of these regions; nothing was done", v.Ref())
		return nil
	}
	if !in.json {
		if err := in.columns([]string{"REGION", "FORMAT", "ID", "STATE"}, rows); err != nil {
			return err
		}
	}
	if len(failed) > 0 {
		return &publish.IncompleteError{Text: "no document names these any more, but their bytes could not be removed:\n" +
			strings.Join(failed, "\n")}
	}
	return nil
}

var cmdManifest = &command{
	name: "manifest", group: "publish", args: "REF", least: 1, most: 1,
	summary: "print a version's manifest: which artifacts belong to each region",
	text: `Prints a summary; --json prints the document zygos.manifest/1 in its canonical form, as it
lies in the state and in each region. It names only placements that were verified.
'zygos schema manifest' prints its JSON Schema.`,
	example: "zygos manifest turbine-link@stable\nzygos manifest turbine-link@stable --json",
	run:     opened(app.Lenient, runManifest),
}

func runManifest(ctx context.Context, in *invocation, a *app.App) error {
	v, m, err := a.Manifest(ctx, in.args[0])
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
	keys, width := map[[2]string]string{}, 0 // by variant and name
	for _, a := range m.Artifacts {
		key := artifact.Key{Variant: a.Variant, Name: a.Name, Format: a.Format}.String()
		keys[[2]string{a.Variant, a.Name}], width = key, max(width, len(key))
	}
	for _, a := range m.Artifacts {
		rows = append(rows, [2]string{"artifact",
			fmt.Sprintf("%-*s %10s  %s", width, keys[[2]string{a.Variant, a.Name}], mib(a.Bytes), a.Digest)})
	}
	for _, name := range slices.Sorted(maps.Keys(m.Regions)) {
		for _, pl := range m.Regions[name] {
			rows = append(rows, [2]string{"region", fmt.Sprintf("%-12s %-*s  %s  verified %s", name, width, keys[[2]string{pl.Variant, pl.Name}],
				pl.ID, pl.Verified)})
		}
	}
	in.pairs(rows)
	if len(m.Regions) == 0 {
		in.note("no region holds it yet")
		if a.Publishes(v.Image) {
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
