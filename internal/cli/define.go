package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"

	"zygos/internal/base"
	"zygos/internal/definition"
	"zygos/internal/plan"
	"zygos/internal/store"
)

var cmdBases = &command{
	name: "bases", group: "define", args: "[BASE…]", most: -1,
	summary: "list bases: where they come from, how far they have come, their digest",
	text: `States: ready (unpacked, builds start at once), downloaded (in the store), present (a file
at hand), remote (to be downloaded), missing. --fetch downloads and verifies now what a
build would fetch later.`,
	example: "zygos bases\nzygos bases --fetch",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.fetch, "fetch", false, "download and verify now")
	},
	run: opened(true, runBases),
}

type baseLine struct {
	Name    string   `json:"name"`
	Release string   `json:"release"`
	State   string   `json:"state"`
	From    string   `json:"from"`
	Digest  string   `json:"digest"`
	Used    []string `json:"used_by"`
}

func runBases(ctx context.Context, in *invocation, p *place) error {
	for _, name := range in.args {
		if p.Org.Base(name) == nil {
			return fmt.Errorf("no base %q in zygos.toml; 'zygos bases' lists them", name)
		}
	}
	l := in.live()
	defer l.end()
	im := p.importer("", func(doing string, done, total int64) { l.show(doing, done, total) })
	var list []baseLine
	for i := range p.Org.Bases {
		b := &p.Org.Bases[i]
		if len(in.args) > 0 && !contains(in.args, b.Name) {
			continue
		}
		if in.set.fetch {
			if err := fetchBase(ctx, im, b); err != nil {
				return err
			}
		}
		line := baseLine{Name: b.Name, Release: b.Release, Digest: "sha256:" + b.SHA256, Used: []string{}}
		line.State, line.From = im.State(b)
		for _, img := range p.Images {
			if img.Base == b.Name {
				line.Used = append(line.Used, img.Name)
			}
		}
		list = append(list, line)
	}
	l.end()
	if in.json {
		return in.writeJSON(list)
	}
	var rows [][]string
	for _, b := range list {
		rows = append(rows, []string{b.Name, b.Release, b.State, short(b.Digest), b.From, dash(strings.Join(b.Used, ", "))})
	}
	if err := in.columns([]string{"BASE", "RELEASE", "STATE", "SHA256", "FROM", "USED BY"}, rows); err != nil {
		return err
	}
	for _, b := range list {
		if b.State == base.Missing {
			in.note("base %s is nowhere to be had; correct [base.%s] from = […] in zygos.toml", b.Name, b.Name)
		}
	}
	if len(p.Images) > 0 {
		in.next("zygos preview " + p.Images[0].Name)
	}
	return nil
}

// fetchBase brings a base's archive to hand and verifies it.
func fetchBase(ctx context.Context, im *base.Importer, b *definition.Base) error {
	file, from, err := im.Archive(ctx, b)
	if err != nil {
		return err
	}
	got, err := store.Digest(ctx, file, nil)
	if err == nil && got.Digest != "sha256:"+b.SHA256 {
		err = &base.MismatchError{Base: b.Name, From: from, Want: b.SHA256, Got: strings.TrimPrefix(got.Digest, "sha256:")}
	}
	return err
}

func contains(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}

var cmdLint = &command{
	name: "lint", group: "define",
	summary: "check all definitions and say what is wrong, where, and what to do",
	text: `Reads zygos.toml, images/*.toml and the shared stages they use, and reports every problem
at once as file:line:column. Ends with 3 if there is any.`,
	example: "zygos lint\nzygos lint --json",
	run: func(_ context.Context, in *invocation) error {
		w, err := in.load()
		if err != nil {
			return err
		}
		stages := 0
		for _, img := range w.Images {
			stages += len(img.Stages)
		}
		if in.json {
			return in.writeJSON(map[string]any{"problems": []string{}, "images": len(w.Images), "stages": stages, "bases": len(w.Org.Bases), "regions": len(w.Org.Regions)})
		}
		_, err = fmt.Fprintf(in.out, "No problem in %s: %s, %s, %s, %s\n", w.Root, counted(len(w.Images), "image"),
			counted(stages, "stage"), counted(len(w.Org.Bases), "base"), counted(len(w.Org.Regions), "region"))
		in.next("zygos preview")
		return err
	},
}

var cmdPreview = &command{
	name: "preview", group: "define", args: "[IMAGE…]", most: -1,
	summary: "show what a build would do, and why, without doing it",
	text: `Shows in order: the base pinned to a digest, each stage with its steps and whether it would
be reused or run, sealing, the version it would get, artifacts and regions. Without IMAGE,
all images.`,
	example: "zygos preview turbine-link\nzygos preview --json",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.BoolVar(&in.set.force, "force", false, "as for a build with --force")
	},
	run: opened(true, runPreview),
}

