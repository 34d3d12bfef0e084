package layer_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/layer"
)

// depot is a made-up source of layers: archives by digest.
type depot struct {
	archives map[string][]byte
	finished []string
	down     error
}

func (d *depot) Fetch(ctx context.Context, digest string, to *layer.Store) error {
	if d.down != nil {
		return d.down
	}
	text, ok := d.archives[digest]
	if !ok {
		return &layer.MissingError{Layer: digest}
	}
	_, err := keep(ctx, to, text)
	return err
}

func (d *depot) Finished(digest string) { d.finished = append(d.finished, digest) }

// keep unpacks an archive as a layer.
func keep(ctx context.Context, s *layer.Store, text []byte) (string, error) {
	dir, err := s.Begin(s.Dir)
	if err != nil {
		return "", err
	}
	x, err := layer.Unpack(ctx, bytes.NewReader(text), layer.Folder{Dir: dir + "/tree", Owners: s.Owners}, layer.DefaultLimits)
	if err != nil {
		return "", err
	}
	return s.Commit(dir, x)
}

func newStore(t *testing.T) *layer.Store {
	s := &layer.Store{Dir: t.TempDir(), Owners: owners(), Check: true}
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(s.Dir)) })
	return s
}

// Layers that are not here come from a source, which is asked by digest and told of what was made here; what it does not have is one error.
func TestLayersFromElsewhere(t *testing.T) {
	text := archive(t, map[string]string{"a": "content"}, tar.Header{Name: "a", Typeflag: tar.TypeReg, Mode: 0o644}).Bytes()
	there := newStore(t)
	digest, err := keep(t.Context(), there, text)
	require.NoError(t, err)

	d := &depot{archives: map[string][]byte{digest: text}}
	s := newStore(t)
	s.From = d
	require.False(t, s.Has(digest))
	require.NoError(t, s.Ensure(t.Context(), []string{digest}, "link@1.0.0", ""))
	require.True(t, s.Has(digest))
	require.NoError(t, s.Verify(t.Context(), digest))
	require.Equal(t, []string{digest}, d.finished)

	unknown := []string{digest, "00"}
	var missing *layer.MissingError
	require.ErrorAs(t, s.Ensure(t.Context(), unknown, "link@1.0.0", ""), &missing)
	require.Equal(t, "00", missing.Layer)
	require.EqualError(t, s.Ensure(t.Context(), unknown, "link@1.0.0", ""),
		"the layers of link@1.0.0 are not kept in this state; build it here again with --force")
	d.down = errors.New("the depot is down")
	require.EqualError(t, s.Ensure(t.Context(), unknown, "link@1.0.0", ""), "the layers of link@1.0.0: the depot is down")
	s.From = nil
	require.ErrorAs(t, s.Ensure(t.Context(), unknown, "link@1.0.0", "ask somebody"), &missing)
	require.NoError(t, s.Ensure(t.Context(), unknown[:1], "", ""))
}

// A store reads the layers below it as its own, and keeps and removes only its own.
func TestStoreOnAnotherOne(t *testing.T) {
	lower, upper := newStore(t), newStore(t)
	upper.Lower = lower
	one := archive(t, nil, tar.Header{Name: "one", Typeflag: tar.TypeDir, Mode: 0o755}).Bytes()
	two := archive(t, nil, tar.Header{Name: "two", Typeflag: tar.TypeDir, Mode: 0o755}).Bytes()
	below, err := keep(t.Context(), lower, one)
	require.NoError(t, err)
	own, err := keep(t.Context(), upper, two)
	require.NoError(t, err)
	tree, err := upper.Stack([]string{below, own})
	require.NoError(t, err)
	require.NotNil(t, tree.Lookup("one"))
	require.NotNil(t, tree.Lookup("two"))
	require.DirExists(t, upper.TreeDir(below)+"/one")
	require.True(t, upper.Has(below))
	require.False(t, lower.Has(own))
	upper.Forget(&layer.Snapshot{Layer: below})
	require.True(t, lower.Has(below), "what lies below is not the upper store's to remove")
}

// An index is forgotten with its layer, whoever removes that.
func TestIndexGoesWithItsLayer(t *testing.T) {
	s := newStore(t)
	digest, err := keep(t.Context(), s, archive(t, nil, tar.Header{Name: "one", Typeflag: tar.TypeDir, Mode: 0o755}).Bytes())
	require.NoError(t, err)
	_, err = s.Index(digest)
	require.NoError(t, err)
	require.NoError(t, os.Remove(s.TreeDir(digest)+"/../index.jsonl"))
	var missing *layer.MissingError
	_, err = s.Index(digest)
	require.ErrorAs(t, err, &missing)
}
