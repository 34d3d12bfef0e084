// Package feed asks what publishers list: the releases of a base with address and digest, in a listing of checksums, in the index of a
// region or in a registry. It believes a listing only as far as its signature and what it said before allow.
package feed

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"zygos/internal/definition"
	"zygos/internal/flock"
	"zygos/internal/plain"
	"zygos/internal/session"
)

// patience is how long a feed may take to answer.
const patience = time.Minute

// mostReleases is how many are kept of a feed, the newest.
const mostReleases = 2000

// Answer is what came of asking the feed of a base.
type Answer struct {
	Base    string    `json:"base"`
	Release string    `json:"release"` // to take from now on
	Digest  string    `json:"digest"`
	From    string    `json:"from"`
	Was     string    `json:"was,omitempty"`   // the release before, "" if there was none or it is the same
	Newer   string    `json:"newer,omitempty"` // than the pinned one
	Asked   time.Time `json:"asked"`           // when it was listed so
	Doubt   string    `json:"doubt,omitempty"` // what is not as it should be; "" for nothing
	Do      string    `json:"do,omitempty"`    // a command that takes it as it is, "" if none does
}

// UnheardError says that a feed could not be asked, so that nothing is known of what it would say.
type UnheardError struct{ Err error }

func (e *UnheardError) Error() string { return e.Err.Error() }
func (e *UnheardError) Unwrap() error { return e.Err }

