package plan

import (
	"fmt"
	"time"

	"zygos/internal/definition"
	"zygos/internal/plain"
)

// Origin is how the release of a base was found.
type Origin struct {
	Feed  string    `json:"feed"`
	Rule  string    `json:"rule"`
	From  string    `json:"from,omitempty"` // path or address of its file
	Asked time.Time `json:"asked,omitzero"`
	Gone  bool      `json:"gone,omitempty"`  // the feed did not list it any more
	Newer string    `json:"newer,omitempty"` // a newer release than the pinned one, "" for none
}

// FoundBy says how a base was found; nil for one that the definition names.
func FoundBy(b *definition.Base) *Origin {
	if b.Feed == nil {
		return nil
	}
	f := &Origin{Feed: b.Feed.At, Rule: b.Feed.Rule(), Asked: b.Asked.At, Gone: b.Asked.Gone, Newer: b.Asked.Newer}
	if len(b.From) > 0 {
		f.From = b.From[0]
	}
	return f
}

// UnaskedError says that it is not known which release of a base is meant.
type UnaskedError struct {
	At          definition.Pos
	Image, Base string
	Asked       time.Time // zero for never
	Wanted      string    // what it did not list
}

// Why is it without where that is said, and what to do.
func (e *UnaskedError) Why() string {
	why := "was never asked"
	if !e.Asked.IsZero() {
		why = "listed " + e.Wanted + " when it was asked, " + plain.Age(e.Asked) + " ago"
	}
	return fmt.Sprintf("which release of %s to take is not known: its feed %s", e.Base, why)
}

func (e *UnaskedError) Error() string {
	return fmt.Sprintf("%s: base of %s: %s; ask it with 'zygos bases --refresh %s'", e.At, e.Image, e.Why(), e.Base)
}
