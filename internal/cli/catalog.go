package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/rescue"
	"zygos/internal/secret"
	"zygos/internal/store"
)

// strangerError says that a state belongs to another catalog than the one that zygos.toml names.
type strangerError struct{ State, Had, Now string }

func (e *strangerError) Error() string {
	move := "zygos import " + e.Had
	if catalog.IsAddress(e.Had) {
		move = "name it in [catalog] again, 'zygos export > FILE', take it out, 'zygos import FILE'"
	}
	return fmt.Sprintf("the state %s belongs to the catalog %s, and zygos.toml leads to %s. To move the catalog there: %s. "+
		"To leave this state as it is and begin another: --state DIR", e.State, e.Had, e.Now, move)
}

// openCatalog opens the catalog that zygos.toml names, or the state's own.
func (p *place) openCatalog(ctx context.Context, problems definition.Problems) error {
	id, err := store.First(filepath.Join(p.State, "state-id"), []byte(rand.Text()))
	if err != nil {
		return err
	}
	p.id = string(id)
	where, password, named := p.ownCatalog(), "", p.Org.Catalog
	if named.URL != "" {
		where = named.URL
	}
	if named.Credentials != "" {
		var set bool
		if password, set, err = secret.Read(ctx, named.Credentials, p.Root); err != nil || !set {
			return fmt.Errorf("%s: the credentials of [catalog], %s, give no password: %w", named.Pos, named.Credentials, cmp.Or(err, errors.New("it is not set")))
		}
	}
	if named.URL == "" {
		if err := p.lost(); err != nil {
			return err
		}
	}
	if p.frozen && named.URL == "" {
		p.catalog, err = catalog.Look(ctx, where)
	} else {
		p.catalog, err = catalog.Open(ctx, where, password)
	}
	if broken := (*catalog.BrokenError)(nil); errors.As(err, &broken) {
		return &lostError{where, broken.Error()}
	}
	if err != nil {
		if named.URL != "" {
			err = fmt.Errorf("%s: %w", named.Pos, err)
		}
		return err
	}
	err = p.checkCatalog(ctx, catalog.Plain(where))
	var stranger *strangerError
	if errors.As(err, &stranger) && problems != nil {
		err = problems // what zygos.toml says of the catalog may not have been understood
	}
	return err
}

// lostError says that the state's own catalog is gone or damaged, and how to get it back.
type lostError struct{ File, What string }

func (e *lostError) Error() string {
	state := filepath.Dir(e.File)
	return fmt.Sprintf("the catalog %s cannot be used: %s. The versions are not lost with it. Put a copy of the file in its place, or read an exported catalog with "+
		"'zygos import FILE'; without either, 'zygos import %s' makes it anew from the records of builds and the indexes of regions", e.File, e.What, filepath.Join(state, "builds"))
}

// lost says what is wrong with the file of a catalog that this state has had, before anything opens it
// and begins a new one.
func (p *place) lost() error {
	text, err := os.ReadFile(filepath.Join(p.State, "catalog-id"))
	if _, at, _ := strings.Cut(string(text), " "); err != nil || catalog.IsAddress(at) {
		return nil
	}
	file := p.ownCatalog()
	head := make([]byte, len(databaseMagic))
	f, err := os.Open(file)
	if errors.Is(err, os.ErrNotExist) {
		return &lostError{file, "it is not there"}
	} else if err != nil {
		return err
	}
	defer f.Close()
	switch n, _ := io.ReadFull(f, head); {
	case n == 0:
		return &lostError{file, "it is empty"}
	case string(head) != databaseMagic:
		return &lostError{file, "it is no database"}
	}
	return nil
}

const databaseMagic = "SQLite format 3"

func (p *place) ownCatalog() string { return filepath.Join(p.State, "catalog.db") }

// checkCatalog makes sure that the state goes with the catalog: what no version in the catalog
// speaks of would be swept.
func (p *place) checkCatalog(ctx context.Context, where string) error {
	name := filepath.Join(p.State, "catalog-id")
	if _, err := os.Stat(name); errors.Is(err, os.ErrNotExist) && catalog.IsAddress(where) {
		if _, err := os.Stat(p.ownCatalog()); err == nil { // the state has versions of its own
			own, err := catalog.Open(ctx, p.ownCatalog(), "")
			if err != nil {
				return err
			}
			id, err := own.ID(ctx)
			own.Close()
			if err != nil {
				return err
			}
			if _, err := store.First(name, []byte(id+" "+p.ownCatalog())); err != nil {
				return err
			}
		}
	}
	id, err := p.catalog.ID(ctx)
	if err != nil {
		return err
	}
	text, err := store.First(name, []byte(id+" "+where))
	if err != nil {
		return err
	}
	had, at, _ := strings.Cut(string(text), " ")
	if had != id || catalog.IsAddress(at) != catalog.IsAddress(where) { // in one of both places is an old copy
		return &strangerError{p.State, at, where}
	}
	return nil
}