func runPreview(ctx context.Context, in *invocation, p *place) error {
	names := in.args
	if len(names) == 0 {
		for _, img := range p.Images {
			names = append(names, img.Name)
		}
	}
	plans := []*plan.Plan{}
	for i, name := range names {
		made, err := p.plans(ctx, name, in.set.force)
		if err != nil && len(in.args) == 0 && !in.json {
			// One image whose parent is not built yet must not hide the others.
			if i > 0 {
				fmt.Fprintln(in.out)
			}
			fmt.Fprintf(in.out, "%s  cannot be planned yet: %s\n", in.paint(bold, name), err)
			continue
		}
		if err != nil {
			return err
		}
		plans = append(plans, made)
		if !in.json {
			if i > 0 {
				fmt.Fprintln(in.out)
			}
			in.writePlan(made)
		}
	}
	if in.json {
		return in.writeJSON(plans)
	}
	if len(in.args) == 1 {
		in.next("zygos build " + in.args[0])
	}
	return nil
}

func (in *invocation) writePlan(p *plan.Plan) {
	head := in.paint(bold, p.Image+" "+p.Version)
	if p.Unchanged != "" {
		fmt.Fprintf(in.out, "%s  is up to date: nothing changed since it was built\n", head)
	} else {
		fmt.Fprintf(in.out, "%s  would be built\n", head)
	}
	row := func(word, text string) {
		fmt.Fprintln(in.out, strings.TrimRight(fmt.Sprintf("  %-8s %s", word, text), " "))
	}
	row("base", fmt.Sprintf("%s@%s  sha256:%s", p.Base.Name, p.Base.Version, short(p.Base.Digest)))
	for _, s := range p.Stages {
		state := in.paint(amber, "will run") + ": " + s.Reason
		if s.Reuse != nil {
			state = in.paint(green, "reused") + " from " + s.Reuse.Build
		}
		row("stage", fmt.Sprintf("%-16s %s", s.Name, state))
		for _, step := range s.Steps {
			text := "run  " + step.Name
			if step.To != "" {
				text = fmt.Sprintf("%s -> %s  %s %s", step.Name, step.To, step.Mode, step.Owner)
			}
			row("", "  "+text)
		}
	}
	if len(p.Keep) > 0 {
		row("seal", "all but "+strings.Join(p.Keep, ", "))
	} else {
		row("seal", "identity, keys, logs, caches and leftovers")
	}
	for _, a := range p.Artifacts {
		size := ""
		if a.Format == "raw" {
			size = "smallest size that holds the tree, and a margin"
			if a.Size > 0 {
				size = mib(a.Size)
			}
		}
		row("artifact", fmt.Sprintf("%-16s %s", a.Format, size))
	}
	row("regions", dash(strings.Join(p.Regions, ", ")))
}

var cmdNew = &command{
	name: "new", group: "start", args: "DIR, or image NAME --from OTHER", least: 1, most: 2,
	summary: "make a small workspace that builds at once; inside one, a new image from another",
	text: `'zygos new DIR' writes a workspace with a small base, one image and one region. To use your
own base, put a root archive (.tar, .tar.gz, .tar.zst or .tar.xz) into DIR/bases and name it
with its sha256sum in zygos.toml. 'zygos new image NAME --from OTHER' copies a definition.`,
	example: "zygos new golden\nzygos new image tide-desk-lite --from tide-desk",
	flags: func(fs *flag.FlagSet, in *invocation) {
		fs.StringVar(&in.set.from, "from", "", "copy the definition of image `OTHER`")
	},
	run: func(_ context.Context, in *invocation) error {
		if in.args[0] == "image" && len(in.args) == 2 {
			return in.newImage(in.args[1])
		}
		if len(in.args) != 1 || in.set.from != "" {
			return wrongUse("write 'zygos new DIR', or 'zygos new image NAME --from OTHER'")
		}
		return in.newWorkspace(in.args[0])
	},
}

func (in *invocation) newImage(name string) error {
	w, err := in.load()
	if err != nil {
		return err
	}
	if in.set.from == "" {
		return wrongUse("name the image to start from: zygos new image %s --from OTHER", name)
	}
	if !definition.IsName(name) {
		return wrongUse("%q is no name for an image; use lower-case letters, digits, '-' and '.'", name)
	}
	other, err := w.Image(in.set.from)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(w.Path(other.File))
	if err != nil {
		return err
	}
	to := "images/" + name + ".toml"
	file, err := os.OpenFile(w.Path(to), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s exists already; choose another name or edit it", to)
	}
	if err != nil {
		return err
	}
	if _, err = file.Write(text); err == nil {
		err = file.Close()
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	if in.json {
		return in.writeJSON(map[string]string{"image": name, "file": to, "from": other.Name})
	}
	fmt.Fprintf(in.out, "Wrote %s, a copy of %s\n", to, other.File)
	in.next(fmt.Sprintf("edit %s, then zygos preview %s", to, name))
	return nil
}
