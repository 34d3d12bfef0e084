package supply

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/region"
	"zygos/internal/region/kinds"
	"zygos/internal/session"
	"zygos/internal/store"
)

// partEnd is what the name of a file ends in until all of it is there and verified.
const partEnd = ".part"

// downloads is how often a transfer that broke is gone on with.
const downloads = 8

// Transfer is an artifact to bring from a region.
type Transfer struct {
	Version   *catalog.Version
	Region    *definition.Region
	Placement *catalog.Placement
	Bytes     int64  // of the artifact
	Out       string // a file, or a folder
}

// Download writes what was placed in a region to a file and returns its name. The bytes lie under a
// temporary name until they are all there and have the digest; an interrupted download is gone on with where it stopped.
func Download(ctx context.Context, s *session.Session, d Transfer, tell Tell) (string, error) {
	v, r, pl, out := d.Version, d.Region, d.Placement, d.Out
	file, err := pl.Key().File(v.Image, v.Version, v.Keys())
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
	if _, err := os.Stat(filepath.Dir(out)); err != nil {
		return "", fmt.Errorf("%w; make the folder first, or give --out another one", err)
	}
	part, err := flock.Claim(ctx, out+partEnd)
	if err != nil {
		return "", err
	}
	defer part.Close() // and with it the lock
	want := store.Blob{Digest: pl.Artifact, Bytes: d.Bytes}
	if _, err := os.Stat(out); err == nil {
		got, err := store.Digest(ctx, out, nil)
		if err == nil && got != want {
			err = fmt.Errorf("%s is there already, with other bytes; remove it or choose another name", out)
		}
		return out, errors.Join(err, os.Remove(part.Name()))
	}
	info, err := part.Stat()
	if err != nil {
		return "", err
	}
	got, err := complete(ctx, part, from, pl.Location, want, tell, "fetch "+file)
	if err == nil && got != want && info.Size() > 0 { // what lay there may have been of something else
		if err = part.Truncate(0); err == nil {
			got, err = complete(ctx, part, from, pl.Location, want, tell, "fetch "+file)
		}
	}
	if err != nil {
		if now, e := part.Stat(); e == nil && now.Size() == 0 {
			_ = os.Remove(part.Name()) // there is nothing to go on with
		}
		return "", fmt.Errorf("fetch %s from %s: %w", file, r.Name, err)
	}
	if got != want {
		return "", errors.Join(fmt.Errorf("what came from %s has the digest %s instead of %s; look at it there with "+
			"'zygos verify %s --region %s --deep'", r.Name, got.Digest, want.Digest, v.Ref(), r.Name), os.Remove(part.Name()))
	}
	if err := errors.Join(part.Sync(), os.Rename(part.Name(), out)); err != nil {
		return "", err
	}
	return out, store.SyncDir(filepath.Dir(out))
}

// complete brings what a file lacks of what lies in a region, and says what the file is then.
func complete(ctx context.Context, part *os.File, from region.Region, location string, want store.Blob, tell Tell,
	doing string) (store.Blob, error) {
	had := func() int64 {
		info, err := part.Stat()
		if err != nil {
			return 0
		}
		return info.Size()
	}
	return region.Retry(ctx, downloads, had, nil, func() (store.Blob, error) {
		if err := goOn(ctx, part, from, location, want, tell, doing); err != nil {
			return store.Blob{}, err
		}
		return store.Digest(ctx, part.Name(), nil)
	})
}

// goOn appends what a file lacks of what lies in a region.
func goOn(ctx context.Context, part *os.File, from region.Region, location string, want store.Blob, tell Tell, doing string) error {
	at, err := part.Seek(0, io.SeekEnd)
	if err != nil || at >= want.Bytes {
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
