// Package remote makes the clients by which servers are asked: those of regions, of bases and of their feeds. A client has a home,
// the origin (scheme, host and port; RFC 6454, section 4) that its definition names. Credentials and content go there and nowhere
// else: every request is compared with it, also one that follows a redirect, a realm or a Location. A body that makes no progress
// ends its request.
package remote

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"zygos/internal/bounded"
)

// Stall is after how long a server that does not answer, or a body without progress, ends a request.
var Stall = time.Minute

// Options say what a client may do.
type Options struct {
	Home *url.URL
	// Realm is another origin that may be given the credentials in exchange for a token; "" for none.
	Realm string
	// Plain allows credentials over HTTP to a host that is not this one.
	Plain bool
	// Authorities is a file with the certificates that sign the server's, "" for those of the host; Path resolves its path.
	Authorities string
	Path        func(string) string
	// Setting names what a user would write to allow another realm, such as "[region.north]".
	Setting string
}

// Client returns a client. On an error, it can still be used by whoever reports that error later.
func Client(o Options) (*http.Client, error) {
	way, err := Transport(o)
	return &http.Client{Transport: way}, err
}

// Transport returns what a client sends its requests by.
func Transport(o Options) (http.RoundTripper, error) {
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.IdleConnTimeout = 30 * time.Second
	way.MaxResponseHeaderBytes = bounded.Small
	g := &guard{way: way, home: Origin(o.Home), o: o}
	if o.Realm != "" {
		realm, err := url.Parse(o.Realm)
		if err != nil {
			return g, err
		}
		g.realm = Origin(realm)
	}
	if o.Authorities == "" {
		return g, nil
	}
	pool := x509.NewCertPool()
	text, err := readCertificates(o.Path(o.Authorities))
	if err == nil && !pool.AppendCertsFromPEM(text) {
		err = fmt.Errorf("%s holds no certificate", o.Authorities)
	}
	way.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return g, err
}

func readCertificates(file string) ([]byte, error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return bounded.All(context.Background(), in, file, bounded.Document)
}

// Origin is the scheme, host and port of an address, such as https://registry.example:443.
func Origin(u *url.URL) string {
	if u == nil {
		return ""
	}
	scheme := strings.ToLower(u.Scheme)
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[scheme]
	}
	return scheme + "://" + net.JoinHostPort(strings.ToLower(u.Hostname()), port)
}

// Here reports whether a host is this one.
func Here(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// ElsewhereError refuses to send credentials or content to an origin that is not the one of the definition.
type ElsewhereError struct{ Text string }

func (e *ElsewhereError) Error() string { return e.Text }

func elsewhere(form string, args ...any) error { return &ElsewhereError{fmt.Sprintf(form, args...)} }

// guard compares each request with the client's home.
type guard struct {
	way         http.RoundTripper
	home, realm string
	o           Options
}

// secret are the headers that carry credentials.
var secret = []string{"Authorization", "Cookie", "X-Amz-Security-Token"}

func carries(h http.Header) bool {
	for _, name := range secret {
		if h.Get(name) != "" {
			return true
		}
	}
	return false
}

func (g *guard) RoundTrip(r *http.Request) (*http.Response, error) {
	to := Origin(r.URL)
	if r.URL.User != nil {
		r = r.Clone(r.Context())
		r.URL.User = nil // an address that a server gives does not choose credentials
	}
	if err := g.check(r, to); err != nil {
		if r.Body != nil {
			r.Body.Close()
		}
		return nil, err
	}
	if to != g.home && to != g.realm && carries(r.Header) {
		r = r.Clone(r.Context())
		for _, name := range secret {
			r.Header.Del(name)
		}
	}
	return watched(g.way, r)
}

// check says why a request is not sent; nil if it is.
func (g *guard) check(r *http.Request, to string) error {
	body := r.Body != nil && r.Body != http.NoBody
	reads := (r.Method == http.MethodGet || r.Method == http.MethodHead || r.Method == "") && !body
	switch {
	case to == g.home || to == g.realm:
		if carries(r.Header) && r.URL.Scheme == "http" && !Here(r.URL.Hostname()) && !g.o.Plain {
			return elsewhere("credentials would go to %s in clear; use https, or allow it with plain = true in %s", to, g.o.Setting)
		}
	case !reads:
		return elsewhere("the server sends the request on to %s; credentials and content go to %s only", to, g.home)
	case carries(r.Header) && r.Response == nil: // not by a redirect: a realm, or an address in an answer
		return elsewhere("the server wants the credentials to go to %s, and they go to %s only; if they are meant for both, "+
			"add realm = %q to %s", to, g.home, to, g.o.Setting)
	}
	return nil
}

// StalledError says that a body made no progress.
type StalledError struct{ Host string }

func (e *StalledError) Error() string {
	return fmt.Sprintf("nothing came through to or from %s for %s", e.Host, Stall)
}

// watched sends a request whose bodies end when they stall.
func watched(way http.RoundTripper, r *http.Request) (*http.Response, error) {
	ctx, cancel := context.WithCancelCause(r.Context())
	stalled := &StalledError{r.URL.Host}
	timer := time.AfterFunc(Stall, func() { cancel(stalled) })
	r = r.Clone(ctx)
	body := &sent{ReadCloser: r.Body, timer: timer}
	if r.Body != nil && r.Body != http.NoBody {
		r.Body = body
	}
	answer, err := way.RoundTrip(r)
	body.answered.Store(true)
	timer.Stop()
	if err != nil {
		if errors.Is(context.Cause(ctx), stalled) {
			err = stalled
		}
		cancel(nil)
		return nil, err
	}
	answer.Body = &received{ReadCloser: answer.Body, ctx: ctx, cancel: cancel, timer: time.AfterFunc(Stall, func() { cancel(stalled) })}
	answer.Body.(*received).timer.Stop()
	return answer, nil
}

// sent is the body of a request. The time counts that its bytes wait to be taken, and the answer is waited for; not the time of making
// them.
type sent struct {
	io.ReadCloser
	timer    *time.Timer
	answered atomic.Bool
}

func (b *sent) Read(p []byte) (int, error) {
	b.timer.Stop()
	n, err := b.ReadCloser.Read(p)
	if !b.answered.Load() {
		b.timer.Reset(Stall) // also at its end, for the answer
	}
	return n, err
}

// received is the body of an answer. The time counts that reads wait; it begins anew with every step.
type received struct {
	io.ReadCloser
	ctx    context.Context
	cancel context.CancelCauseFunc
	timer  *time.Timer
	waited time.Duration
	got    int
}

// step is how many bytes count as progress: fewer in all that time are a drip.
const step = 4 << 10

func (b *received) Read(p []byte) (int, error) {
	b.timer.Reset(max(Stall-b.waited, time.Millisecond))
	began := time.Now()
	n, err := b.ReadCloser.Read(p)
	b.timer.Stop()
	b.waited += time.Since(began)
	if b.got += n; b.got >= step {
		b.waited, b.got = 0, 0
	}
	if stalled := (*StalledError)(nil); err != nil && err != io.EOF && errors.As(context.Cause(b.ctx), &stalled) {
		err = stalled
	}
	return n, err
}

func (b *received) Close() error {
	b.timer.Stop()
	err := b.ReadCloser.Close()
	b.cancel(nil)
	return err
}
