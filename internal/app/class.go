package app

import (
	"context"
	"errors"

	"zygos/internal/build"
	"zygos/internal/catalog"
	"zygos/internal/definition"
	"zygos/internal/plan"
	"zygos/internal/publish"
	"zygos/internal/record"
	"zygos/internal/rules"
	"zygos/internal/state"
)

// Class says of an error whose matter it is; callers answer by it, for instance with an exit code.
type Class int

const (
	Fault           Class = iota // of the host, a server, a disk: the same request may succeed later
	WrongRequest                 // the request makes no sense
	WrongDefinition              // a definition has problems
	WrongScript                  // a script or a check of the user's failed
	Refused                      // a rule, a recall or another build stands against it
	Incomplete                   // something is missing in a region
	Interrupted                  // somebody stopped it
)

// ClassOf is the class of an error.
func ClassOf(err error) Class {
	var (
		cancelled  *record.CancelledError
		request    *state.RequestError
		input      *plan.InputError
		many       *ManyError
		problems   definition.Problems
		failure    *record.Failure
		leak       *build.LeakError
		taken      *catalog.TakenError
		recalled   *catalog.RecalledError
		leaving    *catalog.LeavingError
		changed    *ChangedError
		rule       *rules.Error
		incomplete *publish.IncompleteError
	)
	switch {
	case errors.Is(err, context.Canceled), errors.As(err, &cancelled):
		return Interrupted
	case errors.As(err, &request), errors.As(err, &input), errors.As(err, &many):
		return WrongRequest
	case errors.As(err, &problems):
		return WrongDefinition
	case errors.As(err, &failure), errors.As(err, &leak):
		return WrongScript
	case errors.As(err, &taken), errors.As(err, &recalled), errors.As(err, &leaving), errors.As(err, &changed), errors.As(err, &rule):
		return Refused
	case errors.As(err, &incomplete):
		return Incomplete
	}
	return Fault
}
