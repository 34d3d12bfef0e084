// Package cloud is the kind of region that is a site of the simulated cloud: a file is ordered under a name that no other image has,
// delivered in parts, and imported; the site gives the image an id. A delivery that broke is gone on with, also by another process.
// Its API is described by package standin.
package cloud

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/region"
	"zygos/internal/remote"
	"zygos/internal/secret"
)

// Kind is the line in the table of kinds.
var Kind = region.Kind{Name: "cloud", Can: definition.Abilities, Read: read, Open: open,
	Where:  func(s any) string { return s.(Settings).URL.String() + "/" + s.(Settings).Site },
	System: func(s any) string { return s.(Settings).URL.String() }}

// Settings are what zygos.toml says of one.
type Settings struct {
	region.Server
	Site string
}

// Address is where the cloud answers: HOST:PORT.
func (s Settings) Address() string { return s.URL.Host }

func read(name string, v definition.Values) any {
	server, at := region.ReadServer(v, "http://127.0.0.1:8440")
	s, u := Settings{server, cmp.Or(v.Text("site"), name)}, server.URL
	switch {
	case u == nil:
		return nil
	case !definition.IsName(s.Site):
		v.Problem(at, fmt.Sprintf("%q is no name of a site", s.Site), "use lower-case letters, digits, '-' and '.'")
		return nil
	}
	u.Path = strings.TrimSuffix(u.Path, "/")
	return s
}

// site is an opened region.
type site struct {
	Settings
	name   string
	terms  definition.Terms
	root   string
	client *http.Client
	broken error // why it cannot be used

	mu    sync.Mutex
	token string
}

func open(r *definition.Region, place func(string) string) region.Region {
	s := &site{Settings: r.Settings.(Settings), name: r.Name, terms: r.Terms, root: place(".")}
	s.client, s.broken = remote.Client(s.Options(r.Name, place))
	return s
}

// session gives a token, a new one in place of one that was refused.
func (s *site) session(ctx context.Context, refused string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.token != refused || s.Credentials == "" {
		return s.token, nil
	}
	l, err := secret.Credentials(ctx, "region "+s.name, s.Credentials, s.root)
	if err != nil {
		return "", err
	}
	if l.User == "" { // a token of somebody else's making
		s.token = l.Value.Value
		return s.token, nil
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL.String()+"/session", nil)
	if err != nil {
		return "", err
	}
	r.SetBasicAuth(l.User, l.Value.Value)
	answer, err := s.client.Do(r)
	if err != nil {
		return "", s.unanswered(err)
	}
	defer answer.Body.Close()
	if err := refusal(answer); err != nil {
		return "", err
	}
	var got struct {
		Token string `json:"token"`
	}
	err = decode(ctx, answer.Body, &got)
	s.token = got.Token
	return s.token, err
}

// unanswered is an error of the line; of a cloud on this host that nobody runs it says how to.
func (s *site) unanswered(err error) error {
	again := region.Unanswered(err)
	if again != nil && errors.Is(err, unix.ECONNREFUSED) && s.URL.Hostname() == "127.0.0.1" {
		return &region.AgainError{Err: fmt.Errorf("%w; 'zygos standin' runs the simulated cloud", again)}
	}
	return cmp.Or(again, err)
}

// refusedError is an answer that says no.
type refusedError struct {
	status int
	Code   string `json:"code"`
	What   string `json:"error"`
}

func (e *refusedError) Error() string { return e.What }

// coded says whether an error is a refusal of some code.
func coded(err error, codes ...string) bool {
	var no *refusedError
	return errors.As(err, &no) && slices.Contains(codes, no.Code)
}

// refusal is the error of an answer, nil if it says yes.
func refusal(answer *http.Response) error {
	if answer.StatusCode < 300 {
		return nil
	}
	no := &refusedError{status: answer.StatusCode}
	text, _ := bounded.All(answer.Request.Context(), answer.Body, "the answer", bounded.Answer) // the status tells all the same
	if json.Unmarshal(text, no) != nil || no.What == "" {
		no.What = "the site answers " + answer.Status
	}
	if after := region.After(answer.Header); answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500 &&
		answer.StatusCode != http.StatusInsufficientStorage {
		return &region.AgainError{Err: no, After: after}
	}
	return no
}

// decode reads a document that may not be larger than any that a site has.
func decode(ctx context.Context, from io.Reader, into any) error {
	err := bounded.JSON(ctx, from, "the site's answer", bounded.Page, into)
	if err != nil {
		return cmp.Or(region.Unanswered(err), err)
	}
	return nil
}

// body is what a request sends; it is opened once for each try.
type body struct {
	open   func() io.Reader
	bytes  int64
	digest string // Content-Digest (RFC 9530); "" for none
}

func text(v any) *body {
	said, _ := json.Marshal(v) // plain values
	return &body{open: func() io.Reader { return bytes.NewReader(said) }, bytes: int64(len(said))}
}

