package plain

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Unfit says why a text can be kept neither in databases nor in environments, "" if it can: it must be UTF-8 without NUL.
func Unfit(text string) string {
	switch {
	case !utf8.ValidString(text):
		return "it is no UTF-8"
	case strings.ContainsRune(text, 0):
		return "it holds the control character U+0000"
	}
	return ""
}

// Unshown says why a text that people are shown cannot be kept, "" if it can: of control characters only tabs and ends of lines are taken.
func Unshown(text string) string {
	for _, r := range text {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return fmt.Sprintf("it holds the control character %U", r)
		}
	}
	return Unfit(text)
}

// Fit is a text without what databases refuse: bytes that are no UTF-8, and NUL.
func Fit(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "\ufffd")
}
