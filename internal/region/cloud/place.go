package cloud

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"zygos/internal/artifact"
	"zygos/internal/digest"
	"zygos/internal/region"
)

// contentDigest is the header of RFC 9530.
func contentDigest(content []byte) string {
	sum := sha256.Sum256(content)
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// order is what is asked of a delivery.
type order struct {
	Digest   digest.Digest     `json:"digest"`
	Bytes    int64             `json:"bytes"`
	Format   string            `json:"format"`
	Class    string            `json:"class,omitempty"`
	Key      string            `json:"key,omitempty"`
	Accounts []string          `json:"accounts,omitempty"`
	Labels   map[string]string `json:"labels,omitempty"`
}

// delivery is how far one is.
type delivery struct {
	State string `json:"state"`
	Part  int64  `json:"part"`
	Have  []int  `json:"have"`
	Image string `json:"image"`
	Why   string `json:"why"`
	Bytes int64  `json:"bytes"`
}

func (s *site) Place(ctx context.Context, item region.Item, told region.Told) (region.Placed, error) {
	where := "deliveries/" + url.PathEscape(item.Called)
	key, _ := strings.CutPrefix(s.terms.Encryption, "key:")
	if s.terms.Encryption == "store" {
		key = "" // its own
	}
	labels := map[string]string{imageLabel: item.Image, versionLabel: item.Version}
	maps.Copy(labels, item.Labels)
	ask := order{Digest: item.Digest, Bytes: item.Bytes, Format: item.Format, Class: s.terms.Class, Key: key, Accounts: s.terms.Accounts,
		Labels: labels}
	var d delivery
	if err := s.tell(ctx, http.MethodPut, where, text(ask), &d); err != nil {
		if coded(err, "taken") {
			err = fmt.Errorf("%w; give the region another name for artifacts in zygos.toml, or remove that image there", err)
		}
		return region.Placed{}, err
	}
	p := region.Placed{Copied: d.State != "ready", By: artifact.ByDigest} // a site makes one of what it imports
	switch d.State {
	case "open":
		if err := s.deliver(ctx, where, &item, &d, told); err != nil {
			return p, err
		}
	case "ready":
		told(region.Verifying, item.Bytes)
	default:
		told(region.Importing, item.Bytes)
	}
	if err := s.imported(ctx, where, &item, &d, told); err != nil {
		return p, err
	}
	p.ID, p.Location = d.Image, s.location(d.Image)
	told(region.Verifying, 0)
	size, got, err := s.Stat(ctx, p.Location)
	if err == nil && (size != item.Bytes || got != item.Digest) {
		err = region.Missing("%s holds something else than was sent", p.Location)
	}
	return p, err
}

// deliver has the content brought from another site, or brings the parts that are not there yet.
func (s *site) deliver(ctx context.Context, where string, item *region.Item, d *delivery, told region.Told) error {
	if len(d.Have) == 0 {
		for _, location := range item.Near {
			from, ok := strings.CutPrefix(location, "cloud://"+s.URL.Host+"/")
			if !ok {
				continue
			}
			err := s.tell(ctx, http.MethodPost, where+"/import", text(map[string]string{"from": from}), d)
			if err == nil {
				told(region.Importing, item.Bytes)
				return nil
			}
			if !coded(err, "no-image", "other") { // else it comes from here
				return err
			}
		}
	}
	if d.Part < 1 || d.Part > 1<<30 || d.Bytes != item.Bytes {
		return fmt.Errorf("the site wants %d bytes in parts of %d, which cannot be", d.Bytes, d.Part)
	}
	file, err := item.Open(ctx)
	if err != nil {
		return err
	}
	defer file.Close()
	buf := make([]byte, min(d.Part, item.Bytes))
	for n, at := 1, int64(0); at < item.Bytes || n == 1; n, at = n+1, at+d.Part {
		content := buf[:min(d.Part, item.Bytes-at)]
		if slices.Contains(d.Have, n) {
			told(region.Copying, int64(len(content)))
			continue
		}
		if _, err := file.ReadAt(content, at); err != nil && err != io.EOF {
			return err
		}
		var sent atomic.Int64 // the connection is written on a goroutine of its own
		send := body{bytes: int64(len(content)), digest: contentDigest(content), open: func() io.Reader {
			told(region.Copying, -sent.Swap(0)) // an earlier try was in vain
			return &telling{bytes.NewReader(content), func(n int64) { sent.Add(n); told(region.Copying, n) }}
		}}
		if err := s.tell(ctx, http.MethodPut, fmt.Sprintf("%s/parts/%d", where, n), &send, nil); err != nil {
			told(region.Copying, -sent.Swap(0))
			return err
		}
	}
	return s.tell(ctx, http.MethodPost, where+"/import", text(struct{}{}), d)
}

// telling tells what is read of it.
type telling struct {
	from io.Reader
	told func(int64)
}

func (t *telling) Read(p []byte) (int, error) {
	n, err := t.from.Read(p[:min(len(p), 256<<10)])
	if n > 0 {
		t.told(int64(n))
	}
	return n, err
}

// idForm is what an id may be: it is printed for scripts, and part of addresses.
var idForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`) })

// imported waits until the site has made an image of what it was given.
func (s *site) imported(ctx context.Context, where string, item *region.Item, d *delivery, told region.Told) error {
	within, done := s.Patient(ctx, s.name)
	defer done()
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		switch d.State {
		case "ready":
			if !idForm().MatchString(d.Image) {
				return fmt.Errorf("the site gives %s an id that is none: %q", item.Called, d.Image)
			}
			return nil
		case "failed":
			told(region.Importing, -item.Bytes) // all of it is brought again
			return &region.AgainError{Err: fmt.Errorf("the import failed: %s", d.Why)}
		}
		told(region.Importing, 0)
		select {
		case <-within.Done():
			return context.Cause(within)
		case <-time.After(pause):
		}
		if err := s.tell(within, http.MethodGet, where, nil, d); err != nil {
			return err
		}
	}
}
