package app_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/app"
	"zygos/internal/base"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/layer"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/region/regiontest"
	"zygos/internal/rules"
	"zygos/internal/supply"
)

// opened is a workspace with one version of an image in its catalog and store, opened.
func opened(t *testing.T, organisation string) *app.Session {
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, app.NewWorkspace(dir))
	file := filepath.Join(dir, "zygos.toml")
	text := read(t, file)
	require.NoError(t, os.WriteFile(file, []byte(text+organisation), 0o644))
	a, err := app.Begin(t.Context(), app.Where{Workspace: dir}, app.Strict, app.Caller{Who: "somebody"})
	if err != nil {
		require.Nil(t, a)
		require.NoError(t, err)
	}
	t.Cleanup(a.Close)
	blob, err := a.Store.Put([]byte("content"))
	require.NoError(t, err)
	require.NoError(t, a.Catalog.StartBuild(t.Context(), catalog.Build{ID: "b-1", Image: "first", Version: "0.1.0", Started: time.Now()}))
	require.NoError(t, a.Catalog.Register(t.Context(), catalog.Version{Image: "first", Version: "0.1.0", Build: "b-1", Created: time.Now(),
		Artifacts: []catalog.Artifact{{Name: "tar", Format: "tar", Digest: blob.Digest, Bytes: blob.Bytes}}}))
	return a
}

// A new kind of region is one line in the table: definitions, publications, documents, supply and prune know it.
func TestNewKindOfRegionIsOneEntryOfTheTable(t *testing.T) {
	old := kinds.Table
	t.Cleanup(func() { kinds.Table = old })
	board := regiontest.New("attic")
	board.Fails = []error{&region.AgainError{Err: errors.New("busy")}}
	kinds.Table = append(slices.Clone(old), &region.Kind{Name: "shelf",
		Read: func(_ string, v definition.Values) any {
			board, at := v.Must("board", "oak")
			if board == "glass" {
				v.Problem(at, "a board of glass breaks", "write oak")
			}
			return board
		},
		Open:  func(*definition.Region, func(string) string) region.Region { return board },
		Where: func(settings any) string { return "the board of " + settings.(string) }})

	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, app.NewWorkspace(dir))
	file := filepath.Join(dir, "zygos.toml")
	good := read(t, file)
	require.NoError(t, os.WriteFile(file,
		[]byte(good+"\n[region.attic]\nkind = \"shelf\"\nboard = \"glass\"\nshine = \"x\"\naccounts = [\"a\"]\n"), 0o644))
	_, err := app.Begin(t.Context(), app.Where{Workspace: dir}, app.Strict, app.Caller{})
	require.ErrorContains(t, err, "a board of glass breaks; write oak")
	require.ErrorContains(t, err, `unknown key "shine" in [region.attic]; known keys are kind, formats, rate, parallel, board`)
	require.ErrorContains(t, err, "a region of the kind shelf knows no accounts; take it out")

	a := opened(t, "\n[region.attic]\nkind = \"shelf\"\nboard = \"oak\"\n")
	request := app.PublishRequest{Refs: []string{"first"}, Regions: []string{"attic"}}
	var states []string
	done, _, err := a.Publish(t.Context(), request, func(p record.Delivery) { states = append(states, p.State) })
	require.NoError(t, err)
	v, placed := done[0].Version, done[0].Placed
	require.Equal(t, []string{publish.Again, region.Copying, region.Done}, states)
	require.Equal(t, 2, board.Asked, "again where that helps")
	require.Equal(t, "attic/first-0.1.0.tar.zst", placed[0].ID)
	require.Contains(t, string(board.Things["index.json"]), `"location":"shelf:first-0.1.0.tar.zst"`)
	require.Contains(t, string(board.Things["first/0.1.0/manifest.json"]), `"attic/first-0.1.0.tar.zst"`)
	list, err := a.Regions(t.Context())
	require.NoError(t, err)
	require.Equal(t, "the board of oak", list[1].Place)

	// What is in no store comes from the region, if it is what it should be.
	require.NoError(t, a.Store.Remove(v.Artifacts[0].Digest))
	board.Things["shelf:first-0.1.0.tar.zst"] = []byte("c0ntent")
	_, err = supply.Artifact(t.Context(), a.Session, v, v.Artifacts[0], nil)
	require.ErrorContains(t, err, "tar of first@0.1.0 cannot be had from region attic: what came has the digest ")
	board.Things["shelf:first-0.1.0.tar.zst"] = []byte("content")
	at, err := supply.Artifact(t.Context(), a.Session, v, v.Artifacts[0], nil)
	require.NoError(t, err)
	require.Equal(t, "content", read(t, at))

	// Trying again does not help against everything.
	board.Asked, board.Fails = 0, []error{errors.New("gone")}
	done, _, err = a.Publish(t.Context(), request, func(record.Delivery) {})
	require.NoError(t, err)
	require.Equal(t, "gone", done[0].Placed[0].Error)
	require.Equal(t, 1, board.Asked)
	under, err := a.Catalog.Underways(t.Context(), "first", "0.1.0", "")
	require.NoError(t, err)
	require.Empty(t, under, "nothing follows for what was placed before")
	require.NoError(t, a.Catalog.Unplace(t.Context(), catalog.Placement{Image: "first", Version: "0.1.0", Region: "attic", Format: "tar"}))
	board.Fails = []error{errors.New("gone")}
	_, _, err = a.Publish(t.Context(), request, func(record.Delivery) {})
	require.NoError(t, err)
	under, err = a.Catalog.Underways(t.Context(), "first", "0.1.0", "")
	require.NoError(t, err)
	require.Len(t, under, 1)
	require.Equal(t, [3]string{"attic", region.Failed, "gone"}, [3]string{under[0].Region, under[0].State, under[0].Why})
}