var cmdExport = &command{
	name: "export", group: "keep",
	summary: "write the whole catalog as JSON lines, for a backup or to move it",
	text: `Writes builds, versions, artifacts, tags and their moves, placements and recalls as they are at
one moment. Artifacts and layers are files of the state and are not in it.`,
	example: "zygos export > catalog.jsonl",
	run: opened(lenient, func(ctx context.Context, in *invocation, p *place) error {
		l := in.live()
		l.show("", "export", 0, 0)
		n, err := p.catalog.Export(ctx, raw(in.out))
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
	p, err := in.open(ctx, lenient)
	var stranger *strangerError
	var lost *lostError
	aside := ""
	switch {
	case errors.As(err, &lost): // this import brings it back
		if aside, err = p.beginAnew(ctx); err != nil {
			return err
		}
	case err != nil && !errors.As(err, &stranger): // else this import may make the state's catalog the one that is named
		return err
	}
	defer p.close()
	if err := p.writable(); err != nil {
		return err
	}
	from, bytes, done, err := p.exported(ctx, in)
	if err != nil {
		return err
	}
	defer done()
	had := ""
	if stranger != nil {
		text, err := os.ReadFile(filepath.Join(p.State, "catalog-id"))
		if err != nil {
			return err
		}
		had, _, _ = strings.Cut(string(text), " ")
	}
	l := in.live()
	var n int
	var id string
	alone, err := p.ifAlone(ctx, func() (err error) { // what others register in the old catalog would be lost
		n, id, err = p.catalog.Import(ctx, &told{Reader: from, tell: func(n int64) { l.show("", "import", n, bytes) }}, had)
		return err
	})
	l.end()
	if !alone && err == nil {
		err = errors.New("another command uses this state; run it again when that is done")
	}
	if err != nil {
		return fmt.Errorf("import %s: %w", in.args[0], err)
	}
	where := p.ownCatalog()
	if p.Org.Catalog.URL != "" {
		where = p.Org.Catalog.URL
	}
	where = catalog.Plain(where)
	if err := store.WriteFile(filepath.Join(p.State, "catalog-id"), []byte(id+" "+where)); err != nil {
		return err
	}
	if in.json {
		return in.writeJSON(map[string]any{"rows": n, "catalog": where})
	}
	_, err = fmt.Fprintf(in.out, "Read %s into the catalog %s\n", counted(n, "row"), where)
	if aside != "" {
		in.note("the file that could not be used is kept as %s", aside)
	}
	if in.args[0] != "-" && catalog.IsAddress(where) {
		in.note("%s stays as it was, as a backup; nothing uses it any more", in.args[0])
	}
	in.next("zygos list")
	return err
}

// told tells how many bytes were read.
type told struct {
	io.Reader
	n    int64
	tell func(n int64)
}

func (t *told) Read(p []byte) (int, error) {
	n, err := t.Reader.Read(p)
	t.n += int64(n)
	t.tell(t.n)
	return n, err
}

// exported opens an exported catalog, or exports the one in a file. How many bytes it has is 0 where
// that is not known.
func (p *place) exported(ctx context.Context, in *invocation) (from io.Reader, size int64, done func(), err error) {
	name := in.args[0]
	if isFolder(name) {
		return p.rebuilt(ctx, in, name)
	}
	if name == "-" {
		return os.Stdin, 0, func() {}, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, nil, fmt.Errorf("%w; name a file that 'zygos export' wrote, or a state's catalog.db", err)
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, nil, err
	}
	head := make([]byte, len(databaseMagic))
	_, _ = f.ReadAt(head, 0) // a shorter file is no database
	if string(head) != databaseMagic {
		return f, info.Size(), func() { f.Close() }, nil
	}
	f.Close()
	c, err := catalog.Open(ctx, name, "")
	if err != nil {
		return nil, 0, nil, err
	}
	return exporting(ctx, c, func() {})
}

// exporting reads what a catalog exports, and closes it in the end.
func exporting(ctx context.Context, c *catalog.Catalog, after func()) (from io.Reader, size int64, done func(), err error) {
	r, w := io.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, err := c.Export(ctx, w)
		w.CloseWithError(err)
	}()
	return r, 0, func() { r.Close(); <-ended; c.Close(); after() }, nil
}

// beginAnew puts a catalog's file that cannot be used aside, and opens an empty one. It says what the old
// one is called now, "" if there was none.
func (p *place) beginAnew(ctx context.Context) (aside string, err error) {
	file := p.ownCatalog()
	name := file + ".lost-" + time.Now().UTC().Format("20060102-150405")
	for _, end := range []string{"", "-wal", "-shm"} {
		err := os.Rename(file+end, name+end)
		if err == nil && end == "" {
			aside = name
		} else if err != nil && !errors.Is(err, os.ErrNotExist) {
			return aside, err
		}
	}
	p.catalog, err = catalog.Open(ctx, file, "")
	return aside, err
}

// rebuilt makes a catalog from the records of builds, in a folder, and from the indexes of regions, and
// exports it.
func (p *place) rebuilt(ctx context.Context, in *invocation, builds string) (from io.Reader, size int64, done func(), err error) {
	temp, err := os.MkdirTemp(p.State, ".new-")
	if err != nil {
		return nil, 0, nil, err
	}
	clean := func() { _ = os.RemoveAll(temp) } // what stays is swept
	c, err := catalog.Open(ctx, filepath.Join(temp, "catalog.db"), "")
	if err != nil {
		clean()
		return nil, 0, nil, err
	}
	var indexes []string
	for _, r := range p.Org.Regions {
		indexes = append(indexes, filepath.Join(p.Path(r.Path), "index.json"))
	}
	found, err := rescue.Rebuild(ctx, c, filepath.Dir(filepath.Clean(builds)), indexes)
	if err == nil {
		_, err = c.ID(ctx)
	}
	if err != nil {
		c.Close()
		clean()
		return nil, 0, nil, err
	}
	for _, text := range found.Skipped {
		in.note("passed over: %s", text)
	}
	in.note("found %s, %s, %s, %s", counted(found.Versions, "version"), counted(found.Tags, "tag"), counted(found.Placements, "placement"), counted(found.Recalls, "recall"))
	return exporting(ctx, c, clean)
}
