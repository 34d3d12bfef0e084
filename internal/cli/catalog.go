package cli

import (
	"context"
	"flag"
	"fmt"
	"os"

	"zygos/internal/app"
	"zygos/internal/catalog"
)

var cmdCatalog = &command{
	name: "catalog", group: "keep",
	summary: "say which catalog is used, or bring it up to date",
	text: `A program uses a catalog with the tables of its own schema or of the one before. A catalog that several
machines share is brought up to the newest schema by --upgrade alone, since older programs cannot
use it from then on: bring the programs up to date first. The file of a state is brought up by the
first command that changes something.`,
	example: "zygos catalog\nzygos catalog --upgrade",
	flags:   func() flags { return &catalogFlags{} },
	run:     runCatalog,
}

type catalogFlags struct{ upgrade bool }

func (f *catalogFlags) declare(fs *flag.FlagSet) {
	fs.BoolVar(&f.upgrade, "upgrade", false, "bring the catalog up to the newest schema")
}

func runCatalog(ctx context.Context, in *invocation) error {
	a, opening := app.Begin(ctx, in.where(), app.Lenient, caller())
	if a == nil {
		return opening
	}
	defer a.Close()
	about, err := a.AboutCatalog(ctx, in.flags.(*catalogFlags).upgrade, opening)
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(about)
	}
	fmt.Fprintf(in.out, "Catalog  %s\n", about.Where)
	if about.ID != "" {
		fmt.Fprintf(in.out, "Id       %s\n", about.ID)
	}
	switch {
	case about.Had > 0:
		fmt.Fprintf(in.out, "Schema   %d, brought up from %d; older programs cannot use the catalog any more\n", about.Schema, about.Had)
	case about.Schema < about.Newest:
		fmt.Fprintf(in.out, "Schema   %d; this program also knows %d\n", about.Schema, about.Newest)
		in.next("zygos catalog --upgrade   once every machine has this program or a newer one")
		return nil
	default:
		fmt.Fprintf(in.out, "Schema   %d, the newest that this program knows\n", about.Schema)
	}
	in.next("zygos list")
	return nil
}

var cmdExport = &command{
	name: "export", group: "keep",
	summary: "write the whole catalog as JSON lines, for a backup or to move it",
	text: `Writes builds, versions, artifacts, tags and their moves, placements and recalls as they are at
one moment. Artifacts and layers are files of the state and are not in it.`,
	example: "zygos export > catalog.jsonl",
	run: opened(app.Lenient, func(ctx context.Context, in *invocation, a *app.Session) error {
		l := in.live()
		l.show("", "export", 0, 0)
		n, err := a.Catalog.Export(ctx, raw(in.out))
		l.end()
		if err == nil {
			in.note("wrote %s", counted(n, "row"))
		}
		return err
	}),
}

var cmdImport = &command{
	name: "import", group: "keep", args: "FILE", least: 1, most: 1,
	summary: "read an exported catalog into an empty one",
	text: `FILE is what 'zygos export' wrote, '-' for standard input, or the catalog.db of a state: so a
catalog moves from a state to the PostgreSQL database that [catalog] in zygos.toml names. All is
read, or nothing. Of a catalog that is lost, FILE may also be the state's folder builds: what the
records of builds and the indexes of regions tell comes back, which is versions, tags, recalls
and where artifacts are.`,
	example: "zygos import catalog.jsonl --state /srv/zygos\nzygos import .zygos/catalog.db",
	run:     runImport,
}

func runImport(ctx context.Context, in *invocation) error {
	a, opening := app.Begin(ctx, in.where(), app.Lenient, caller())
	if a == nil {
		return opening
	}
	defer a.Close()
	l := in.follow(a)
	done, err := a.Import(ctx, in.args[0], os.Stdin, opening)
	l.end()
	if err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]any{"rows": done.Rows, "catalog": done.Where})
	}
	if f := done.Found; f != nil {
		for _, text := range f.Skipped {
			in.note("passed over: %s", text)
		}
		in.note("found %s, %s, %s, %s", counted(f.Versions, "version"), counted(f.Tags, "tag"), counted(f.Placements, "placement"),
			counted(f.Recalls, "recall"))
	}
	_, err = fmt.Fprintf(in.out, "Read %s into the catalog %s\n", counted(done.Rows, "row"), done.Where)
	if done.Aside != "" {
		in.note("the file that could not be used is kept as %s", done.Aside)
	}
	if in.args[0] != "-" && catalog.IsAddress(done.Where) {
		in.note("%s stays as it was, as a backup; nothing uses it any more", in.args[0])
	}
	in.next("zygos list")
	return err
}
