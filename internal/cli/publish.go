package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"zygos/internal/app"
	"zygos/internal/manifest"
	"zygos/internal/plain"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/store"
	"zygos/internal/words"
)

var cmdPublish = &command{
	lines: true,
	after: "; what was placed and verified stays, and the same command goes on from there",
	name:  "publish", group: "publish", args: "REF...", least: 1, most: -1,
	summary: "place versions in their regions and write their manifests",
	text: `Copies each artifact that a region takes; verifies it there; then records it. What is there
already is not copied again, a copy that broke goes on where it stopped, and what differs in who
may use it or its class is brought into line. Regions work in parallel; if one fails the others
go on, and the command ends with 6: the same command again does what is missing. Regions are
those of the image's [publish], or those named with --region; a format that a region wants and
the version lacks is captured first. --tag moves the tag once every region of every version holds
it. --dry-run says what would be done; --remove takes a version out: the documents first.`,
	example: "zygos publish turbine-link@stable\nzygos publish turbine-link tide-desk --tag stable\n" +
		"zygos publish turbine-link --region far-skerry --dry-run\nzygos publish turbine-link@2.3.0 --region far-skerry --remove",
	flags: func() flags { return &publishFlags{} },
	run:   opened(app.Each, runPublish),
}

// publishFlags are those of publish.
type publishFlags struct {
	regions, tags namesFlag
	dry, remove   bool
}

func (f *publishFlags) declare(fs *flag.FlagSet) {
	fs.Var(&f.regions, "region", "only the region `NAME`; may be repeated")
	fs.Var(&f.tags, "tag", "then move the tag `TAG`; may be repeated")
	fs.BoolVar(&f.dry, "dry-run", false, "say what would be done")
	fs.BoolVar(&f.remove, "remove", false, "take the version out of its regions")
}

func runPublish(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*publishFlags)
	r := app.PublishRequest{Refs: in.args, Regions: f.regions, Tags: f.tags}
	switch {
	case f.dry && f.remove:
		return wrongUse("--dry-run and --remove do not go together; 'zygos verify %s' shows what is where", in.args[0])
	case f.remove && (len(in.args) > 1 || len(f.tags) > 0):
		return wrongUse("--remove takes one version, and moves no tag")
	case f.dry:
		return in.planned(ctx, a, r)
	case f.remove:
		return in.unpublish(ctx, a, f.regions)
	}
	l := in.follow(a)
	list, moves, err := a.Publish(ctx, r, func(d record.Delivery) {
		switch {
		case in.json:
			_ = in.event("", d) // Main says that it could not be written
		case d.State == publish.Again:
			l.line(fmt.Sprintf("%s: %s@%s %s: %s; again in %s", d.Region, d.Image, d.Version, d.Key().String(), d.Error, human(d.Pause)))
		}
	})
	l.end()
	if len(list) == 0 || ctx.Err() != nil {
		return err
	}
	if failed := in.published(list); failed != nil {
		if len(f.tags) > 0 {
			in.note("no tag was moved")
		}
		return failed
	}
	for _, m := range moves {
		if !in.json {
			fmt.Fprintln(in.out, words.Move(m))
		}
	}
	if err == nil {
		in.next(fmt.Sprintf("zygos manifest %s · zygos locate %s --region %s", list[0].Version.Ref(), list[0].Version.Ref(),
			list[0].Placed[0].Region))
	}
	return err
}

// published writes the result, and what failed.
func (in *invocation) published(list []app.Published) error {
	var failed error
	for _, one := range list {
		// a region that did not take an artifact does not take a document either
		failed = errors.Join(failed, cmp.Or(publish.Incomplete(one.Version, one.Placed), one.Failed))
	}
	if in.json {
		return failed
	}
	pg := in.page()
	words.Published(pg, list)
	return errors.Join(in.show(pg), failed)
}

// planned says what a publication would do.
func (in *invocation) planned(ctx context.Context, a *app.Session, r app.PublishRequest) error {
	list, err := a.PlanPublish(ctx, r)
	if err != nil {
		return err
	}
	if in.json {
		for _, plan := range list {
			for i := range plan.Would {
				if err := in.event("", plan.Would[i]); err != nil {
					return err
				}
			}
		}
		return nil
	}
	pg := in.page()
	words.Planned(pg, list)
	if err := in.show(pg); err != nil {
		return err
	}
	if len(r.Tags) > 0 {
		in.note("then %s would move, if all regions hold all versions", strings.Join(r.Tags, ", "))
	}
	in.next("zygos publish " + strings.Join(r.Refs, " "))
	return nil
}

