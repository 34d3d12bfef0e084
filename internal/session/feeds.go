package session

import (
	"encoding/json"
	"os"
	"time"

	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/plain"
	"zygos/internal/store"
)

// Listing is what a feed listed when it was last asked.
type Listing struct {
	Schema   string               `json:"schema"`
	Feed     string               `json:"feed"`
	File     string               `json:"file,omitempty"`
	Format   string               `json:"format,omitempty"`
	Variant  string               `json:"variant,omitempty"`
	Signer   string               `json:"signer,omitempty"` // digest of the key that had signed it; "" for none
	Asked    time.Time            `json:"asked"`
	Releases []definition.Release `json:"releases"`
}

// NewListing is an answer to what a base's definition asks.
func NewListing(b *definition.Base, signer string, list []definition.Release) *Listing {
	return &Listing{Schema: "zygos.feed/1", Feed: b.Feed.At, File: b.Feed.File, Format: b.Feed.Format, Variant: b.Feed.Variant, Signer: signer,
		Asked: time.Now().UTC(), Releases: list}
}

// Listing is what the feed of a base listed when it was last asked what its definition asks now; nil if it never was.
func (s *Session) Listing(b *definition.Base) *Listing {
	text, err := os.ReadFile(s.Dir.Feed(b.Name))
	if err != nil {
		return nil
	}
	var l Listing
	same := NewListing(b, "", nil)
	if json.Unmarshal(text, &l) != nil || l.Schema != same.Schema || l.Feed != same.Feed || l.File != same.File || l.Format != same.Format ||
		l.Variant != same.Variant || (l.Signer != "") != (b.Feed.SignedBy != "") {
		return nil
	}
	return &l
}

// KeepListing keeps the answer of a base's feed.
func (s *Session) KeepListing(b *definition.Base, l *Listing) error {
	text, err := json.MarshalIndent(l, "", " ")
	if err == nil {
		err = os.MkdirAll(s.Dir.In("feeds"), 0o755)
	}
	if err == nil {
		err = store.WriteFile(s.Dir.Feed(b.Name), text)
	}
	return err
}

// Choose makes the base what an answer says; nil for none.
func Choose(b *definition.Base, l *Listing) {
	b.Release, b.From, b.SHA256, b.Asked = "", nil, digest.Digest{}, definition.Asked{}
	if l == nil {
		return
	}
	b.Asked.At = l.Asked
	take, newest := b.Feed.Choose(l.Releases)
	if take == nil || take.SHA256.IsZero() {
		return
	}
	b.Release, b.From, b.SHA256, b.Asked.Gone = take.Release, []string{take.From}, take.SHA256, take.Gone
	if newest != nil && plain.CompareVersions(newest.Release, take.Release) > 0 {
		b.Asked.Newer = newest.Release
	}
}

// Take goes on with definitions in which a base is another one.
func (s *Session) Take(b definition.Base) { s.Workspace = s.Workspace.With(b) }

// chooseAll makes each base that is found by a feed what the feed last listed.
func (s *Session) chooseAll() {
	for i := range s.Org.Bases {
		if b := &s.Org.Bases[i]; b.Feed != nil {
			Choose(b, s.Listing(b))
		}
	}
}