// ask asks the site, with a new token if the one it has does not hold any more. The caller closes the answer.
func (s *site) ask(ctx context.Context, method, where string, send *body, header http.Header) (*http.Response, error) {
	if s.broken != nil {
		return nil, s.broken
	}
	token, err := s.session(ctx, "")
	for try := 0; ; try++ {
		if err != nil {
			return nil, err
		}
		var answer *http.Response
		if answer, err = s.once(ctx, method, where, send, header, token); err != nil {
			return nil, cmp.Or(ctx.Err(), s.unanswered(err))
		}
		if err = refusal(answer); err == nil {
			return answer, nil
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusUnauthorized || try > 2 || s.Credentials == "" {
			return nil, err
		}
		token, err = s.session(ctx, token)
	}
}

func (s *site) once(ctx context.Context, method, where string, send *body, header http.Header, token string) (*http.Response, error) {
	var from io.Reader
	if send != nil {
		from = send.open()
	}
	r, err := http.NewRequestWithContext(ctx, method, s.URL.String()+"/sites/"+s.Site+"/"+where, from)
	if err != nil {
		return nil, err
	}
	if header != nil {
		r.Header = header.Clone()
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if send != nil {
		r.ContentLength = send.bytes
		if send.digest != "" {
			r.Header.Set("Content-Digest", send.digest)
		}
	}
	return s.client.Do(r)
}

// tell asks for something whose answer is a document, or nothing.
func (s *site) tell(ctx context.Context, method, where string, send *body, into any) error {
	answer, err := s.ask(ctx, method, where, send, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if into == nil {
		return nil
	}
	return decode(ctx, answer.Body, into)
}

// location is where an image lies: cloud://HOST/SITE/ID.
func (s *site) location(id string) string { return "cloud://" + s.URL.Host + "/" + s.Site + "/" + id }

// id is what a location names there.
func (s *site) id(location string) (string, error) {
	id, ok := strings.CutPrefix(location, s.location(""))
	if !ok || id == "" || strings.Contains(id, "/") {
		return "", fmt.Errorf("%s does not lie in region %s, %s/%s", location, s.name, s.URL, s.Site)
	}
	return id, nil
}

// image is what the site knows of one.
type image struct {
	ID       string            `json:"id"`
	Name     string            `json:"name"`
	Digest   digest.Digest     `json:"digest"`
	Bytes    int64             `json:"bytes"`
	Class    string            `json:"class"`
	Key      string            `json:"key"`
	Accounts []string          `json:"accounts"`
	Labels   map[string]string `json:"labels"`
}

// find asks what lies at a location.
func (s *site) find(ctx context.Context, location string) (im image, err error) {
	id, err := s.id(location)
	if err == nil {
		err = s.tell(ctx, http.MethodGet, "images/"+id, nil, &im)
	}
	if coded(err, "no-image") {
		err = region.Missing("there is no image %s in %s", id, s.Site)
	}
	return im, err
}

func (s *site) Stat(ctx context.Context, location string) (int64, digest.Digest, error) {
	im, err := s.find(ctx, location)
	return im.Bytes, im.Digest, err
}

// class is the storage class that is meant.
func class(c string) string { return cmp.Or(c, "warm") }

// Align brings accounts and class of an image to what the terms say; its encryption stays what it was made with.
func (s *site) Align(ctx context.Context, location string, change bool) (differs []string, err error) {
	im, err := s.find(ctx, location)
	if err != nil {
		return nil, err
	}
	to := map[string]any{}
	slices.Sort(im.Accounts)
	if s.terms.Accounts != nil && !slices.Equal(im.Accounts, s.terms.Accounts) {
		to["accounts"] = s.terms.Accounts
		differs = append(differs, fmt.Sprintf("accounts: %s instead of %s", names(im.Accounts), names(s.terms.Accounts)))
	}
	if want := class(s.terms.Class); class(im.Class) != want {
		to["class"] = want
		differs = append(differs, fmt.Sprintf("class: %s instead of %s", class(im.Class), want))
	}
	if change && len(to) > 0 {
		err = s.tell(ctx, http.MethodPatch, "images/"+im.ID, text(to), nil)
	}
	return differs, err
}

func names(list []string) string { return cmp.Or(strings.Join(list, " "), "none") }

func (s *site) Fetch(ctx context.Context, location string, from int64) (io.ReadCloser, error) {
	id, err := s.id(location)
	if err != nil {
		return nil, err
	}
	answer, err := s.ask(ctx, http.MethodGet, "images/"+id+"/content", nil, http.Header{"Range": {fmt.Sprintf("bytes=%d-", from)}})
	if coded(err, "no-image") {
		return nil, region.Missing("there is no image %s in %s", id, s.Site)
	}
	if err == nil && from > 0 && answer.StatusCode == http.StatusOK { // the site gives all, whatever is asked
		if _, err = bounded.Copy(ctx, io.Discard, io.LimitReader(answer.Body, from), location, from); err != nil {
			answer.Body.Close()
		}
	}
	if err != nil {
		return nil, cmp.Or(region.Unanswered(err), err)
	}
	return region.Body(answer.Body, func(err error) error { return cmp.Or(region.Unanswered(err), err) }), nil
}

func (s *site) Verify(ctx context.Context, location string, d digest.Digest) error {
	return region.VerifyByReading(ctx, s, location, d)
}

func (s *site) List(ctx context.Context) (list []string, err error) {
	images, err := s.all(ctx)
	for _, im := range images {
		list = append(list, s.location(im.ID))
	}
	return list, err
}

// Labels by which an image is known to be ours.
const (
	imageLabel   = "zygos.image"
	versionLabel = "zygos.version"
)

// all lists the images of the site.
func (s *site) all(ctx context.Context) (list []image, err error) {
	ctx, done := s.Patient(ctx, s.name)
	defer done()
	pages := bounded.Pages{What: "the list of images of the site " + s.Site}
	for after := ""; ; {
		var page struct {
			Images []image `json:"images"`
			Next   string  `json:"next"`
		}
		if err := s.tell(ctx, http.MethodGet, "images?after="+url.QueryEscape(after), nil, &page); err != nil {
			return nil, cmp.Or(context.Cause(ctx), err)
		}
		list = append(list, page.Images...)
		if err := pages.Next(len(page.Images), page.Next); err != nil || page.Next == "" {
			return list, err
		}
		after = page.Next
	}
}

// Remove also takes away the version's documents when no image of it is left.
func (s *site) Remove(ctx context.Context, location string) error {
	im, err := s.find(ctx, location)
	if errors.Is(err, region.ErrAbsent) {
		return nil
	}
	if err == nil {
		err = s.tell(ctx, http.MethodDelete, "images/"+im.ID, nil, nil)
	}
	if err != nil && !coded(err, "no-image") {
		return err
	}
	left, err := s.all(ctx)
	if err != nil || im.Labels[imageLabel] == "" || slices.ContainsFunc(left, func(other image) bool {
		return other.Labels[imageLabel] == im.Labels[imageLabel] && other.Labels[versionLabel] == im.Labels[versionLabel]
	}) {
		return err
	}
	of := region.ManifestName(im.Labels[imageLabel], im.Labels[versionLabel])
	if _, _, ok := region.ManifestOf(of); !ok { // nothing of ours
		return nil
	}
	names, err := s.Documents(ctx, path.Dir(of))
	for _, name := range names {
		err = errors.Join(err, s.Withdraw(ctx, name))
	}
	return err
}

func (s *site) Document(ctx context.Context, name string, content []byte) (string, error) {
	return s.URL.String() + "/sites/" + s.Site + "/papers/" + name, s.tell(ctx, http.MethodPut, "papers/"+name,
		&body{open: func() io.Reader { return bytes.NewReader(content) }, bytes: int64(len(content)), digest: contentDigest(content)}, nil)
}

func (s *site) Documents(ctx context.Context, below string) (names []string, err error) {
	ctx, done := s.Patient(ctx, s.name)
	defer done()
	pages := bounded.Pages{What: "the list of papers of the site " + s.Site}
	for after := below; ; { // they come in order
		var page struct {
			Papers []string `json:"papers"`
			Next   string   `json:"next"`
		}
		if err := s.tell(ctx, http.MethodGet, "papers?after="+url.QueryEscape(after), nil, &page); err != nil {
			return nil, cmp.Or(context.Cause(ctx), err)
		}
		for _, name := range page.Papers {
			if below != "" && !strings.HasPrefix(name, below+"/") {
				return names, nil
			}
			if _, _, _, ok := region.DocumentOf(name); ok {
				names = append(names, name)
			}
		}
		if err := pages.Next(len(page.Papers), page.Next); err != nil || page.Next == "" {
			return names, err
		}
		after = page.Next
	}
}

func (s *site) Withdraw(ctx context.Context, name string) error {
	err := s.tell(ctx, http.MethodDelete, "papers/"+path.Clean(name), nil, nil)
	if coded(err, "no-paper") {
		err = nil
	}
	return err
}

func (s *site) Read(ctx context.Context, name string) ([]byte, time.Time, error) {
	answer, err := s.ask(ctx, http.MethodGet, "papers/"+path.Clean(name), nil, nil)
	if coded(err, "no-paper") {
		return nil, time.Time{}, fs.ErrNotExist
	}
	if err != nil {
		return nil, time.Time{}, err
	}
	defer answer.Body.Close()
	content, err := bounded.All(ctx, answer.Body, name+" of the site "+s.Site, region.Most(name))
	if err != nil {
		err = cmp.Or(region.Unanswered(err), err)
	}
	written, _ := http.ParseTime(answer.Header.Get("Last-Modified")) // else it is old
	return content, written, err
}

// Sweep leaves deliveries that were not ended: the next placement goes on with them.
func (s *site) Sweep(context.Context) ([]string, error) { return nil, nil }
