package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"zygos/internal/catalog"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/rescue"
	"zygos/internal/state"
	"zygos/internal/store"
)

// Imported is what Import did.
type Imported struct {
	Rows  int
	Where string
	Aside string         // what the file of a lost catalog is called now, "" for none
	Found *rescue.Result // of a catalog that was made anew, nil for others
}

// Import reads a catalog into the state's empty one, all or nothing: an exported one from in if from is
// "-" or else from that file, the one in a catalog's file, or one that is made anew from a folder of
// builds. opening is the error that Open gave, if that is one that an import mends.
func (a *Session) Import(ctx context.Context, from string, in io.Reader, opening error) (*Imported, error) {
	var stranger *state.StrangerError
	var lost *state.LostError
	done := &Imported{Where: a.Where()}
	errors.As(opening, &stranger)
	if err := a.Writable(); err != nil {
		return nil, err
	}
	if errors.As(opening, &lost) { // this import brings it back
		var err error
		if done.Aside, err = a.beginAnew(ctx); err != nil {
			return nil, err
		}
	} else if opening != nil && stranger == nil {
		return nil, opening
	}
	text, bytes, end, err := a.exported(ctx, from, in, done)
	if err != nil {
		return nil, err
	}
	defer end()
	had := "" // this import may make the state's catalog the one that is named
	if stranger != nil {
		text, err := os.ReadFile(a.Dir.CatalogID())
		if err != nil {
			return nil, err
		}
		had, _, _ = strings.Cut(string(text), " ")
	}
	temp, err := os.MkdirTemp(string(a.Dir), catalog.TempPrefix)
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temp) // what stays is swept
	var id string
	alone, err := a.IfAlone(ctx, func() (err error) { // what others register in the old catalog would be lost
		done.Rows, id, err = a.Catalog.Import(ctx, &told{Reader: text, tell: func(n int64) { a.Progress("import", n, bytes) }}, had, temp)
		return err
	})
	if !alone && err == nil {
		err = errors.New("another command uses this state; run it again when that is done")
	}
	if err != nil {
		return nil, fmt.Errorf("import %s: %w", from, err)
	}
	return done, store.WriteFile(a.Dir.CatalogID(), []byte(id+" "+done.Where))
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

// exported opens an exported catalog, exports the one in a file, or makes one anew. How many bytes it has
// is 0 where that is not known.
func (a *Session) exported(ctx context.Context, name string, in io.Reader, done *Imported) (from io.Reader, size int64, end func(),
	err error) {
	if name == "-" {
		return in, 0, func() {}, nil
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
	if info.IsDir() {
		f.Close()
		return a.rebuilt(ctx, name, done)
	}
	head := make([]byte, len(state.DatabaseMagic))
	_, _ = f.ReadAt(head, 0) // a shorter file is no database
	if string(head) != state.DatabaseMagic {
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
func exporting(ctx context.Context, c *catalog.Catalog, after func()) (from io.Reader, size int64, end func(), err error) {
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
func (a *Session) beginAnew(ctx context.Context) (aside string, err error) {
	file := a.Dir.CatalogFile()
	name := file + ".lost-" + time.Now().UTC().Format("20060102-150405")
	for _, end := range []string{"", "-wal", "-shm"} {
		err := os.Rename(file+end, name+end)
		if err == nil && end == "" {
			aside = name
		} else if err != nil && !errors.Is(err, os.ErrNotExist) {
			return aside, err
		}
	}
	a.Catalog, err = catalog.Open(ctx, file, "")
	return aside, err
}

// rebuilt makes a catalog from the records of builds, in a folder, and from the indexes of regions, and
// exports it.
func (a *Session) rebuilt(ctx context.Context, builds string, done *Imported) (from io.Reader, size int64, end func(), err error) {
	temp, err := os.MkdirTemp(string(a.Dir), catalog.TempPrefix)
	if err != nil {
		return nil, 0, nil, err
	}
	clean := func() { _ = os.RemoveAll(temp) } // what stays is swept
	c, err := catalog.Open(ctx, filepath.Join(temp, "catalog.db"), "")
	if err != nil {
		clean()
		return nil, 0, nil, err
	}
	regions := map[string]region.Region{}
	for i := range a.Org.Regions {
		r := &a.Org.Regions[i]
		if regions[r.Name], err = kinds.Open(r, a.Path); err != nil {
			break
		}
	}
	if err == nil {
		done.Found, err = rescue.Rebuild(ctx, c, state.Dir(filepath.Dir(filepath.Clean(builds))), regions)
	}
	if err == nil {
		_, err = c.ID(ctx)
	}
	if err != nil {
		c.Close()
		clean()
		return nil, 0, nil, err
	}
	return exporting(ctx, c, clean)
}
