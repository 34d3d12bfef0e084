package build_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/store"
	"zygos/internal/sweep"
)

func TestTooSmallADiskSaysWhatIsNeeded(t *testing.T) {
	w := newWorks(t)
	p := w.plan("1.0.0", "one")
	p.Shapes[0].Artifacts = []definition.Artifact{{Format: "raw", Size: 16 << 10}}
	_, err := w.engine.Run(t.Context(), p)
	require.ErrorContains(t, err, "capture raw: the tree needs a disk of at least 1 MiB")
	require.ErrorContains(t, err, "images/link.toml")
}

// A new format is one entry of the table: definitions, builds, the store and file names know it.
func TestNewFormatIsOneEntryOfTheTable(t *testing.T) {
	old := artifact.Table
	t.Cleanup(func() { artifact.Table = old })
	artifact.Table = append(slices.Clone(old),
		&artifact.Format{Name: "names", Extension: ".txt", MediaType: "text/plain",
			Options: []*artifact.Option{{Name: "size"}, {Name: "order", Is: artifact.Word, Words: []string{"up", "down"}}},
			Write: func(_ context.Context, to *store.Writer, t *artifact.Tree, o artifact.Options) error {
				for _, n := range t.Nodes {
					if _, err := fmt.Fprintf(to, "%s %d %s\n", n.Path, o.Size, o.Says["order"]); err != nil {
						return err
					}
					t.Tell(n.Size)
				}
				return nil
			}})
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "images"), 0o755))
	text := "series = \"1.0\"\nbase = \"field-os\"\n[[stage]]\nname = \"s\"\ninline = \"true\"\n[[artifact]]\nformat = \"names\"\nsize = " +
		"\"3KiB\"\norder = \"down\"\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "images/link.toml"), []byte(text), 0o644))
	var problems definition.Problems
	img := definition.ReadImage(dir, "images/link.toml", definition.ExpectKinds{}, &problems)
	require.Empty(t, problems)

	w := newWorks(t)
	p := w.plan("1.0.0", "one")
	p.Shapes[0].Artifacts = img.Artifacts
	record, err := w.engine.Run(t.Context(), p)
	require.NoError(t, err)
	a := record.Version.Artifacts[0]
	content, err := os.ReadFile(w.engine.Store.Path(a.Digest))
	require.NoError(t, err)
	require.Contains(t, string(content), "made-by-one 3072 down\n")
	index, err := os.ReadFile(filepath.Join(w.engine.Dir.Store(), "index.json"))
	require.NoError(t, err)
	manifest, err := digest.Parse(regexp.MustCompile(`sha256:[0-9a-f]{64}`).FindString(string(index)))
	require.NoError(t, err)
	listed, err := os.ReadFile(w.engine.Store.Path(manifest))
	require.NoError(t, err)
	require.Contains(t, string(listed), "text/plain")
	require.Contains(t, string(listed), "link-1.0.0.txt")

	p = w.plan("1.0.1", "one")
	p.Shapes[0].Artifacts = []definition.Artifact{{Format: "tape"}}
	_, err = w.engine.Run(t.Context(), p)
	require.ErrorAs(t, err, new(*artifact.UnknownError))
	_, err = artifact.Key{Format: "tape"}.File("link", "1.0.0", nil)
	require.ErrorContains(t, err, `does not know the format "tape"; it knows tar, raw, `)
}

// What was captured before from the same tree is not captured again, as long as the store has it.
func TestSameTreeIsCapturedOnce(t *testing.T) {
	w := newWorks(t)
	_, err := w.engine.Run(t.Context(), w.plan("1.0.0", "a"))
	require.NoError(t, err)
	first := w.versions()[0].Artifacts
	file := w.engine.Store.Path(first[0].Digest)
	was, err := os.Stat(file)
	require.NoError(t, err)
	_, err = w.engine.Run(t.Context(), w.plan("1.0.1", "a"))
	require.NoError(t, err)
	require.Equal(t, first, w.versions()[0].Artifacts)
	is, err := os.Stat(file)
	require.NoError(t, err)
	require.True(t, os.SameFile(was, is), "it was not even written again")
	require.NoError(t, os.Remove(file))
	_, err = w.engine.Run(t.Context(), w.plan("1.0.2", "a"))
	require.NoError(t, err)
	require.FileExists(t, file, "what the store has not is made anew")
}

// What the last disk of an artifact was packed to serves the next one, which is the same as without it.
func TestNextDiskIsMadeOfTheLast(t *testing.T) {
	w := newWorks(t)
	build := func(version, stage string, force bool) store.Blob {
		p := w.plan(version, stage)
		p.Shapes[0].Artifacts = []definition.Artifact{{Format: "qcow2"}, {Format: "ova"}}
		p.Force = force
		record, err := w.engine.Run(t.Context(), p)
		require.NoError(t, err)
		a := record.Version.Artifacts[0]
		return store.Blob{Digest: a.Digest, Bytes: a.Bytes}
	}
	first := build("1.0.0", "a", false)
	lists := w.engine.Dir.Find("pieces/link/*/*")
	require.Len(t, lists, 2)
	text, err := os.ReadFile(lists[1])
	require.NoError(t, err)
	require.Contains(t, string(text), first.Digest.String())
	second := build("1.0.1", "b", false)
	require.NotEqual(t, first, second)
	require.Equal(t, second, build("1.0.2", "b", true))

	require.NoError(t, os.WriteFile(lists[1], text[:len(text)-1], 0o600))
	require.Equal(t, first, build("1.0.3", "a", true))
	require.NoError(t, os.Remove(w.engine.Store.Path(first.Digest)))
	require.Equal(t, first, build("1.0.4", "a", false))
	require.NoError(t, os.Remove(w.engine.Store.Path(first.Digest)))
	keepAll := func() (func(digest.Digest) bool, error) { return func(digest.Digest) bool { return true }, nil }
	_, err = sweep.Bytes(t.Context(), w.engine.State, keepAll)
	require.NoError(t, err)
	require.Equal(t, lists[:1], w.engine.Dir.Find("pieces/link/*/*"), "a list of a disk that is gone goes")
}
