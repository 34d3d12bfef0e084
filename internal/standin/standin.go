// Package standin is the simulated cloud that ships with Zygos: a server with several sites that hold images of machines, for demos,
// rehearsals and tests of the kind of region "cloud". Its API is its own, and described by Description in OpenAPI 3.1. What it holds
// lies in a folder and outlives it; faults strike when they are asked for.
package standin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"zygos/internal/store"
)

// Description is the API in OpenAPI 3.1.
//
//go:embed openapi.json
var Description []byte

// Settings are how the cloud behaves.
type Settings struct {
	Dir    string        // where it keeps what it holds
	Sites  []string      // places that hold images
	Pace   int64         // bytes a second that it takes and gives on each connection; 0 for all
	Import time.Duration // how long it takes to make an image of what was delivered
	Token  time.Duration // how long a token holds; 0 for an hour
	Quota  int64         // bytes that a site holds at most; 0 for any number
	Part   int64         // bytes of a part of a delivery; 0 for 8 MiB
}

// Cloud is the server.
type Cloud struct {
	Settings
	Faults  *Faults
	user    string
	secret  string
	mu      sync.Mutex // of what lies in the folder, and of tokens
	tokens  map[string]time.Time
	imports sync.WaitGroup
	ctx     context.Context
	stop    context.CancelFunc
}

// CredentialsName is the file in the folder that holds user:password; it is made when the cloud is opened for the first time.
const CredentialsName = "credentials"

// Open opens a cloud in its folder, and goes on with imports that were interrupted.
func Open(s Settings) (*Cloud, error) {
	if s.Token == 0 {
		s.Token = time.Hour
	}
	if s.Part == 0 {
		s.Part = 8 << 20
	}
	c := &Cloud{Settings: s, Faults: &Faults{struck: map[string]int{}}, tokens: map[string]time.Time{}}
	c.ctx, c.stop = context.WithCancel(context.Background())
	for _, site := range s.Sites {
		for _, kind := range []string{"images", "deliveries", "papers"} {
			if err := os.MkdirAll(filepath.Join(s.Dir, site, kind), 0o755); err != nil {
				return nil, err
			}
		}
	}
	file := filepath.Join(s.Dir, CredentialsName)
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		text = []byte("builder:" + rand.Text())
		err = os.WriteFile(file, append(text, '\n'), 0o600)
	}
	if err != nil {
		return nil, err
	}
	var ok bool
	if c.user, c.secret, ok = strings.Cut(strings.TrimSpace(string(text)), ":"); !ok {
		return nil, fmt.Errorf("%s holds no USER:PASSWORD; remove it for a new one", file)
	}
	return c, c.resume()
}

// Close ends imports; the next Open goes on with them.
func (c *Cloud) Close() {
	c.stop()
	c.imports.Wait()
}

