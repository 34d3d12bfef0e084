package standin

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"zygos/internal/store"
)

// check compares a body with its Content-Digest (RFC 9530).
func check(r *http.Request, body []byte) error {
	sum := sha256.Sum256(body)
	if want := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"; r.Header.Get("Content-Digest") != want {
		return refuse(http.StatusBadRequest, "damaged", "what arrived has not the Content-Digest that was said")
	}
	return nil
}

// part takes a part of a delivery.
func (c *Cloud) part(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	dir, d, err := c.find(r)
	c.mu.Unlock()
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(r.PathValue("part"))
	if err != nil || n < 1 || n > d.parts() {
		return refuse(http.StatusBadRequest, "no-part", "there is no part %q of %d", r.PathValue("part"), d.parts())
	}
	if d.State != StateOpen {
		return refuse(http.StatusConflict, "closed", "the delivery is %s", d.State)
	}
	at := int64(n-1) * d.Part
	want := min(d.Part, d.Bytes-at)
	text, err := io.ReadAll(io.LimitReader(&slow{r.Body, c.Pace}, want+1))
	if err != nil {
		return err // whoever sent it is gone
	}
	if int64(len(text)) != want {
		return refuse(http.StatusBadRequest, "damaged", "part %d has %d bytes instead of %d", n, len(text), want)
	}
	if err := check(r, text); err != nil {
		return err
	}
	c.Faults.spoil(text)
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, d, err = c.find(r); err != nil || d.State != StateOpen { // somebody ended it meanwhile
		return errors.Join(err, refuse(http.StatusConflict, "closed", "the delivery is %s", d.State))
	}
	f, err := os.OpenFile(filepath.Join(dir, bytes), os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(text, at)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.WriteFile(filepath.Join(dir, fmt.Sprintf("part-%d", n)), nil, 0o644)
	}
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// slow reads at a pace.
type slow struct {
	io.Reader
	rate int64
}

func (s *slow) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p[:min(len(p), 256<<10)])
	wait(s.rate, n)
	return n, err
}

// begin makes an image of a delivery whose parts are all there, or of an image of another site.
func (c *Cloud) begin(w http.ResponseWriter, r *http.Request) error {
	var from struct {
		From string `json:"from"`
	}
	if err := asked(r, &from, "no-import"); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	dir, d, err := c.find(r)
	switch {
	case err != nil:
		return err
	case d.State != StateOpen: // it was begun already
		reply(w, http.StatusAccepted, d)
		return nil
	case from.From == "" && len(d.Have) != d.parts():
		return refuse(http.StatusConflict, "lacks", "%d of %d parts are there", len(d.Have), d.parts())
	}
	if d.From = from.From; d.From != "" {
		site, id, _ := strings.Cut(d.From, "/")
		var im Image
		if !filepath.IsLocal(site) || !filepath.IsLocal(id) || load(filepath.Join(c.Dir, site, "images", id, paper), &im) != nil {
			return refuse(http.StatusNotFound, "no-image", "there is no image %s", d.From)
		}
		if im.Digest != d.Digest {
			return refuse(http.StatusConflict, "other", "the image %s holds other bytes", d.From)
		}
	}
	if err := c.run(r.PathValue("site"), dir, d); err != nil {
		return err
	}
	d.State = StateImporting
	reply(w, http.StatusAccepted, d)
	return nil
}

// run begins an import. The lock is held.
func (c *Cloud) run(site, dir string, d Delivery) error {
	d.State = StateImporting
	if err := save(filepath.Join(dir, paper), d); err != nil {
		return err
	}
	c.imports.Go(func() {
		select {
		case <-c.ctx.Done():
			return
		case <-time.After(c.Import):
		}
		id, err := c.make(c.ctx, site, dir, d)
		if c.ctx.Err() != nil {
			return // the next one that opens the folder goes on with it
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		if d.State, d.Image = StateReady, id; err != nil {
			d.State, d.Why = StateFailed, err.Error()
		}
		_ = os.Remove(filepath.Join(dir, bytes))
		_ = save(filepath.Join(dir, paper), d) // else it is made once more, and found
	})
	return nil
}

// make makes the image.
func (c *Cloud) make(ctx context.Context, site, dir string, d Delivery) (id string, err error) {
	content := filepath.Join(dir, bytes)
	if d.From != "" {
		other, from, _ := strings.Cut(d.From, "/")
		err = copyFile(filepath.Join(c.Dir, other, "images", from, bytes), content)
	} else if err = truncate(content, d.Bytes); err == nil && c.Faults.take("lose", "import") {
		err = errors.New("the import was lost on the way")
	}
	if err != nil {
		return "", err
	}
	got, err := store.Digest(ctx, content, nil)
	if err != nil {
		return "", err
	}
	if got.Digest.String() != d.Digest {
		return "", fmt.Errorf("what was delivered has the digest %s instead of %s", got.Digest, d.Digest)
	}
	im := Image{ID: newID(), Name: d.Name, Created: time.Now().UTC().Format(time.RFC3339), Order: d.Order}
	half := filepath.Join(c.Dir, site, "images", "."+im.ID)
	if err = os.Mkdir(half, 0o755); err == nil {
		err = errors.Join(os.Link(content, filepath.Join(half, bytes)), save(filepath.Join(half, paper), im))
	}
	if err == nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		err = os.Rename(half, filepath.Join(c.Dir, site, "images", im.ID))
	}
	return im.ID, err
}

func truncate(name string, size int64) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Sync(), f.Close())
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// resume goes on with imports that were interrupted; one whose image is there has ended.
func (c *Cloud) resume() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, site := range c.Sites {
		half, _ := filepath.Glob(filepath.Join(c.Dir, site, "images", ".im-*")) // the form is known
		for _, name := range half {
			if err := os.RemoveAll(name); err != nil {
				return err
			}
		}
		images, err := c.images(site)
		if err != nil {
			return err
		}
		entries, err := os.ReadDir(filepath.Join(c.Dir, site, "deliveries"))
		if err != nil {
			return err
		}
		for _, e := range entries {
			dir := filepath.Join(c.Dir, site, "deliveries", e.Name())
			var d Delivery
			if load(filepath.Join(dir, paper), &d) != nil || d.State != StateImporting {
				continue
			}
			for _, im := range images {
				if im.Name == d.Name {
					d.State, d.Image = StateReady, im.ID
				}
			}
			if d.State == StateReady {
				err = save(filepath.Join(dir, paper), d)
			} else {
				err = c.run(site, dir, d)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}
