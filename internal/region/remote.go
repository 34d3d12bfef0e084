package region

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sys/unix"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/remote"
)

// Absent is ErrAbsent with the words of what failed.
type Absent struct{ Err error }

func (e *Absent) Error() string        { return e.Err.Error() }
func (e *Absent) Is(target error) bool { return target == ErrAbsent }
func (e *Absent) Unwrap() error        { return e.Err }

// Missing is an Absent in words.
func Missing(form string, args ...any) error { return &Absent{fmt.Errorf(form, args...)} }

// Unanswered is an AgainError for an error of the line to a server, one in words for a server that must not be talked to, nil for any
// other.
func Unanswered(err error) error {
	var stalled *remote.StalledError
	if errors.As(err, &stalled) {
		return &AgainError{Err: stalled}
	}
	var other *remote.ElsewhereError
	if errors.As(err, &other) {
		return other
	}
	var wrong *tls.CertificateVerificationError
	if errors.As(err, &wrong) { // which another try does not mend
		host := "the server"
		var request *url.Error
		if errors.As(err, &request) {
			if u, e := url.Parse(request.URL); e == nil {
				host = u.Host
			}
		}
		return fmt.Errorf("the certificate of %s is not one to trust: %w; if it is its own, name the authority with ca = \"FILE\"", host,
			wrong.Err)
	}
	var network net.Error
	if !errors.As(err, &network) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil
	}
	var request *url.Error
	if errors.As(err, &request) {
		if u, e := url.Parse(request.URL); e == nil { // the rest of the address helps nobody
			err = unanswered(u.Host, request.Err)
		}
	}
	return &AgainError{Err: err}
}

// unanswered is an error of the line to a host, in few words.
func unanswered(host string, err error) error {
	form := "no answer from %s: %w"
	var op *net.OpError
	if errors.As(err, &op) && op.Op != "dial" || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		form = "the line to %s broke: %w"
	}
	for errors.As(err, &op) {
		err = op.Err
	}
	var cause unix.Errno
	if errors.As(err, &cause) {
		err = cause
	}
	return fmt.Errorf(form, host, err)
}

// Server is what a definition says of a region that is a server.
type Server struct {
	URL         *url.URL
	Credentials string        // env:NAME, file:PATH or command:…; "" for none
	CA          string        // file with certificates to trust; "" for those of the host
	Patience    time.Duration // with a list that does not end, or an import that goes on
	Plain       bool          // credentials may go over HTTP to a host that is not this one
	Realm       string        // another origin that may be given the credentials in exchange for a token; "" for none
}

// patience is what a region has whose definition says nothing else.
const patience = time.Hour

// Patient returns a context that ends when the patience with a server does.
func (s Server) Patient(ctx context.Context, region string) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, s.Patience, fmt.Errorf("%s goes on answering for %s, and is not done; if that is right, say "+
		"patience = \"4h\" in [region.%s]", s.URL.Host, s.Patience, region))
}

// ReadServer reads what a definition says of a server; its URL is nil, beside a problem, if there is none. example begins with https://.
func ReadServer(v definition.Values, example string) (s Server, at definition.Pos) {
	text, at := v.Must("url", example)
	s.Credentials, s.CA, s.Plain = v.Source("credentials"), v.Text("ca"), v.Bool("plain")
	s.Patience = cmp.Or(v.Duration("patience"), patience)
	u, err := url.Parse(text)
	switch {
	case text == "": // said already
	case err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") || u.RawQuery != "" || u.Fragment != "":
		v.Problem(at, fmt.Sprintf("%q is no address of a server", text), fmt.Sprintf("write it as in url = %q", example))
	case u.User != nil:
		v.Problem(at, "the url holds a password, which anybody who reads the file knows", `take it out, and say credentials = "env:NAME"`)
	case u.Scheme == "http" && s.Credentials != "" && !s.Plain && !remote.Here(u.Hostname()):
		v.Problem(at, fmt.Sprintf("the credentials would go to %s in clear", u.Host),
			"use https://, or say plain = true if nobody can listen on the way")
	default:
		s.URL = u
	}
	return s, at
}

// ReadRealm reads the origin that may be given a server's credentials in exchange for a token; "" for none.
func ReadRealm(v definition.Values) string {
	text := v.Text("realm")
	if text == "" {
		return ""
	}
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.User != nil || (u.Scheme != "https" && (u.Scheme != "http" || !remote.Here(u.Hostname()))):
		v.Problem(v.At("realm"), fmt.Sprintf("%q is no address that credentials may go to", text),
			`write scheme and host, as in realm = "https://login.example"`)
		return ""
	}
	return text
}

// Options are those of the client by which a region's server is asked.
func (s Server) Options(region string, path func(string) string) remote.Options {
	return remote.Options{Home: s.URL, Realm: s.Realm, Plain: s.Plain, Authorities: s.CA, Path: path, Setting: "[region." + region + "]"}
}

// Body is content from a server; again tells of its errors whether trying again may help.
func Body(content io.ReadCloser, again func(error) error) io.ReadCloser { return &body{content, again} }

type body struct {
	io.ReadCloser
	again func(error) error
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != io.EOF {
		err = b.again(err)
	}
	return n, err
}

// VerifyByReading is Verify for a region that has no better way than to fetch all.
func VerifyByReading(ctx context.Context, r Region, location string, d digest.Digest) error {
	size, _, err := r.Stat(ctx, location)
	if err != nil {
		return err
	}
	content, err := r.Fetch(ctx, location, 0)
	if err != nil {
		return err
	}
	defer content.Close()
	hash := sha256.New()
	_, err = bounded.Copy(ctx, hash, content, location, size)
	if large := (*bounded.TooLargeError)(nil); errors.As(err, &large) {
		return Missing("%s gives more than the %d bytes that it has", location, size)
	}
	if err != nil {
		return err
	}
	if got := digest.From(hash); got != d {
		return Missing("%s has the digest %s instead of %s", location, got, d)
	}
	return nil
}

// Retry does something until it is done, an error comes that trying again cannot mend, or it failed so many times one after another
// without getting on; moved is how far it got. again, if not nil, is told of each pause; they grow, or are what the other side asks for.
func Retry[T any](ctx context.Context, tries int, moved func() int64, again func(why error, pause time.Duration),
	do func() (T, error)) (T, error) {
	pauses := backoff.NewExponentialBackOff()
	for failed, far := 0, moved(); ; {
		v, err := do()
		var soon *AgainError
		if err == nil || !errors.As(err, &soon) || ctx.Err() != nil {
			return v, err
		}
		if at := moved(); at > far {
			failed, far = 0, at
			pauses.Reset()
		}
		var stalled *remote.StalledError
		if failed++; failed >= tries || failed > 1 && errors.As(err, &stalled) {
			return v, err
		}
		pause := max(pauses.NextBackOff(), min(soon.After, longest))
		if again != nil {
			again(err, pause)
		}
		select {
		case <-ctx.Done():
			return v, err
		case <-time.After(pause):
		}
	}
}

// longest is how long another side may ask to be waited for.
const longest = 5 * time.Minute

// After is what a Retry-After header asks for (RFC 9110, section 10.2.3); 0 for nothing.
func After(h http.Header) time.Duration {
	text := h.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil {
		return time.Duration(max(seconds, 0)) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(time.Until(at), 0)
	}
	return 0
}
