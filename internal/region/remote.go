package region

import (
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
func Transport(authorities string) (*http.Transport, error) {
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.IdleConnTimeout, way.ResponseHeaderTimeout = 30*time.Second, 30*time.Second
	if authorities == "" {
		return way, nil
	}
	pool := x509.NewCertPool()
	text, err := os.ReadFile(authorities)
	if err == nil && !pool.AppendCertsFromPEM(text) {
		err = fmt.Errorf("%s holds no certificate", authorities)
	}
	way.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return way, err
}
