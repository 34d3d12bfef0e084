package base

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/flock"
	"zygos/internal/store"
)

const downloadTries = 4

// client gives up on a server that does not answer, not on a slow transfer.
var client = &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, ResponseHeaderTimeout: 30 * time.Second}}

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
	got, err := backoff.Retry(ctx, func() (digest.Digest, error) { return im.fetch(ctx, b, from, part) },
		backoff.WithMaxTries(downloadTries))
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
	have, err := io.Copy(hash, &meter{r: file, total: -1, stop: ctx,
		tell: func(done, total int64) { im.Progress("check what there is of base "+b.Name, done, total) }})
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
	counted := &meter{r: resp.Body, done: have, total: total, stop: ctx,
		tell: func(done, total int64) { im.Progress("download base "+b.Name, done, total) }}
	if _, err := io.Copy(io.MultiWriter(file, hash), counted); err != nil {
		return d, err
	}
	return digest.From(hash), file.Sync()
}
