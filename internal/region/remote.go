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
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"
	godigest "github.com/opencontainers/go-digest"
	"golang.org/x/sys/unix"

	"zygos/internal/definition"
	"zygos/internal/digest"
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
func VerifyByReading(ctx context.Context, r Region, location string, d digest.Digest) error {
	content, err := r.Fetch(ctx, location, 0)
	if err != nil {
		return err
	}
	defer content.Close()
	got, err := godigest.SHA256.FromReader(content)
	if err == nil && got.String() != d.String() {
		err = Missing("%s has the digest %s instead of %s", location, got, d)
	}
	return err
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
		if failed++; failed >= tries {
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
