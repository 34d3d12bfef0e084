package base

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sys/unix"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/flock"
	"zygos/internal/plain"
	"zygos/internal/remote"
	"zygos/internal/store"
)

const downloadTries = 4

// sizeAtMost is how many bytes are downloaded of a base whose definition says nothing else.
const sizeAtMost = 64 << 30

// bound is how many bytes are downloaded of a base.
func bound(b *definition.Base) int64 { return cmp.Or(b.SizeAtMost, sizeAtMost) }

// fits says why so many bytes of a base are not downloaded, where have of them are there; nil if they are. -1 stands for a number that
// nobody knows.
func (im *Importer) fits(b *definition.Base, bytes, have int64) error {
	if most := bound(b); bytes > most {
		return fmt.Errorf("it has %s, and %s is the most that is downloaded of a base; if that is right, add size_at_most = \"…\" to [base.%s]",
			plain.MiB(bytes), plain.MiB(most), b.Name)
	}
	if room := store.Room(im.Downloads); max(bytes-have, 0) > room {
		return fmt.Errorf("it has %s, and the disk of %s has room for %s more (a twentieth of it stays free)", plain.MiB(bytes), im.Downloads,
			plain.MiB(room))
	}
	return nil
}

// alone makes sure that nobody else downloads the same, and waits for whoever does.
func (im *Importer) alone(ctx context.Context, b *definition.Base) (done func(), err error) {
	if err := os.MkdirAll(im.Downloads, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(im.Downloads, b.SHA256.Hex()+".lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	im.Progress("wait for the download of base "+b.Name, 0, 0)
	if err := flock.Take(ctx, lock); err != nil {
		lock.Close()
		return nil, err
	}
	return func() { lock.Close() }, nil
}

// download fetches an archive into the store. An interrupted download goes on where it stopped.
func (im *Importer) download(ctx context.Context, b *definition.Base, from string) error {
	done, err := im.alone(ctx, b)
	if err != nil {
		return err
	}
	defer done()
	if exists(im.Store.Path(b.SHA256)) { // whoever was before us got it
		return nil
	}
	part := filepath.Join(im.Downloads, b.SHA256.Hex()+".part")
	resumed := exists(part)
	stalls := 0
	got, err := backoff.Retry(ctx, func() (digest.Digest, error) {
		d, err := im.fetch(ctx, b, from, part)
		var stalled *remote.StalledError
		if errors.As(err, &stalled) {
			if stalls++; stalls > 1 {
				err = backoff.Permanent(err)
			}
		}
		return d, err
	}, backoff.WithMaxTries(downloadTries))
	var full *fullError
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) || errors.As(err, &full) {
		return errors.Join(err, os.Remove(part)) // there is no room to go on with it
	}
	if err == nil && got != b.SHA256 && resumed {
		// What an earlier run left may have come from elsewhere: once more, from the start.
		if err = os.Remove(part); err == nil {
			got, err = im.fetch(ctx, b, from, part)
		}
	}
	if err != nil {
		return err
	}
	if got != b.SHA256 {
		return errors.Join(Mismatch(b, from, got), os.Remove(part))
	}
	if err := os.Rename(part, im.Store.Path(b.SHA256)); err != nil {
		return err
	}
	return store.SyncDir(filepath.Dir(im.Store.Path(b.SHA256)))
}

// fetch downloads what is missing of a file (RFC 9110, 14.2: Range) and returns its digest.
func (im *Importer) fetch(ctx context.Context, b *definition.Base, from, part string) (d digest.Digest, err error) {
	file, err := os.OpenFile(part, os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return d, backoff.Permanent(err)
	}
	defer file.Close()
	hash := sha256.New()
	have, err := bounded.Copy(ctx, hash, &meter{r: file, total: -1, stop: ctx,
		tell: func(done, total int64) { im.Progress("check what there is of base "+b.Name, done, total) }}, part, math.MaxInt64)
	if err != nil {
		return d, backoff.Permanent(err)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return d, backoff.Permanent(err)
	}
	if have > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", have))
	}
	client, err := remote.Client(remote.Options{Home: req.URL})
	if err != nil {
		return d, backoff.Permanent(err)
	}
	resp, err := client.Do(req)
	if err != nil {
		return d, err
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusOK && have > 0: // the server sends everything again
		hash.Reset()
		have = 0
		if err := file.Truncate(0); err != nil {
			return d, backoff.Permanent(err)
		}
	case resp.StatusCode == http.StatusRequestedRangeNotSatisfiable: // nothing is missing
		return digest.From(hash), nil
	case resp.StatusCode >= 500 || resp.StatusCode == http.StatusTooManyRequests:
		return d, errors.New("the server answers " + resp.Status)
	case resp.StatusCode == http.StatusPartialContent && !strings.HasPrefix(resp.Header.Get("Content-Range"), fmt.Sprintf("bytes %d-", have)):
		return d, backoff.Permanent(errors.Join(fmt.Errorf("the server was asked for what follows byte %d and answers with %q", have,
			resp.Header.Get("Content-Range")), os.Remove(part)))
	case resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusPartialContent:
		return d, backoff.Permanent(errors.New("the server answers " + resp.Status))
	}
	return im.receive(ctx, b, file, have, resp, hash)
}

func (im *Importer) receive(ctx context.Context, b *definition.Base, file *os.File, have int64, resp *http.Response,
	hash hash.Hash) (d digest.Digest, err error) {
	total := int64(-1)
	if resp.ContentLength >= 0 {
		total = have + resp.ContentLength
	}
	if _, err := file.Seek(have, io.SeekStart); err != nil {
		return d, backoff.Permanent(err)
	}
	if err := im.fits(b, total, have); err != nil {
		return d, backoff.Permanent(err)
	}
	counted := &meter{r: resp.Body, done: have, total: total, stop: ctx,
		tell: func(done, total int64) { im.Progress("download base "+b.Name, done, total) }}
	to := &roomy{io.MultiWriter(file, hash), im.Downloads, 0}
	_, err = bounded.Copy(ctx, to, counted, "what "+resp.Request.URL.Host+" sends", bound(b)-have)
	var large *bounded.TooLargeError
	if errors.As(err, &large) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return d, backoff.Permanent(&fullError{fmt.Errorf("%w. Nothing was kept", err)})
	}
	if err != nil {
		return d, err
	}
	return digest.From(hash), file.Sync()
}

// fullError ends a download that there is no room for, or that does not end.
type fullError struct{ error }

func (e *fullError) Unwrap() error { return e.error }

// roomy writes to a disk of which a twentieth stays free.
type roomy struct {
	io.Writer
	dir   string
	since int64 // bytes, since somebody looked how much room there is
}

func (w *roomy) Write(p []byte) (int, error) {
	const glance = 16 << 20
	if w.since += int64(len(p)); w.since > glance {
		if w.since = 0; store.Room(w.dir) < glance {
			return 0, fmt.Errorf("%w: the disk of %s has no room for more (a twentieth of it stays free)", unix.ENOSPC, w.dir)
		}
	}
	return w.Writer.Write(p)
}
