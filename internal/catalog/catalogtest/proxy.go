package catalogtest

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Proxy stands between clients and a PostgreSQL server, counts the statements that pass, and cuts the line at one of them.
type Proxy struct {
	Address string // of the database through the proxy

	mu    sync.Mutex
	seen  int
	at    int // statement at which the line is cut, 0 for none
	after bool
	cut   string // the statement at which it was
}

// NewProxy starts a proxy before a database.
func NewProxy(t *testing.T, address string) *Proxy {
	u, err := url.Parse(address)
	require.NoError(t, err)
	front, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { front.Close() })
	behind := u.Host
	u.Host = front.Addr().String()
	p := &Proxy{Address: u.String()}
	go func() {
		for {
			client, err := front.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", behind)
			if err != nil {
				client.Close()
				continue
			}
			go p.serve(client, server)
		}
	}()
	return p
}

// Cut lets the line be cut once at the nth statement from now on: before the server hears of it or, with after, when the server has
// carried it out and before the client hears so. With 0, it only counts.
func (p *Proxy) Cut(nth int, after bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.seen, p.at, p.after, p.cut = 0, nth, after, ""
}

// Seen is how many statements passed since Cut was called, and the one at which the line was cut, "" if it was not.
func (p *Proxy) Seen() (n int, cut string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.seen, p.cut
}

// strikes counts a statement, and says whether the line is cut at it.
func (p *Proxy) strikes(statement string) (strikes, after bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.seen++; p.seen != p.at {
		return false, false
	}
	p.cut = statement
	return true, p.after
}

// serve passes on messages (PostgreSQL, 55.7, "Message Formats").
func (p *Proxy) serve(client, server net.Conn) {
	defer client.Close()
	defer server.Close()
	var head [4]byte // of the first message, which has no kind
	if _, err := io.ReadFull(client, head[:]); err != nil {
		return
	}
	first := make([]byte, binary.BigEndian.Uint32(head[:])-4)
	if _, err := io.ReadFull(client, first); err != nil {
		return
	}
	_, _ = server.Write(append(head[:], first...)) // a line that is cut is what is tested
	var mu sync.Mutex
	var silent chan struct{} // closed once the server is ready again, of which the client does not hear
	go func() {
		defer client.Close()
		for {
			kind, message, err := message(server)
			if err != nil {
				return
			}
			mu.Lock()
			waits := silent
			mu.Unlock()
			if waits == nil {
				_, _ = client.Write(message)
			} else if kind == 'Z' {
				close(waits)
				return
			}
		}
	}()
	for {
		kind, text, err := message(client)
		if err != nil {
			return
		}
		if kind == 'Q' || kind == 'P' { // a simple query, or one that is prepared
			if strikes, after := p.strikes(statement(kind, text[5:])); strikes && !after {
				return
			} else if strikes {
				ready := make(chan struct{})
				mu.Lock()
				silent = ready
				mu.Unlock()
				_, _ = server.Write(text)
				for kind != 'Q' && kind != 'S' { // up to the end of the extended query
					if kind, text, err = message(client); err != nil {
						return
					}
					_, _ = server.Write(text)
				}
				<-ready
				return
			}
		}
		_, _ = server.Write(text)
	}
}

func statement(kind byte, body []byte) string {
	if kind == 'P' { // its name comes first
		_, body, _ = bytes.Cut(body, []byte{0})
	}
	text, _, _ := bytes.Cut(body, []byte{0})
	return strings.Join(strings.Fields(string(text)), " ")
}

// message reads one with its kind and its length.
func message(from io.Reader) (kind byte, whole []byte, err error) {
	whole = make([]byte, 5)
	if _, err := io.ReadFull(from, whole); err != nil {
		return 0, nil, err
	}
	n := int(binary.BigEndian.Uint32(whole[1:])) - 4
	whole = append(whole, make([]byte, n)...)
	_, err = io.ReadFull(from, whole[5:])
	return whole[0], whole, err
}
