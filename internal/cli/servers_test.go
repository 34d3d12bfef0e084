package cli_test

import (
	"bufio"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// freeAddress is one on this host that nobody listens at.
func freeAddress(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	return l.Addr().String()
}

// serve runs a server until the test ends, and waits until it listens.
func serve(t *testing.T, address string, cmd *exec.Cmd) {
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, time.Minute, 20*time.Millisecond)
}

// cloud runs the simulated cloud of a workspace until the test ends.
func (p *person) cloud(args ...string) *exec.Cmd {
	cmd := p.command(append([]string{"standin"}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(p.t, err)
	require.NoError(p.t, cmd.Start())
	p.t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	_, err = bufio.NewReader(out).ReadString('\n')
	require.NoError(p.t, err)
	return cmd
}

// line leads to a server and returns its address; trouble may answer a request itself, and then says so.
func line(t *testing.T, address string, trouble func(w http.ResponseWriter, r *http.Request) bool) string {
	pass := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: address})
	pass.ErrorHandler = func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) }
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !trouble(w, r) {
			pass.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(server.Close)
	return strings.TrimPrefix(server.URL, "http://")
}

// breakOff reads some of a request and closes the line.
func breakOff(r *http.Request) {
	_, _ = io.CopyN(io.Discard, r.Body, 100_000)
	panic(http.ErrAbortHandler)
}