// Whoever only looks takes a wrong definition as it is, and nothing is written where a region might be.
func TestRegionThatIsNotUnderstoodIsNotUsed(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, app.NewWorkspace(dir))
	file := filepath.Join(dir, "zygos.toml")
	for _, wrong := range []string{"kind = \"folder\"", "kind = \"drawer\"\npath = \"x\"", "path = \"x\""} {
		text, _, _ := strings.Cut(read(t, file), "[region.")
		require.NoError(t, os.WriteFile(file, []byte(text+"[region.here]\n"+wrong+"\n"), 0o644))
		a, err := app.Begin(t.Context(), app.Where{Workspace: dir}, app.Lenient, app.Caller{})
		require.NoError(t, err, wrong)
		_, err = kinds.Open(a.Org.Region("here"), a.Path)
		require.ErrorContains(t, err, "region here cannot be used", wrong)
		require.Empty(t, kinds.Where(a.Org.Region("here")))
		a.Close()
	}
}

// A new rule for tags is one line in the table.
func TestNewRuleIsOneEntryOfTheTable(t *testing.T) {
	old := rules.Table
	t.Cleanup(func() { rules.Table = old })
	rules.Table = append(slices.Clone(old), rules.Rule{Name: "moon",
		Form: func(value string) (what, do string) {
			if value != "full" {
				return "is no good moon", "wait for a full one"
			}
			return "", ""
		},
		Unmet: func(_ context.Context, c *rules.Case, value string) (string, error) {
			if c.Now.IsZero() {
				return "", nil
			}
			return "no " + value + " moon for " + c.Version.Ref() + " as " + c.Tag, nil
		}})
	a := opened(t, "\n[tag.stable]\nneeds = [\"moon:full\", \"from:candidate\"]\n")
	move := catalog.Move{Image: "first", Tag: "stable", Version: "0.1.0"}
	err := rules.Mover(a.Session, time.Now)(t.Context(), a.Catalog, &move)
	require.ErrorContains(t, err, "moon:full: no full moon for first@0.1.0 as stable")
	later := func() time.Time { return time.Time{} }
	err = rules.Mover(a.Session, later)(t.Context(), a.Catalog, &move)
	require.ErrorContains(t, err, "first@0.1.0 was never candidate")
	require.NotContains(t, err.Error(), "moon:")
}

