package secret

import (
	"io"
	"strings"
)

// Matcher finds secrets in a stream of bytes, whatever line ends lie between their bytes. It is
// the automaton of Aho and Corasick ("Efficient string matching", CACM 18, 1975), with one table
// row for each state.
type Matcher struct {
	classes [256]uint16 // of bytes; 0 for all that occur in no form
	width   int
	next    []int32 // state*width + class -> state
	depth   []int32 // how much of a form a state has seen
	found   []int32 // index of the secret whose form ends in a state, -1 for none
	length  []int32 // of that form
	names   []string
}

// NewMatcher makes a matcher for secrets; nil if there are none.
func NewMatcher(secrets []Secret) *Matcher {
	if len(secrets) == 0 {
		return nil
	}
	m := &Matcher{width: 1}
	var all [][]byte
	var owner []int32
	for i, s := range secrets {
		m.names = append(m.names, s.Name)
		for _, form := range forms(s.Value) {
			all, owner = append(all, form), append(owner, int32(i))
			for _, c := range form {
				if m.classes[c] == 0 {
					m.classes[c] = uint16(m.width)
					m.width++
				}
			}
		}
	}
	m.state(0)
	for i, form := range all {
		at := int32(0)
		for _, c := range form {
			to := &m.next[int(at)*m.width+int(m.classes[c])]
			if *to == 0 {
				made := m.state(m.depth[at] + 1)
				m.next[int(at)*m.width+int(m.classes[c])] = made
				at = made
			} else {
				at = *to
			}
		}
		m.found[at], m.length[at] = owner[i], int32(len(form))
	}
	m.link()
	return m
}

func (m *Matcher) state(depth int32) int32 {
	m.next = append(m.next, make([]int32, m.width)...)
	m.depth, m.found, m.length = append(m.depth, depth), append(m.found, -1), append(m.length, 0)
	return int32(len(m.depth) - 1)
}

// link turns the tree of forms into the automaton: where a form cannot go on, the longest end of
// what was seen that starts another one does.
func (m *Matcher) link() {
	fail := make([]int32, len(m.depth))
	var queue []int32
	for c := range m.width {
		if s := m.next[c]; s != 0 {
			queue = append(queue, s)
		}
	}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if f := fail[at]; m.found[at] < 0 && m.found[f] >= 0 {
			m.found[at], m.length[at] = m.found[f], m.length[f]
		}
		for c := range m.width {
			to := &m.next[int(at)*m.width+c]
			other := m.next[int(fail[at])*m.width+c]
			if *to == 0 {
				*to = other
				continue
			}
			fail[*to] = other
			queue = append(queue, *to)
		}
	}
}

// Search looks for secrets in what it is given piece by piece.
type Search struct {
	m  *Matcher
	at int32
}

// Search begins a search.
func (m *Matcher) Search() *Search { return &Search{m: m} }

// Find looks through the next bytes for the first secret in them.
func (s *Search) Find(p []byte) (name string, ok bool) {
	m, at := s.m, s.at
	for _, c := range p {
		if c == '\n' || c == '\r' {
			continue
		}
		at = m.next[int(at)*m.width+int(m.classes[c])]
		if m.found[at] >= 0 {
			s.at = 0
			return m.names[m.found[at]], true
		}
	}
	s.at = at
	return "", false
}

// In says which secret a text holds.
func (m *Matcher) In(text string) (name string, ok bool) { return m.Search().Find([]byte(text)) }

// Scan reads a stream to its end and says which secret it holds first.
func (m *Matcher) Scan(r io.Reader, buf []byte) (name string, ok bool, err error) {
	s := m.Search()
	for {
		n, err := r.Read(buf)
		if name, ok := s.Find(buf[:n]); ok {
			return name, true, nil
		}
		if err == io.EOF {
			return "", false, nil
		}
		if err != nil {
			return "", false, err
		}
	}
}

const (
	mask = "***"
	hold = 4 // that many bytes of a form are not passed on before it is clear how it goes on
)

// Mask returns a reader that reads from r with every secret replaced by ***, also one that is
// spread over several lines or reads. It holds back what may be the beginning of a secret.
func (m *Matcher) Mask(r io.Reader) io.Reader {
	if m == nil {
		return r
	}
	return &masked{m: m, from: r, raw: make([]byte, 64<<10)}
}

// Text is a text with every secret replaced by ***.
func (m *Matcher) Text(text string) string {
	if m == nil {
		return text
	}
	if _, ok := m.In(text); !ok {
		return text
	}
	out, err := io.ReadAll(m.Mask(strings.NewReader(text)))
	if err != nil {
		return mask // a string is read without errors
	}
	return string(out)
}

type masked struct {
	m       *Matcher
	from    io.Reader
	raw     []byte
	at      int32
	pending []byte // seen and not passed on
	hidden  []bool // for each of them: part of a secret
	ready   []byte
	within  bool // the last byte passed on was part of a secret
	err     error
}

func (r *masked) Read(p []byte) (int, error) {
	for len(r.ready) == 0 {
		if r.err != nil {
			return 0, r.err
		}
		n, err := r.from.Read(r.raw)
		r.take(r.raw[:n])
		if r.err = err; err != nil {
			r.release(len(r.pending))
		}
	}
	n := copy(p, r.ready)
	r.ready = r.ready[n:]
	return n, nil
}

// harmless passes on bytes in which no form comes as far as hold, as most do.
func (r *masked) harmless(p []byte) bool {
	m, at := r.m, r.at
	for _, c := range p {
		if c == '\n' || c == '\r' {
			continue
		}
		if at = m.next[int(at)*m.width+int(m.classes[c])]; m.depth[at] >= hold {
			return false
		}
	}
	r.at, r.within = at, r.within && len(p) == 0
	r.ready = append(r.ready, p...)
	return true
}

func (r *masked) take(p []byte) {
	if len(r.pending) == 0 && r.harmless(p) {
		return
	}
	m := r.m
	for _, c := range p {
		r.pending, r.hidden = append(r.pending, c), append(r.hidden, false)
		if c == '\n' || c == '\r' {
			continue
		}
		r.at = m.next[int(r.at)*m.width+int(m.classes[c])]
		if m.found[r.at] >= 0 {
			r.hide(int(m.length[r.at]))
		}
	}
	keep := 0
	if d := int(m.depth[r.at]); d >= hold {
		keep = r.reach(d)
	}
	r.release(len(r.pending) - keep)
}

// reach is how many pending bytes hold the last n that are no line ends.
func (r *masked) reach(n int) int {
	i := len(r.pending)
	for i > 0 && n > 0 {
		i--
		if c := r.pending[i]; c != '\n' && c != '\r' {
			n--
		}
	}
	return len(r.pending) - i
}

func (r *masked) hide(n int) {
	for i := len(r.hidden) - r.reach(n); i < len(r.hidden); i++ {
		r.hidden[i] = true
	}
}

// release passes on the first n pending bytes.
func (r *masked) release(n int) {
	if len(r.ready) == 0 {
		r.ready = make([]byte, 0, n)
	}
	for i := range n {
		if !r.hidden[i] {
			r.ready = append(r.ready, r.pending[i])
		} else if !r.within {
			r.ready = append(r.ready, mask...)
		}
		r.within = r.hidden[i]
	}
	r.pending, r.hidden = r.pending[n:], r.hidden[n:]
}