// Serve answers on a listener until its context ends.
func (c *Cloud) Serve(ctx context.Context, on net.Listener) error {
	server := &http.Server{Handler: c.Handler(), ReadHeaderTimeout: 10 * time.Second,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	done := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer done()
	defer c.Close()
	if err := server.Serve(on); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// refusal is an answer that says no: {"error": what, "code": word}.
type refusal struct {
	status     int
	code, what string
}

func (r *refusal) Error() string { return r.what }

func refuse(status int, code, form string, args ...any) error {
	return &refusal{status, code, fmt.Sprintf(form, args...)}
}

// route is an operation.
type route struct {
	pattern string
	open    bool // without a token
	do      func(c *Cloud, w http.ResponseWriter, r *http.Request) error
}

var routes = []route{
	{"POST /session", true, (*Cloud).session},
	{"GET /openapi.json", true, func(_ *Cloud, w http.ResponseWriter, _ *http.Request) error {
		w.Header().Set("Content-Type", "application/json")
		_, err := w.Write(Description)
		return err
	}},
	{"GET /faults", true, (*Cloud).faults},
	{"PUT /faults", true, (*Cloud).setFaults},
	{"GET /sites", false, (*Cloud).sites},
	{"PUT /sites/{site}/deliveries/{name}", false, (*Cloud).order},
	{"GET /sites/{site}/deliveries/{name}", false, (*Cloud).delivery},
	{"DELETE /sites/{site}/deliveries/{name}", false, (*Cloud).drop},
	{"PUT /sites/{site}/deliveries/{name}/parts/{part}", false, (*Cloud).part},
	{"POST /sites/{site}/deliveries/{name}/import", false, (*Cloud).begin},
	{"GET /sites/{site}/images", false, (*Cloud).list},
	{"GET /sites/{site}/images/{id}", false, (*Cloud).image},
	{"PATCH /sites/{site}/images/{id}", false, (*Cloud).change},
	{"DELETE /sites/{site}/images/{id}", false, (*Cloud).remove},
	{"GET /sites/{site}/images/{id}/content", false, (*Cloud).content},
	{"GET /sites/{site}/papers", false, (*Cloud).papers},
	{"GET /sites/{site}/papers/{path...}", false, (*Cloud).paper},
	{"PUT /sites/{site}/papers/{path...}", false, (*Cloud).setPaper},
	{"DELETE /sites/{site}/papers/{path...}", false, (*Cloud).dropPaper},
}

// Handler answers requests.
func (c *Cloud) Handler() http.Handler {
	mux := http.NewServeMux()
	for _, r := range routes {
		mux.HandleFunc(r.pattern, func(w http.ResponseWriter, req *http.Request) {
			err := c.answer(r, w, req)
			var no *refusal
			switch {
			case err == nil:
			case errors.As(err, &no):
				if no.status == http.StatusTooManyRequests {
					w.Header().Set("Retry-After", "1")
				}
				reply(w, no.status, map[string]string{"error": no.what, "code": no.code})
			default:
				reply(w, http.StatusInternalServerError, map[string]string{"error": err.Error(), "code": "internal"})
			}
		})
	}
	return mux
}

func (c *Cloud) answer(r route, w http.ResponseWriter, req *http.Request) error {
	if !r.open {
		if err := c.Faults.strike(c, w, req); err != nil {
			return err
		}
		if err := c.allowed(req); err != nil {
			return err
		}
		if site := req.PathValue("site"); site != "" && !slices.Contains(c.Sites, site) {
			return refuse(http.StatusNotFound, "no-site", "there is no site %q; there are %s", site, strings.Join(c.Sites, ", "))
		}
		for _, name := range []string{"name", "id"} {
			if v := req.PathValue(name); v != "" && (!filepath.IsLocal(v) || v[0] == '.' || strings.ContainsAny(v, "/\\") || len(v) > 200) {
				return refuse(http.StatusBadRequest, "no-name", "%q is no name", v)
			}
		}
	}
	if !r.open && req.Method != http.MethodGet && c.Faults.next(doing(req), "silence") == "silence" {
		_ = r.do(c, &unheard{header: http.Header{}}, req)
		panic(http.ErrAbortHandler)
	}
	return r.do(c, w, req)
}

// unheard takes an answer that nobody gets.
type unheard struct{ header http.Header }

func (u *unheard) Header() http.Header            { return u.header }
func (u *unheard) Write(text []byte) (int, error) { return len(text), nil }
func (u *unheard) WriteHeader(int)                {}

// asked reads the document that a request brings; of none, nothing is asked for.
func asked(r *http.Request, into any, code string) error {
	err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(into)
	if err != nil && !errors.Is(err, io.EOF) {
		return refuse(http.StatusBadRequest, code, "what is asked for cannot be read: %v", err)
	}
	return nil
}

func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // whoever asked is gone
}

func (c *Cloud) session(w http.ResponseWriter, r *http.Request) error {
	user, secret, _ := r.BasicAuth()
	if subtle.ConstantTimeCompare([]byte(user+":"+secret), []byte(c.user+":"+c.secret)) == 0 {
		return refuse(http.StatusUnauthorized, "unknown", "user or password is wrong")
	}
	token := rand.Text()
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	for t, until := range c.tokens {
		if until.Before(now) {
			delete(c.tokens, t)
		}
	}
	c.tokens[token] = now.Add(c.Token)
	reply(w, http.StatusCreated, map[string]any{"token": token, "seconds": int(c.Token.Seconds())})
	return nil
}

func (c *Cloud) allowed(r *http.Request) error {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	c.mu.Lock()
	defer c.mu.Unlock()
	if until, ok := c.tokens[token]; !ok || until.Before(time.Now()) {
		return refuse(http.StatusUnauthorized, "expired", "the token does not hold, or not any more; ask for a session")
	}
	return nil
}

// expire makes all tokens worthless.
func (c *Cloud) expire() {
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.tokens)
}

// at is a path in the folder of a site.
func (c *Cloud) at(r *http.Request, parts ...string) string {
	return filepath.Join(append([]string{c.Dir, r.PathValue("site")}, parts...)...)
}

// save writes a document whole or not at all.
func save(file string, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return store.WriteFile(file, text)
}

// load reads a document; of none the error is os.ErrNotExist.
func load(file string, v any) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, v)
}

// newID is the id that the cloud gives.
func newID() string {
	sum := sha256.Sum256([]byte(rand.Text()))
	return "im-" + hex.EncodeToString(sum[:8])
}

// sites lists the sites with what they hold.
func (c *Cloud) sites(w http.ResponseWriter, _ *http.Request) error {
	type site struct {
		Name  string `json:"name"`
		Bytes int64  `json:"bytes"`
		Quota int64  `json:"quota,omitempty"`
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	list := []site{}
	for _, name := range c.Sites {
		used, err := c.used(name)
		if err != nil {
			return err
		}
		list = append(list, site{name, used, c.Quota})
	}
	reply(w, http.StatusOK, list)
	return nil
}