// unpublish takes a version out of regions.
func (in *invocation) unpublish(ctx context.Context, a *app.Session, regions []string) error {
	v, list, err := a.Unpublish(ctx, in.args[0], regions)
	if err != nil {
		return err
	}
	var failed []string
	for i := range list {
		d := &list[i]
		if in.json {
			if err := in.event("", record.Removal{Delivery: *d}); err != nil {
				return err
			}
		}
		if d.Error != "" {
			failed = append(failed, fmt.Sprintf("  %s %s: %s", d.Region, d.Location, d.Error))
		}
	}
	if len(list) == 0 {
		in.note("%s is in none of these regions; nothing was done", v.Ref())
		return nil
	}
	if !in.json {
		pg := in.page()
		words.Removed(pg, list)
		if err := in.show(pg); err != nil {
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
	name: "manifest", group: "publish", args: "[REF]", most: 1,
	summary: "print a version's manifest: which artifacts belong to each region",
	text: `Prints a summary; --json prints the document zygos.manifest/1 in its canonical form, as it
lies in the state and in each region, and --out writes it. It names only placements that were
verified. --env prints the ids as KEY=value lines. --check FILE compares a manifest with its
schema and with what is in the regions. 'zygos schema manifest' prints its JSON Schema.`,
	example: "zygos manifest turbine-link@stable\nzygos manifest turbine-link@stable --region kelp-bay --out link.json\n" +
		"zygos manifest turbine-link@stable --env\nzygos manifest --check link.json",
	flags: func() flags { return &manifestFlags{} },
	run:   opened(app.Lenient, runManifest),
}

// manifestFlags are those of manifest.
type manifestFlags struct {
	region, out, check string
	env                bool
}

func (f *manifestFlags) declare(fs *flag.FlagSet) {
	fs.StringVar(&f.region, "region", "", "only what belongs to the region `NAME`")
	fs.StringVar(&f.out, "out", "", "write the document to `FILE`")
	fs.BoolVar(&f.env, "env", false, "print the ids as KEY=value")
	fs.StringVar(&f.check, "check", "", "check the manifest in `FILE`")
}

func runManifest(ctx context.Context, in *invocation, a *app.Session) error {
	f := in.flags.(*manifestFlags)
	if f.check != "" {
		if len(in.args) > 0 || f.out != "" || f.env {
			return wrongUse("--check takes a file, and neither a version nor --out or --env")
		}
		return in.checkManifest(ctx, a, f)
	}
	if len(in.args) == 0 {
		return wrongUse("name the version, for instance zygos manifest turbine-link@stable")
	}
	v, m, err := a.Manifest(ctx, in.args[0], f.region)
	if err != nil {
		return err
	}
	if f.env && in.json {
		return wrongUse("--env prints lines for a shell, and --json a document; give one of them")
	}
	if f.env {
		for _, line := range m.Environment() {
			fmt.Fprintln(in.out, line)
		}
		return nil
	}
	if in.json || f.out != "" {
		text, err := manifest.Canonical(m)
		if err == nil && f.out != "" {
			if err = store.WriteFile(f.out, text); err == nil {
				in.note("wrote the manifest of %s to %s", v.Ref(), f.out)
			}
			return err
		}
		if err == nil {
			if isTerminal(in.out) { // in a pipe or file, it is the document byte for byte
				text = append(plain.JSON(text), '\n')
			}
			_, err = raw(in.out).Write(text)
		}
		return err
	}
	pg := in.page()
	words.Manifest(pg, m)
	if err := in.show(pg); err != nil {
		return err
	}
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

// checkManifest compares a manifest in a file with what is.
func (in *invocation) checkManifest(ctx context.Context, a *app.Session, f *manifestFlags) error {
	m, list, err := a.CheckManifest(ctx, f.check, f.region)
	if err != nil {
		return err
	}
	return in.found(list, fmt.Sprintf("%s is a manifest of %s@%s", f.check, m.Image, m.Version), nil, false)
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
