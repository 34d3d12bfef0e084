package region

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
	"time"

	"github.com/cenkalti/backoff/v5"
	godigest "github.com/opencontainers/go-digest"

	"zygos/internal/definition"
	"zygos/internal/secret"
)

// Absent is ErrAbsent with the words of what failed.
type Absent struct{ Err error }

func (e *Absent) Error() string        { return e.Err.Error() }
func (e *Absent) Is(target error) bool { return target == ErrAbsent }
func (e *Absent) Unwrap() error        { return e.Err }

// Missing is an Absent in words.
func Missing(form string, args ...any) error { return &Absent{fmt.Errorf(form, args...)} }

// Unanswered is an AgainError for an error of the line to a server, nil for any other.
func Unanswered(err error) error {
	var network net.Error
	if !errors.As(err, &network) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil
	}
	var request *url.Error
	if errors.As(err, &request) {
		if u, e := url.Parse(request.URL); e == nil { // the rest of the address helps nobody
			err = fmt.Errorf("no answer from %s: %w", u.Host, request.Err)
		}
	}
	return &AgainError{err}
}

// Transport is the way to a server whose certificate is signed by one in a file, or by those that the host trusts if that is "".
// Its path starts at the workspace, as path resolves it.
func Transport(authorities string, path func(string) string) (*http.Transport, error) {
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.IdleConnTimeout, way.ResponseHeaderTimeout = 30*time.Second, 30*time.Second
	if authorities == "" {
		return way, nil
	}
	pool := x509.NewCertPool()
	text, err := os.ReadFile(path(authorities))
	if err == nil && !pool.AppendCertsFromPEM(text) {
		err = fmt.Errorf("%s holds no certificate", authorities)
	}
	way.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return way, err
}

// Server reads the url of a region that is a server; nil and a problem if there is none. example begins with https://.
func Server(v definition.Values, example string) (*url.URL, definition.Pos) {
	text, at := v.Must("url", example)
	u, err := url.Parse(text)
	switch {
	case text == "": // said already
	case err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") || u.RawQuery != "" || u.Fragment != "":
		v.Problem(at, fmt.Sprintf("%q is no address of a server", text), fmt.Sprintf("write it as in url = %q", example))
	case u.User != nil:
		v.Problem(at, "the url holds a password, which anybody who reads the file knows", `take it out, and say credentials = "env:NAME"`)
	default:
		return u, at
	}
	return nil, at
}

// Credentials asks for those of a region, from env:NAME, file:PATH or command:COMMAND; "" for none.
func Credentials(ctx context.Context, region, from, root string) (string, error) {
	if from == "" {
		return "", nil
	}
	value, set, err := secret.Read(ctx, from, root)
	if err == nil && !set {
		err = errors.New("it is not set")
	}
	if err != nil {
		return "", fmt.Errorf("the credentials of region %s, %s, give nothing: %w", region, from, err)
	}
	return value, nil
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
func VerifyByReading(ctx context.Context, r Region, location, digest string) error {
	content, err := r.Fetch(ctx, location, 0)
	if err != nil {
		return err
	}
	defer content.Close()
	got, err := godigest.SHA256.FromReader(content)
	if err == nil && got.String() != digest {
		err = Missing("%s has the digest %s instead of %s", location, got, digest)
	}
	return err
}

// Retry does something up to so many times while that may help, with growing pauses.
func Retry[T any](ctx context.Context, tries uint, do func() (T, error)) (T, error) {
	return backoff.Retry(ctx, func() (T, error) {
		v, err := do()
		if again := (*AgainError)(nil); err != nil && !errors.As(err, &again) {
			err = backoff.Permanent(err)
		}
		return v, err
	}, backoff.WithMaxTries(tries), backoff.WithMaxElapsedTime(0)) // what is large takes long
}
