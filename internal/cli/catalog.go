package cli

import (
	"context"
	"fmt"
	"os"

	"zygos/internal/app"
	"zygos/internal/catalog"
)

var cmdExport = &command{
	name: "export", group: "keep",
	summary: "write the whole catalog as JSON lines, for a backup or to move it",
	text: `Writes builds, versions, artifacts, tags and their moves, placements and recalls as they are at
one moment. Artifacts and layers are files of the state and are not in it.`,
	example: "zygos export > catalog.jsonl",
	run: opened(app.Lenient, func(ctx context.Context, in *invocation, a *app.App) error {
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
	a, opening := app.Open(ctx, in.where(), app.Lenient, caller())
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
