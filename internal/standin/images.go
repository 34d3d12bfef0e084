package standin

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zygos/internal/store"
)

// Order is what is asked of a delivery: content to become an image under a name that no other has.
type Order struct {
	Digest   string            `json:"digest"` // "sha256:…" of the content
	Bytes    int64             `json:"bytes"`
	Format   string            `json:"format"`
	Class    string            `json:"class,omitempty"`    // "warm" or "cold"; "" for warm
	Key      string            `json:"key,omitempty"`      // id of the key that the site encrypts with; "" for its own
	Accounts []string          `json:"accounts,omitempty"` // that may use it, beside its owner
	Labels   map[string]string `json:"labels,omitempty"`
}

// Image is an image in a site.
type Image struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Created string `json:"created"`
	Order
}

// Delivery is content on its way to become an image.
type Delivery struct {
	Name  string `json:"name"`
	State string `json:"state"` // "open", "importing", "ready", "failed"
	Part  int64  `json:"part"`  // bytes of each part but the last
	Have  []int  `json:"have"`  // parts that are there, from 1
	Image string `json:"image,omitempty"`
	Why   string `json:"why,omitempty"`
	From  string `json:"from,omitempty"` // SITE/ID of the image that it is copied from
	Order
}

// States of a delivery.
const (
	StateOpen      = "open"
	StateImporting = "importing"
	StateReady     = "ready"
	StateFailed    = "failed"
)

const (
	paper = "about.json" // of an image or a delivery, beside its content
	bytes = "content"
)

// parts is how many parts the content has.
func (d *Delivery) parts() int { return int(max((d.Bytes+d.Part-1)/d.Part, 1)) }

// images lists the images of a site, by id. The lock is held.
func (c *Cloud) images(site string) (list []Image, err error) {
	entries, err := os.ReadDir(filepath.Join(c.Dir, site, "images"))
	for _, e := range entries {
		var im Image
		if strings.HasPrefix(e.Name(), ".") { // not whole yet
			continue
		}
		if e := load(filepath.Join(c.Dir, site, "images", e.Name(), paper), &im); e == nil {
			list = append(list, im)
		}
	}
	return list, err
}

// used is how many bytes a site holds or has promised to hold.
func (c *Cloud) used(site string) (sum int64, err error) {
	list, err := c.images(site)
	for _, im := range list {
		sum += im.Bytes
	}
	entries, _ := os.ReadDir(filepath.Join(c.Dir, site, "deliveries")) // made when the cloud was opened
	for _, e := range entries {
		var d Delivery
		if load(filepath.Join(c.Dir, site, "deliveries", e.Name(), paper), &d) == nil && d.State != StateReady {
			sum += d.Bytes
		}
	}
	return sum, err
}

