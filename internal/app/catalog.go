package app

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"zygos/internal/catalog"
)

// hearCatalog passes on what the catalog says while it is used.
func (a *Session) hearCatalog() {
	c := a.Catalog
	if c == nil {
		return
	}
	const pause = 10 * time.Second // between notes of one wait
	var mu sync.Mutex
	var said time.Time
	c.Waiting = func(why string) {
		mu.Lock()
		defer mu.Unlock()
		if time.Since(said) > pause {
			said = time.Now()
			a.Note("waiting for the catalog, for a minute at most: " + why)
		}
	}
	c.Lifted = func(from, to int) {
		a.Note(fmt.Sprintf("the catalog %s was brought from schema %d to %d; older programs cannot use it any more", a.Where(), from, to))
	}
}

// AboutCatalog is what is known of the catalog that a state uses.
type AboutCatalog struct {
	Where  string `json:"catalog"`
	ID     string `json:"id,omitempty"`
	Schema int    `json:"schema"`
	Newest int    `json:"newest"`        // schema that this program knows
	Had    int    `json:"had,omitempty"` // schema before it was lifted, if it was
}

// AboutCatalog says which catalog the state uses, and lifts it to the newest schema if upgrade says so. opening is the error that Open
// gave, if that is one that lifting mends.
func (a *Session) AboutCatalog(ctx context.Context, upgrade bool, opening error) (*AboutCatalog, error) {
	about := &AboutCatalog{Where: a.Where()}
	var old *catalog.OldError
	if opening != nil && !(upgrade && errors.As(opening, &old)) {
		return nil, opening
	}
	if opening == nil {
		var err error
		if about.ID, err = a.Catalog.ID(ctx); err != nil {
			return nil, err
		}
		about.Schema, about.Newest = a.Catalog.Schema()
	}
	if upgrade {
		had, err := a.LiftCatalog(ctx)
		if err != nil {
			return nil, err
		}
		if about.Newest = catalog.Newest; had < about.Newest {
			about.Had = had
		}
		about.Schema = about.Newest
	}
	return about, nil
}
