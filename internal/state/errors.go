package state

import (
	"fmt"
	"strings"

	"zygos/internal/definition"
)

// RequestError says that what was asked for makes no sense: it is not a failure, and asking again in the
// same words does not help.
type RequestError struct{ Text string }

func (e *RequestError) Error() string { return e.Text }

// Ask makes a *RequestError.
func Ask(form string, args ...any) error { return &RequestError{fmt.Sprintf(form, args...)} }

// Region finds a region of zygos.toml; the error is a *RequestError.
func (s *State) Region(name string) (*definition.Region, error) {
	if r := s.Org.Region(name); r != nil {
		return r, nil
	}
	return nil, Ask("region %q is not in zygos.toml; regions are %s", name, strings.Join(s.Org.RegionNames(), ", "))
}