// order begins a delivery, or says how far one is.
func (c *Cloud) order(w http.ResponseWriter, r *http.Request) error {
	var o Order
	if err := asked(r, &o, "no-order"); err != nil {
		return err
	}
	if len(o.Digest) != 71 || !strings.HasPrefix(o.Digest, "sha256:") || o.Bytes < 0 ||
		!slices.Contains([]string{"", "warm", "cold"}, o.Class) {
		return refuse(http.StatusBadRequest, "no-order", "an order needs digest, bytes, and the class warm or cold")
	}
	name := r.PathValue("name")
	c.mu.Lock()
	defer c.mu.Unlock()
	list, err := c.images(r.PathValue("site"))
	if err != nil {
		return err
	}
	for _, im := range list {
		if im.Name == name && im.Digest != o.Digest {
			return refuse(http.StatusConflict, "taken", "the name %s is that of the image %s, which holds other bytes", name, im.ID)
		} else if im.Name == name {
			reply(w, http.StatusOK, Delivery{Name: name, State: StateReady, Image: im.ID, Part: c.Part, Have: []int{}, Order: im.Order})
			return nil
		}
	}
	var d Delivery
	dir := c.at(r, "deliveries", name)
	err = load(filepath.Join(dir, paper), &d)
	switch {
	case err == nil && d.State != StateOpen && d.State != StateImporting: // it failed, or its image was removed since
	case err == nil && d.Digest != o.Digest:
		return refuse(http.StatusConflict, "taken", "the name %s is that of a delivery of other bytes", name)
	case err == nil:
		d.Have = have(dir)
		reply(w, http.StatusOK, d)
		return nil
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if used, err := c.used(r.PathValue("site")); err != nil || (c.Quota > 0 && used+o.Bytes > c.Quota) {
		return cmp.Or(err, refuse(http.StatusInsufficientStorage, "quota", "the quota of %.1f MiB is reached: %.1f MiB are used",
			mib(c.Quota), mib(used)))
	}
	d = Delivery{Name: name, State: StateOpen, Part: c.Part, Have: []int{}, Order: o}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := save(filepath.Join(dir, paper), d); err != nil {
		return err
	}
	reply(w, http.StatusCreated, d)
	return nil
}

func mib(n int64) float64 { return float64(n) / (1 << 20) }

// have lists the parts of a delivery that are there.
func have(dir string) []int {
	list := []int{}
	entries, _ := os.ReadDir(dir) // an empty list of a delivery that is gone
	for _, e := range entries {
		var n int
		if _, err := fmt.Sscanf(e.Name(), "part-%d", &n); err == nil {
			list = append(list, n)
		}
	}
	slices.Sort(list)
	return list
}

// find finds a delivery.
func (c *Cloud) find(r *http.Request) (dir string, d Delivery, err error) {
	dir = c.at(r, "deliveries", r.PathValue("name"))
	if err = load(filepath.Join(dir, paper), &d); errors.Is(err, os.ErrNotExist) {
		err = refuse(http.StatusNotFound, "no-delivery", "there is no delivery %s", r.PathValue("name"))
	}
	d.Have = have(dir)
	return dir, d, err
}

func (c *Cloud) delivery(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, d, err := c.find(r)
	if err == nil {
		reply(w, http.StatusOK, d)
	}
	return err
}

func (c *Cloud) drop(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	dir, d, err := c.find(r)
	if err == nil && d.State == StateImporting {
		err = refuse(http.StatusConflict, "busy", "%s is being imported", d.Name)
	}
	if err == nil {
		err = os.RemoveAll(dir)
	}
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

func (c *Cloud) list(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	all, err := c.images(r.PathValue("site"))
	if err != nil {
		return err
	}
	const page = 100
	name, after := r.URL.Query().Get("name"), r.URL.Query().Get("after")
	answer := struct {
		Images []Image `json:"images"`
		Next   string  `json:"next,omitempty"`
	}{Images: []Image{}}
	for _, im := range all { // by id
		if (name != "" && im.Name != name) || im.ID <= after {
			continue
		}
		if len(answer.Images) == page {
			answer.Next = answer.Images[page-1].ID
			break
		}
		answer.Images = append(answer.Images, im)
	}
	reply(w, http.StatusOK, answer)
	return nil
}

// known finds an image.
func (c *Cloud) known(r *http.Request) (dir string, im Image, err error) {
	dir = c.at(r, "images", r.PathValue("id"))
	if err = load(filepath.Join(dir, paper), &im); errors.Is(err, os.ErrNotExist) {
		err = refuse(http.StatusNotFound, "no-image", "there is no image %s", r.PathValue("id"))
	}
	return dir, im, err
}

func (c *Cloud) image(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, im, err := c.known(r)
	if err == nil {
		reply(w, http.StatusOK, im)
	}
	return err
}

func (c *Cloud) change(w http.ResponseWriter, r *http.Request) error {
	var to struct {
		Accounts *[]string `json:"accounts"`
		Class    *string   `json:"class"`
	}
	if err := asked(r, &to, "no-change"); err != nil {
		return err
	}
	if to.Class != nil && *to.Class != "warm" && *to.Class != "cold" {
		return refuse(http.StatusBadRequest, "no-change", "there is no class %q; there are warm and cold", *to.Class)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	dir, im, err := c.known(r)
	if err != nil {
		return err
	}
	if to.Accounts != nil {
		im.Accounts = *to.Accounts
	}
	if to.Class != nil {
		im.Class = *to.Class
	}
	if err := save(filepath.Join(dir, paper), im); err != nil {
		return err
	}
	reply(w, http.StatusOK, im)
	return nil
}

func (c *Cloud) remove(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	dir, _, err := c.known(r)
	if err == nil {
		err = os.RemoveAll(dir)
	}
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

func (c *Cloud) content(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	dir, im, err := c.known(r)
	c.mu.Unlock()
	if err != nil {
		return err
	}
	f, err := os.Open(filepath.Join(dir, bytes))
	if err != nil {
		return err
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(&paced{ResponseWriter: w, rate: c.Pace}, r, im.Name, time.Time{}, f)
	return nil
}

// paced slows an answer down.
type paced struct {
	http.ResponseWriter
	rate int64
}

func (p *paced) Write(text []byte) (int, error) {
	wait(p.rate, len(text))
	return p.ResponseWriter.Write(text)
}

// wait takes the time that so many bytes take.
func wait(rate int64, n int) {
	if rate > 0 {
		time.Sleep(time.Duration(float64(n) / float64(rate) * float64(time.Second)))
	}
}

// file is where a paper lies.
func (c *Cloud) file(r *http.Request) (string, error) {
	name := r.PathValue("path")
	if !filepath.IsLocal(name) || len(name) > 400 {
		return "", refuse(http.StatusBadRequest, "no-name", "%q is no name of a paper", name)
	}
	return c.at(r, "papers", name), nil
}

func (c *Cloud) paper(w http.ResponseWriter, r *http.Request) error {
	file, err := c.file(r)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	info, err := os.Stat(file)
	if err == nil && info.IsDir() {
		err = os.ErrNotExist
	}
	if errors.Is(err, os.ErrNotExist) {
		return refuse(http.StatusNotFound, "no-paper", "there is no paper %s", r.PathValue("path"))
	}
	if err != nil {
		return err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	w.Header().Set("Last-Modified", info.ModTime().UTC().Format(http.TimeFormat))
	_, err = w.Write(text)
	return err
}

func (c *Cloud) papers(w http.ResponseWriter, r *http.Request) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	dir := filepath.Join(c.Dir, r.PathValue("site"), "papers")
	const page = 1000
	after := r.URL.Query().Get("after")
	answer := struct {
		Papers []string `json:"papers"`
		Next   string   `json:"next,omitempty"`
	}{Papers: []string{}}
	var all []string
	err := filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			name, err = filepath.Rel(dir, name)
			all = append(all, filepath.ToSlash(name))
		}
		return err
	})
	if err != nil {
		return err
	}
	slices.Sort(all)
	for _, name := range all {
		if name <= after {
			continue
		}
		if len(answer.Papers) == page {
			answer.Next = answer.Papers[page-1]
			break
		}
		answer.Papers = append(answer.Papers, name)
	}
	reply(w, http.StatusOK, answer)
	return nil
}

func (c *Cloud) setPaper(w http.ResponseWriter, r *http.Request) error {
	file, err := c.file(r)
	if err != nil {
		return err
	}
	const most = 256 << 20
	text, err := io.ReadAll(io.LimitReader(r.Body, most))
	if err != nil {
		return err
	}
	if err := check(r, text); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	if err := store.WriteFile(file, text); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

func (c *Cloud) dropPaper(w http.ResponseWriter, r *http.Request) error {
	file, err := c.file(r)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
