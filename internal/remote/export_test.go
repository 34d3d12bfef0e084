package remote

import "net/http"

// Trust makes a transport trust what a test's client does.
func Trust(way http.RoundTripper, c *http.Client) {
	way.(*guard).way.(*http.Transport).TLSClientConfig = c.Transport.(*http.Transport).TLSClientConfig
}
