package state

import "fmt"

// RequestError says that what was asked for makes no sense: it is not a failure, and asking again in the
// same words does not help.
type RequestError struct{ Text string }

func (e *RequestError) Error() string { return e.Text }

// Ask makes a *RequestError.
func Ask(form string, args ...any) error { return &RequestError{fmt.Sprintf(form, args...)} }
