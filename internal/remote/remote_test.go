package remote_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/remote"
)

func parsed(t *testing.T, text string) *url.URL {
	u, err := url.Parse(text)
	require.NoError(t, err)
	return u
}

func TestOrigin(t *testing.T) {
	for text, want := range map[string]string{"https://A.example/x": "https://a.example:443", "http://a.example:8080": "http://a.example:8080",
		"http://a.example": "http://a.example:80", "HTTPS://a.example:443/": "https://a.example:443", "http://[::1]:5/": "http://[::1]:5"} {
		require.Equal(t, want, remote.Origin(parsed(t, text)))
	}
	require.True(t, remote.Here("127.0.0.1") && remote.Here("::1") && remote.Here("localhost"))
	require.False(t, remote.Here("10.0.0.1") || remote.Here("localhost.example"))
}

// Credentials and content go to the client's home; a download may follow elsewhere without them.
func TestCredentialsStayAtHome(t *testing.T) {
	var heard []string
	record := func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		heard = append(heard, fmt.Sprintf("%s %s %q %q", r.Method, r.URL.Path, r.Header.Get("Authorization"), body))
		_, _ = io.WriteString(w, "there")
	}
	other := httptest.NewServer(http.HandlerFunc(record))
	defer other.Close()
	secure := httptest.NewTLSServer(http.RedirectHandler(other.URL+"/plain", http.StatusTemporaryRedirect))
	defer secure.Close()
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/away" {
			http.Redirect(w, r, other.URL+"/got", http.StatusTemporaryRedirect)
			return
		}
		record(w, r)
	}))
	defer home.Close()
	c, err := remote.Client(remote.Options{Home: parsed(t, home.URL), Setting: "[region.x]"})
	require.NoError(t, err)
	send := func(method, to string, body string) error {
		r, err := http.NewRequestWithContext(t.Context(), method, to, strings.NewReader(body))
		require.NoError(t, err)
		if body == "" {
			r.Body, r.ContentLength, r.GetBody = nil, 0, nil
		}
		r.SetBasicAuth("user", "password")
		answer, err := c.Do(r)
		if err == nil {
			answer.Body.Close()
		}
		return err
	}
	require.NoError(t, send("PUT", home.URL+"/x", "content"))
	require.NoError(t, send("GET", home.URL+"/away", ""))
	require.Equal(t, []string{`PUT /x "Basic dXNlcjpwYXNzd29yZA==" "content"`, `GET /got "" ""`}, heard)
	heard = nil
	var refused *remote.ElsewhereError
	require.ErrorAs(t, send("PUT", home.URL+"/away", "content"), &refused, "an upload does not follow")
	require.ErrorAs(t, send("POST", home.URL+"/away", ""), &refused)
	require.ErrorAs(t, send("GET", other.URL+"/token", ""), &refused, "a realm")
	require.ErrorContains(t, refused, `add realm = "`+other.URL+`" to [region.x]`)
	require.Empty(t, heard)

	c, err = remote.Client(remote.Options{Home: parsed(t, home.URL), Realm: other.URL})
	require.NoError(t, err)
	require.NoError(t, send("GET", other.URL+"/token", ""))
	require.Equal(t, []string{`GET /token "Basic dXNlcjpwYXNzd29yZA==" ""`}, heard)
	heard = nil

	c = secure.Client() // its certificate is known to nobody else
	way, err := remote.Transport(remote.Options{Home: parsed(t, secure.URL)})
	require.NoError(t, err)
	remote.Trust(way, c)
	c.Transport = way
	require.NoError(t, send("GET", secure.URL, ""))
	require.Equal(t, []string{`GET /plain "" ""`}, heard, "from https to http")

	c, err = remote.Client(remote.Options{Home: parsed(t, "http://registry.example"), Setting: "[region.x]"})
	require.NoError(t, err)
	require.ErrorContains(t, send("GET", "http://registry.example/", ""), "plain = true in [region.x]")
}

// A body that makes no progress ends its request, in either direction; a drip is none.
func TestStalledBodies(t *testing.T) {
	old := remote.Stall
	remote.Stall = 300 * time.Millisecond
	t.Cleanup(func() { remote.Stall = old })
	over := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/silent":
			<-over
		case "/drip":
			for {
				select {
				case <-over:
					return
				case <-time.After(20 * time.Millisecond):
					_, _ = io.WriteString(w, " ")
					w.(http.Flusher).Flush()
				}
			}
		case "/steady":
			for range 30 {
				_, _ = w.Write(bytes.Repeat([]byte("x"), 8<<10))
				w.(http.Flusher).Flush()
				time.Sleep(20 * time.Millisecond)
			}
		case "/takes":
			_, _ = r.Body.Read(make([]byte, 10))
			<-over
		}
	}))
	defer server.Close()
	defer close(over)
	c, err := remote.Client(remote.Options{Home: parsed(t, server.URL)})
	require.NoError(t, err)
	get := func(path string, body io.Reader) error {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, server.URL+path, body)
		require.NoError(t, err)
		answer, err := c.Do(r)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		_, err = io.Copy(io.Discard, answer.Body)
		return err
	}
	for _, path := range []string{"/silent", "/drip"} {
		var stalled *remote.StalledError
		require.ErrorAs(t, get(path, nil), &stalled, path)
	}
	require.NoError(t, get("/steady", nil))
	var stalled *remote.StalledError
	err = get("/takes", bytes.NewReader(make([]byte, 64<<20)))
	require.True(t, errors.As(err, &stalled), "%v", err)
}