// A new kind of base is one line in the table: definitions, keys and builds know it.
func TestNewKindOfBaseIsOneEntryOfTheTable(t *testing.T) {
	old := base.Table
	t.Cleanup(func() { base.Table = old })
	carried := "" // by its own transport
	base.Table = append([]*base.Kind{{Name: "list", Takes: func(from string) bool { return strings.HasSuffix(from, ".list") },
		Schemes: map[string]func(context.Context, *base.Importer, *definition.Base, string) error{
			"pigeon://": func(_ context.Context, im *base.Importer, _ *definition.Base, from string) error {
				carried = from
				_, err := im.Store.Put([]byte("0123456"))
				return err
			}},
		Read: func(v definition.Values) (any, string) {
			top, at := v.Must("top", "srv")
			if strings.Contains(top, "/") {
				v.Problem(at, "a top is one folder", "write srv")
			}
			return top, top
		},
		Unpack: func(ctx context.Context, in io.Reader, file *os.File, settings any, to layer.Folder, _ layer.Limits) (layer.Index, error) {
			size, err := file.Stat()
			if err != nil {
				return nil, err
			}
			x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}, {Path: settings.(string), Kind: layer.Dir, Mode: uint32(size.Size())}}
			for i := range x {
				if err := to.Put(&x[i], nil); err != nil {
					return nil, err
				}
			}
			return x, to.Finish(x)
		}}}, old...)
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, app.NewWorkspace(dir))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.list"), []byte("0123456"), 0o644))
	file := filepath.Join(dir, "zygos.toml")
	good := read(t, file)
	open := func(from, rest string) (*app.Session, error) {
		text := fmt.Sprintf("%s\n[base.listed]\nrelease = \"1\"\nfrom = [%s]\nsha256 = \"%x\"\n%s\n", good, from,
			sha256.Sum256([]byte("0123456")), rest)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		return app.Begin(t.Context(), app.Where{Workspace: dir}, app.Strict, app.Caller{})
	}
	_, err := open(`"a.list"`, `top = "a/b"`)
	require.ErrorContains(t, err, "a top is one folder; write srv")
	_, err = open(`"a.list"`, `tops = "a"`)
	require.ErrorContains(t, err, `unknown key "tops" in [base.listed]; did you mean "top"?`)
	_, err = open(`"a.list", "a.tar"`, `top = "a"`)
	require.ErrorContains(t, err, `"a.tar" is of another kind (archive) than what is named before it (list)`)

	keys := map[string]bool{}
	for _, top := range []string{"a", "b", "a"} {
		a, err := open(`"a.list"`, `top = "`+top+`"`)
		require.NoError(t, err)
		b := a.Org.Base("listed")
		snap, err := supply.Bring(t.Context(), a.Session, plan.Base{Name: "listed"}, "", t.TempDir(), func(string, int64, int64) {})
		require.NoError(t, err)
		x, err := a.Layers.Index(snap.Layer)
		require.NoError(t, err)
		require.Equal(t, top, x[1].Path)
		require.EqualValues(t, 7, x[1].Mode)
		keys[base.Key(b)] = true
		a.Close()
	}
	require.Len(t, keys, 2, "what a definition says of a base is part of its key")
	a, err := open(`"pigeon://loft.example/a.list"`, `top = "c"`)
	require.NoError(t, err)
	defer a.Close()
	_, err = supply.Bring(t.Context(), a.Session, plan.Base{Name: "listed"}, "", t.TempDir(), func(string, int64, int64) {})
	require.NoError(t, err)
	require.Equal(t, "pigeon://loft.example/a.list", carried)
}
