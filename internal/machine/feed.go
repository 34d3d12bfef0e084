package machine

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// feedError says that what was to be copied could not be read; without it, the other end went away.
type feedError struct{ error }

// feed writes what a step copies as a tar archive.
func feed(ctx context.Context, to *os.File, items []Item) error {
	defer to.Close()
	tw := tar.NewWriter(to)
	for _, item := range items {
		if ctx.Err() != nil {
			return nil
		}
		h := &tar.Header{Name: item.To, Mode: int64(item.Mode), Format: tar.FormatPAX, Typeflag: tar.TypeReg}
		switch {
		case item.Dir:
			h.Typeflag = tar.TypeDir
		case item.Link != "":
			h.Typeflag, h.Linkname = tar.TypeSymlink, item.Link
		}
		if h.Typeflag != tar.TypeReg {
			if tw.WriteHeader(h) != nil {
				return nil // whoever reads has ended and says why
			}
			continue
		}
		if err := feedFile(tw, h, item); err != nil {
			return err
		}
	}
	_ = tw.Close() // as above
	return nil
}

func feedFile(tw *tar.Writer, h *tar.Header, item Item) error {
	f, err := os.Open(item.From)
	if err != nil {
		return feedError{err}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return feedError{err}
	}
	h.Size = info.Size()
	if tw.WriteHeader(h) != nil {
		return nil
	}
	hash := sha256.New()
	n, err := io.Copy(tw, io.TeeReader(io.LimitReader(f, h.Size), hash))
	if errors.Is(err, unix.EPIPE) {
		return nil
	}
	if err != nil {
		return feedError{fmt.Errorf("read %s: %w", item.From, err)}
	}
	if n != h.Size || (item.Digest != "" && hex.EncodeToString(hash.Sum(nil)) != item.Digest) {
		return feedError{fmt.Errorf("%s changed while the build ran; run the command again", item.From)}
	}
	return nil
}
