package cli

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"zygos/internal/build"
	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/plan"
)

var cmdBuild = &command{
	lines: true,
	name:  "build", group: "build", args: "IMAGE…", least: 1, most: -1,
	summary: "build images: run their stages, seal, capture, register a version",
	text: `Builds each image in the order given. A stage that an earlier build ran with the same
content on the same tree is reused. If nothing changed since the newest version, no new
version is made; --force makes one. A build that fails registers nothing; its finished
stages are kept for the next one. Ctrl-C stops at once and leaves nothing running.`,
	example: "zygos build ebb-base\nzygos build turbine-link tide-desk\nzygos build turbine-link --force",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.force, "force", false, "make a version even if nothing changed")
	},
	run: opened(true, runBuild),
}

// upToDate is the event of an image that is not built.
type upToDate struct {
	Kind    string `json:"kind"`
	Image   string `json:"image"`
	Version string `json:"version"`
}

func runBuild(ctx context.Context, in *invocation, p *place) error {
	for i, name := range in.args {
		if _, err := p.Image(name); err != nil {
			return err
		}
		made, err := p.plans(ctx, name, in.set.force)
		if err != nil {
			return err
		}
		if made.Unchanged != "" {
			if err := in.unchanged(made); err != nil {
				return err
			}
			continue
		}
		if _, ok := machine.Inside(); !ok {
			return p.enter(in, i)
		}
		if err := p.build(ctx, in, made); err != nil {
			return err
		}
	}
	return nil
}

// enter goes on in a user namespace, where an ordinary user may build. What is unchanged was said already.
func (p *place) enter(in *invocation, from int) error {
	if ids, missing := machine.Planned(); ids.Limited() {
		in.note("note: %s, so only the user root exists while stages run: steps for other users, and packages\n"+
			"that set other owners, will fail. Owners of the base are kept. 'zygos doctor' says how to change it.", missing)
	}
	var flags []string
	if in.set.force {
		flags = append(flags, "--force")
	}
	if in.json {
		flags = append(flags, "--json")
	}
	if in.quiet {
		flags = append(flags, "--quiet")
	}
	args := append([]string{"build", "--workspace", p.Root, "--state", p.State, "--color", in.color}, append(flags, in.args[from:]...)...)
	code, err := machine.Enter(args)
	if err == nil && code != 0 {
		err = &exitError{code}
	}
	return err
}

func (in *invocation) unchanged(made *plan.Plan) error {
	if in.json {
		return in.jsonLine(upToDate{"unchanged", made.Image, made.Unchanged})
	}
	_, err := fmt.Fprintf(in.out, "%s@%s is up to date: nothing changed since it was built\n", made.Image, made.Unchanged)
	in.next(fmt.Sprintf("zygos build %s --force   makes a new version all the same", made.Image))
	return err
}

func (in *invocation) jsonLine(v any) error {
	text, err := json.Marshal(v)
	if err == nil {
		_, err = in.out.Write(append(text, '\n'))
	}
	return err
}

func (p *place) build(ctx context.Context, in *invocation, made *plan.Plan) error {
	ids, _ := machine.Inside()
	l := in.live()
	defer l.end()
	engine := &build.Engine{State: p.State, Root: p.Root, Who: who(), Layers: p.layers, Store: p.store, IDs: ids,
		Machine: machine.Sandbox{IDs: ids}, Catalog: p.catalog, Watch: in.watchBuild(l),
		Base: func(ctx context.Context, name, temp string, progress func(string, int64, int64)) (*layer.Snapshot, error) {
			return p.importer(temp, progress).Ensure(ctx, p.Org.Base(name))
		}}
	record, err := engine.Run(ctx, made)
	if err != nil {
		return err
	}
	l.end()
	if in.json {
		return nil // the events said it
	}
	if in.quiet {
		_, err = fmt.Fprintln(in.out, record.Version.Ref())
		return err
	}
	_, err = fmt.Fprintf(in.out, "%s %s in %s\n", in.paint(green, "Registered"), record.Version.Ref(), human(record.Took))
	if len(made.Regions) > 0 {
		in.next(fmt.Sprintf("zygos tag %s stable · zygos publish %s", record.Version.Ref(), record.Version.Ref()))
	} else {
		in.next("zygos show " + record.Version.Ref())
	}
	return err
}

var cmdBuilds = &command{
	name: "builds", group: "build", args: "[IMAGE]", most: 1,
	summary: "list builds, newest first: state, duration, who",
	text:    "Lists the last 30 builds, of all images or of one; --all lists every one.",
	example: "zygos builds\nzygos builds turbine-link --all",
	flags:   func(fs *flag.FlagSet, in *invocation) { fs.BoolVar(&in.set.all, "all", false, "list every build") },
	run: opened(false, func(ctx context.Context, in *invocation, p *place) error {
		image := ""
		if len(in.args) > 0 {
			image = in.args[0]
		}
		list, err := p.catalog.Builds(ctx, image)
		if err != nil {
			return err
		}
		for i := range list {
			if list[i].State == "running" && !build.Alive(p.State, list[i].ID) {
				list[i].State, list[i].Error = "interrupted", "its process ended without a word"
			}
		}
		total := len(list)
		if !in.set.all && total > 30 {
			list = list[:30]
		}
		if in.json {
			return in.writeJSON(list)
		}
		if total == 0 {
			in.note("no builds yet")
			in.next("zygos build IMAGE")
			return nil
		}
		var rows [][]string
		for _, b := range list {
			took := "-"
			if !b.Ended.IsZero() {
				took = human(b.Ended.Sub(b.Started))
			} else if b.State == "running" {
				took = human(time.Since(b.Started))
			}
			rows = append(rows, []string{b.ID, b.Image, b.Version, b.State, took, when(b.Started), b.Who})
		}
		if err := in.columns([]string{"BUILD", "IMAGE", "VERSION", "STATE", "TOOK", "STARTED", "WHO"}, rows); err != nil {
			return err
		}
		if total > len(list) {
			in.note("%d more; --all lists them", total-len(list))
		}
		in.next("zygos log " + list[0].ID)
		return nil
	}),
}

var cmdLog = &command{
	lines: true,
	name:  "log", group: "build", args: "BUILD", least: 1, most: 1,
	summary: "show a build's log, by stage and step",
	text:    "BUILD is a build's id, or an image for its newest build. --stage shows one stage only.",
	example: "zygos log turbine-link\nzygos log turbine-link --stage link\nzygos log turbine-link --json",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.StringVar(&in.set.stage, "stage", "", "only the stage `NAME`")
	},
	run: opened(false, runLog),
}

func runLog(ctx context.Context, in *invocation, p *place) error {
	id := in.args[0]
	if _, err := os.Stat(filepath.Join(p.State, "builds", filepath.Base(id))); err != nil || id != filepath.Base(id) {
		list, err := p.catalog.Builds(ctx, id)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return fmt.Errorf("no build and no image with builds is named %q; 'zygos builds' lists them", id)
		}
		id = list[0].ID
	}
	shown := false
	err := build.ReadLog(p.State, id, func(e build.Event) error {
		if in.set.stage != "" && e.Stage != in.set.stage {
			return nil
		}
		shown = true
		if in.json {
			return in.jsonLine(e)
		}
		if text := in.eventLine(e); text != "" {
			_, err := fmt.Fprintln(in.out, text)
			return err
		}
		return nil
	})
	if err == nil && !shown && in.set.stage != "" {
		return fmt.Errorf("build %s has no stage %q in its log", id, in.set.stage)
	}
	return err
}
