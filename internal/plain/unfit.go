package plain

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Unfit says why a text cannot be kept where people and databases read it, "" if it can: it must be UTF-8, and of control characters
// only tabs and ends of lines are taken.
func Unfit(text string) string {
	if !utf8.ValidString(text) {
		return "it is no UTF-8"
	}
	for _, r := range text {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return fmt.Sprintf("it holds the control character %U", r)
		}
	}
	return ""
}

// Fit is a text without what databases refuse: bytes that are no UTF-8, and NUL.
func Fit(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "\ufffd")
}
