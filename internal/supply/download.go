package supply

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/cenkalti/backoff/v5"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/state"
	"zygos/internal/store"
)

// partEnd is what the name of a file ends in until all of it is there and verified.
const partEnd = ".part"

// downloads is how often a transfer that broke is gone on with, as long as it moves.
const downloads = 8

// Download writes what was placed in a region to a file and returns its name; out is that, or a folder. The bytes lie under a
// temporary name until they are all there and have the digest; an interrupted download is gone on with where it stopped.
func Download(ctx context.Context, s *state.State, v *catalog.Version, r *definition.Region, pl *catalog.Placement, bytes int64, out string,
	tell Tell) (string, error) {
	file, err := pl.Key().File(v.Image, v.Version)
	if err != nil {
		return "", err
	}
	if info, err := os.Stat(out); err == nil && info.IsDir() {
		out = filepath.Join(out, file)
	}
	from, err := kinds.Open(r, s.Path)
	if err != nil {
		return "", err
	}
	want := store.Blob{Digest: pl.Artifact, Bytes: bytes}
	if _, err := os.Stat(out); err == nil {
		if got, err := store.Digest(ctx, out, nil); err != nil || got == want {
			return out, err
		}
		return "", fmt.Errorf("%s is there already, with other bytes; remove it or choose another name", out)
	}
	part, err := os.OpenFile(out+partEnd, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return "", err
	}
	defer part.Close() // and with it the lock
	if err := flock.Take(ctx, part); err != nil {
		return "", err
	}
	_, err = backoff.Retry(ctx, func() (any, error) {
		err := goOn(ctx, part, from, pl.Location, want, tell, "fetch "+file)
		if again := (*region.AgainError)(nil); err != nil && !errors.As(err, &again) {
			err = backoff.Permanent(err)
		}
		return nil, err
	}, backoff.WithMaxTries(downloads))
	if err != nil {
		return "", fmt.Errorf("fetch %s from %s: %w", file, r.Name, err)
	}
	if got, err := store.Digest(ctx, part.Name(), nil); err != nil {
		return "", err
	} else if got != want {
		return "", errors.Join(fmt.Errorf("what came from %s has the digest %s instead of %s; look at it there with "+
			"'zygos verify %s --region %s --deep'", r.Name, got.Digest, want.Digest, v.Ref(), r.Name), os.Remove(part.Name()))
	}
	if err := errors.Join(part.Sync(), os.Rename(part.Name(), out)); err != nil {
		return "", err
	}
	return out, store.SyncDir(filepath.Dir(out))
}

// goOn appends what a file lacks of what lies in a region.
func goOn(ctx context.Context, part *os.File, from region.Region, location string, want store.Blob, tell Tell, doing string) error {
	at, err := part.Seek(0, io.SeekEnd)
	if err == nil && at > want.Bytes { // of something else
		at, err = 0, errors.Join(part.Truncate(0), seek(part, 0))
	}
	if err != nil || at == want.Bytes {
		return err
	}
	content, err := from.Fetch(ctx, location, at)
	if err != nil {
		return err
	}
	defer content.Close()
	for at < want.Bytes {
		n, err := io.CopyN(part, content, min(piece, want.Bytes-at))
		at += n
		tell(doing, at, want.Bytes)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if errors.Is(err, io.EOF) {
			return fmt.Errorf("it ends after %d of %d bytes", at, want.Bytes)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func seek(f *os.File, to int64) error {
	_, err := f.Seek(to, io.SeekStart)
	return err
}
