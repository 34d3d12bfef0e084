package cli

import (
	"context"
	"fmt"
	"io"
	"os"
)

var cmdExport = &command{
	name: "export", group: "keep",
	summary: "write the whole catalog as JSON lines, for a backup or to move it",
	text: `Writes builds, versions, artifacts, tags and their moves, placements and recalls as they are at
one moment. Artifacts and layers are files of the state and are not in it.`,
	example: "zygos export > catalog.jsonl",
	run: opened(false, func(ctx context.Context, in *invocation, p *place) error {
		n, err := p.catalog.Export(ctx, in.out)
		if err == nil {
			in.note("wrote %s", counted(n, "row"))
		}
		return err
	}),
}

var cmdImport = &command{
	name: "import", group: "keep", args: "FILE", least: 1, most: 1,
	summary: "read an exported catalog into an empty one",
	text:    "FILE is what 'zygos export' wrote; '-' reads standard input. All is read, or nothing.",
	example: "zygos import catalog.jsonl --state /srv/zygos",
	run: opened(false, func(ctx context.Context, in *invocation, p *place) error {
		from := io.Reader(os.Stdin)
		if in.args[0] != "-" {
			f, err := os.Open(in.args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			from = f
		}
		n, err := p.catalog.Import(ctx, from)
		if err != nil {
			return fmt.Errorf("import %s: %w", in.args[0], err)
		}
		if in.json {
			return in.writeJSON(map[string]int{"rows": n})
		}
		_, err = fmt.Fprintf(in.out, "Read %s into the catalog of %s\n", counted(n, "row"), p.State)
		in.next("zygos list")
		return err
	}),
}
