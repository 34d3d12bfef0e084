package artifact

import (
	"context"
	"errors"

	"zygos/internal/layer"
	"zygos/internal/store"
)

// tar is a root archive (POSIX.1-2001, pax), packed with zstd.
var tar = Format{Name: "tar", Extension: ".tar.zst", MediaType: "application/vnd.zygos.tree.v1.tar+zstd", Plain: true, ReadRank: 1,
	Write: writeTar}

func writeTar(ctx context.Context, to *store.Writer, t *Tree, _ Options) error {
	packed, err := store.NewCompressor(to)
	if err != nil {
		return err
	}
	w := layer.NewTarWriter(packed)
	for _, n := range t.Nodes {
		if err = w.Add(ctx, n, t.Content(n)); err != nil {
			break
		}
		t.Tell(n.Size)
	}
	if err == nil {
		err = w.Close()
	}
	return errors.Join(err, packed.Close())
}