// Ask asks the feed of a base, and makes the session go on with what is to be taken. What a feed does not list any more, or lists with
// other bytes than before, stays what it was until somebody accepts that. If the feed cannot be heard, what was known stays.
func Ask(ctx context.Context, s *session.Session, b *definition.Base, accept bool) (*Answer, error) {
	own := *b
	b = &own
	lock, err := os.OpenFile(s.Dir.Lock("feed-"+b.Name), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := flock.Take(ctx, lock); err != nil {
		return nil, err
	}
	signer, err := newSigner(ctx, s, b)
	if err != nil {
		return nil, err
	}
	old := s.Listing(b)
	if old != nil && old.Signer != signer.digest {
		old = nil // what another key has signed is not believed any more
	}
	var before *definition.Release
	if old != nil {
		before, _ = b.Feed.Choose(old.Releases)
	}
	if before != nil && before.SHA256.IsZero() {
		before = nil
	}
	limited, done := context.WithTimeout(ctx, patience)
	defer done()
	list, err := kinds[b.Feed.Kind](limited, s, b, signer)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	var unheard *UnheardError
	switch {
	case errors.As(err, &unheard) && before != nil:
		session.Choose(b, old)
		s.Take(own)
		a := answer(b, before)
		a.Doubt = fmt.Sprintf("the feed of base %s cannot be asked: %v; going on with %s, as listed %s ago", b.Name, err, before.Release,
			plain.Age(b.Asked.At))
		return a, nil
	case err != nil:
		return nil, fmt.Errorf("the feed of base %s: %w", b.Name, err)
	}
	var doubt string
	var kept []definition.Release
	if before != nil && !accept {
		kept, doubt = hold(b, before, list)
	}
	if twin, told := twins(b, before, list); twin != "" {
		list = slices.DeleteFunc(list, func(r definition.Release) bool { return r.Release == twin })
		doubt = strings.TrimPrefix(doubt+"; "+told, "; ")
	}
	many := len(list) > mostReleases
	list = append(kept, slices.DeleteFunc(list, func(r definition.Release) bool {
		return len(kept) > 0 && r.Release == kept[0].Release || many && !b.Feed.Means(r.Release) && r.Release != b.Feed.Pinned
	})...)
	slices.SortStableFunc(list, func(x, y definition.Release) int { return plain.CompareVersions(y.Release, x.Release) })
	listed := session.NewListing(b, signer.digest, list[:min(len(list), mostReleases)])
	session.Choose(b, listed)
	s.Take(own)
	if err := s.KeepListing(b, listed); err != nil {
		return nil, err
	}
	if b.SHA256.IsZero() {
		return nil, fmt.Errorf("the feed of base %s, %s, lists %s; it lists %s", b.Name, b.Feed.At, b.Feed.Wanted(), some(list))
	}
	a := answer(b, before)
	if a.Doubt = doubt; len(kept) > 0 {
		a.Do = "zygos bases --refresh --accept " + b.Name
	}
	return a, nil
}

// answer is what a base is now, and was before.
func answer(b *definition.Base, before *definition.Release) *Answer {
	a := &Answer{Base: b.Name, Release: b.Release, Digest: b.SHA256.String(), From: b.From[0], Newer: b.Asked.Newer, Asked: b.Asked.At}
	if before != nil && before.Release != b.Release {
		a.Was = before.Release
	} else if before != nil && before.SHA256 != b.SHA256 {
		a.Was = before.Release + " (sha256 " + plain.Digest(before.SHA256.String()) + ")"
	}
	return a
}

// hold says what of the release before is to be kept beside what a feed lists now, and why: a listing does not go back unseen, and a
// release does not become another one.
func hold(b *definition.Base, before *definition.Release, list []definition.Release) (kept []definition.Release, doubt string) {
	at := slices.IndexFunc(list, func(r definition.Release) bool { return r.Release == before.Release })
	held := *before
	held.Gone = true
	switch {
	case at >= 0 && list[at].Recall != "":
		return nil, fmt.Sprintf("%s of base %s is recalled where it was made: %s", before.Release, b.Name, list[at].Recall)
	case at >= 0 && list[at].SHA256 == before.SHA256:
		return nil, ""
	case at >= 0 && b.Feed.Kind == definition.Registry: // a tag moves
		return nil, ""
	case at >= 0:
		return []definition.Release{held}, fmt.Sprintf("the feed of base %s lists other bytes for %s than before (sha256 %s, it was %s); they "+
			"are not taken, since a release does not change", b.Name, before.Release, plain.Digest(list[at].SHA256.String()),
			plain.Digest(before.SHA256.String()))
	}
	take, _ := b.Feed.Choose(list)
	lists := b.Feed.Wanted()
	if take != nil && plain.CompareVersions(take.Release, before.Release) > 0 {
		return nil, ""
	} else if take != nil {
		lists = take.Release + " as the " + b.Feed.Rule()
	}
	return []definition.Release{held}, fmt.Sprintf("the feed of base %s went back: it lists %s, and listed %s before, which stays", b.Name,
		lists, before.Release)
}

// twins finds two releases that are one number written in two ways, such as 1.2 and 1.02, of which the one is meant: the one that was
// meant before stays, else the shorter. It returns the other one, "" if there is none, and says so.
func twins(b *definition.Base, before *definition.Release, list []definition.Release) (other, told string) {
	take, _ := b.Feed.Choose(list)
	if take == nil || take.Release == b.Feed.Pinned {
		return "", ""
	}
	stays := take.Release
	for _, r := range list {
		if r.Release != stays && plain.CompareVersions(r.Release, stays) == 0 {
			other = r.Release
			if before != nil && before.Release == other || (before == nil || before.Release != stays) && len(other) < len(stays) {
				stays, other = other, stays
			}
			return other, fmt.Sprintf("the feed of base %s lists %s and %s, which are one number; %s is taken. To take the other: pinned = %q "+
				"in [base.%s]", b.Name, stays, other, stays, other, b.Name)
		}
	}
	return "", ""
}

// some names some releases.
func some(list []definition.Release) string {
	var names []string
	for _, r := range list {
		if r.Recall == "" {
			names = append(names, r.Release)
		}
	}
	if len(names) == 0 {
		return "nothing that looks like a release"
	}
	if more := len(names) - 5; more > 0 {
		names = append(names[:5], fmt.Sprintf("%d more", more))
	}
	return strings.Join(names, ", ")
}
