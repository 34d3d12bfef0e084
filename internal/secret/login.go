package secret

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// Login is what a server asks of who comes: a user with a password, or a token.
type Login struct {
	User  string // "" with a token
	Value Secret
}

// String does not show the value.
func (l Login) String() string { return "[credentials]" }

// Credentials fetches the login that a definition names for a place, such as "region north", from env:NAME, file:PATH or command:COMMAND:
// USER:PASSWORD, or a token. Without from there is none.
func Credentials(ctx context.Context, place, from, root string) (l Login, err error) {
	if from == "" {
		return l, nil
	}
	value, set, err := Read(ctx, from, root)
	if err == nil && !set {
		err = errors.New("it is not set")
	}
	if err != nil {
		return l, fmt.Errorf("the credentials of %s, %s, give nothing: %w", place, from, err)
	}
	l.Value = Secret{Name: "credentials of " + place, Value: value}
	if user, password, ok := strings.Cut(value, ":"); ok {
		l.User, l.Value.Value = user, password
	}
	return l, nil
}
