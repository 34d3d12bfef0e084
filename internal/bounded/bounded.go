// Package bounded reads what others send: every reader ends after a number of bytes, with its context, and says so in words.
// Nothing that comes from a server, a file of somebody else's or a guest is read in another way; docs/security.md has the
// table of who reads what up to which bound.
package bounded

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Bounds of documents, in bytes.
const (
	Answer   = 64 << 10  // the words of a refusal
	Small    = 1 << 20   // a key, a signature, a setting
	Document = 4 << 20   // a manifest, or the configuration of a container image
	Listing  = 32 << 20  // checksums of releases
	Page     = 64 << 20  // one page of what a server lists
	Index    = 256 << 20 // the index of a region, read as a stream where it may be large
	Entry    = 1 << 20   // one version in an index
)

// MostPages is how many pages of a listing are asked for, and MostNames how many names are taken from it.
const (
	MostPages = 20_000
	MostNames = 2_000_000
)

// TooLargeError says that something has more bytes than it may have.
type TooLargeError struct {
	What string // such as "the answer of north-sound"
	Most int64
}

func (e *TooLargeError) Error() string {
	size := fmt.Sprintf("%d KiB", e.Most>>10)
	if e.Most >= 10<<20 {
		size = fmt.Sprintf("%d MiB", e.Most>>20)
	}
	return fmt.Sprintf("%s is larger than %s, which is the most that is read of it", e.What, size)
}

// Reader passes on at most so many bytes and ends with its context. Allow lets it pass on so many from now on.
type Reader struct {
	ctx  context.Context
	from io.Reader
	what string
	most int64
	left int64
}

// NewReader returns a Reader; what names the content in errors.
func NewReader(ctx context.Context, from io.Reader, what string, most int64) *Reader {
	return &Reader{ctx, from, what, most, most}
}

// Allow lets the reader pass on at most so many bytes from now on.
func (r *Reader) Allow(bytes int64) { r.left = bytes }

func (r *Reader) Read(p []byte) (int, error) {
	if err := context.Cause(r.ctx); err != nil {
		return 0, err
	}
	if r.left <= 0 { // a byte more makes it too large
		n, err := r.from.Read(p[:min(1, len(p))])
		if n > 0 {
			err = &TooLargeError{r.what, r.most}
		}
		return 0, err
	}
	n, err := r.from.Read(p[:min(int64(len(p)), r.left)])
	r.left -= int64(n)
	return n, err
}

// All reads a document as a whole.
func All(ctx context.Context, from io.Reader, what string, most int64) ([]byte, error) {
	return io.ReadAll(NewReader(ctx, from, what, most))
}

// Copy copies a document, and returns how many bytes it has.
func Copy(ctx context.Context, to io.Writer, from io.Reader, what string, most int64) (int64, error) {
	return io.Copy(to, NewReader(ctx, from, what, most))
}

// JSON reads one JSON document and nothing after it.
func JSON(ctx context.Context, from io.Reader, what string, most int64, into any) error {
	in := json.NewDecoder(NewReader(ctx, from, what, most))
	if err := in.Decode(into); err != nil {
		return fmt.Errorf("%s cannot be read: %w", what, err)
	}
	if _, err := in.Token(); !errors.Is(err, io.EOF) {
		return fmt.Errorf("%s cannot be read: something follows the document", what)
	}
	return nil
}

// Objects reads a JSON object as a stream. For each element of its member list, which has to be an array, element is called once, and
// reads it with decode; it is at most Entry bytes large. Each other member is given to member. The document has at most Index bytes and
// MostNames elements.
func Objects(ctx context.Context, from io.Reader, what, list string, member func(name string, value json.RawMessage) error,
	element func(decode func(into any) error) error) error {
	whole := NewReader(ctx, from, what, Index)
	piece := NewReader(ctx, whole, "an entry of "+what, Entry)
	in := json.NewDecoder(piece)
	wrong := func(err error) error {
		if err == nil {
			return nil
		}
		return fmt.Errorf("%s cannot be read: %w", what, err)
	}
	next := func() (json.RawMessage, error) {
		piece.Allow(Entry)
		var value json.RawMessage
		return value, in.Decode(&value)
	}
	if t, err := in.Token(); err != nil || t != json.Delim('{') {
		return wrong(errors.Join(err, errors.New("it is no JSON object")))
	}
	for in.More() {
		t, err := in.Token()
		if err != nil {
			return wrong(err)
		}
		name, _ := t.(string)
		if name != list {
			value, err := next()
			if err == nil {
				err = member(name, value)
			}
			if err != nil {
				return wrong(err)
			}
			continue
		}
		piece.Allow(Entry)
		if t, err = in.Token(); err != nil || t != json.Delim('[') {
			return wrong(errors.Join(err, fmt.Errorf("its %s are no array", list)))
		}
		for n := 0; in.More(); n++ {
			if n >= MostNames {
				return wrong(fmt.Errorf("it has more than %d %s", MostNames, list))
			}
			piece.Allow(Entry)
			if err := element(in.Decode); err != nil {
				return wrong(err)
			}
		}
		if _, err := in.Token(); err != nil { // the array's end
			return wrong(err)
		}
	}
	_, err := in.Token() // the object's end
	if err == nil {
		if _, err = in.Token(); errors.Is(err, io.EOF) {
			return nil
		}
		err = errors.Join(err, errors.New("something follows the document"))
	}
	return wrong(err)
}

// Pages counts the pages of a listing, and ends one that does not come to an end.
type Pages struct {
	What  string // such as "the list of images in north-sound"
	pages int
	names int
	seen  map[string]bool
}

// Next accepts a page of so many names that is followed by the one that a marker leads to; "" for none. It refuses more than
// MostPages pages, more than MostNames names, and a marker that was followed already.
func (p *Pages) Next(names int, marker string) error {
	if p.seen == nil {
		p.seen = map[string]bool{}
	}
	p.pages++
	p.names += names
	switch {
	case p.pages > MostPages:
		return fmt.Errorf("%s does not end: it has more than %d pages", p.What, MostPages)
	case p.names > MostNames:
		return fmt.Errorf("%s does not end: it has more than %d names", p.What, MostNames)
	case marker != "" && p.seen[marker]:
		return fmt.Errorf("%s does not end: page %d leads back to an earlier one", p.What, p.pages)
	case names == 0 && marker != "" && p.pages > 100:
		return fmt.Errorf("%s does not end: page %d has no names and leads to another one", p.What, p.pages)
	}
	p.seen[marker] = true
	return nil
}

// Text is a writer that keeps the first bytes of what is written to it, and drops the rest.
type Text struct {
	Most int
	text strings.Builder
}

func (t *Text) Write(p []byte) (int, error) {
	room := min(len(p), t.Most-t.text.Len())
	t.text.Write(p[:room])
	return len(p), nil
}

func (t *Text) String() string { return t.text.String() }
