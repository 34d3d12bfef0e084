// Package plain makes text that others chose safe to show: names of files, what scripts print, reasons,
// labels. Everything foreign goes through it before a person sees it, on a terminal, in a table, in a
// log or on a page.
package plain

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Text is a text as it can stand in a line: what a terminal would obey and what would hide or reorder
// other text (Unicode categories Cc, Cf, Zl, Zp, Co) is written as \n, \x1b or \u202e, and bytes that are
// no UTF-8 as \xff.
func Text(s string) string { return show(s, nil) }

// Lines is the same for a text of several lines: line ends and tabs stay.
func Lines(s string) string {
	return show(s, func(r rune, _ string) int { return whole(r == '\n' || r == '\t') })
}

// Painted is Lines, and leaves these sequences that colour text as they are.
func Painted(s string, colours []string) string {
	return show(s, func(r rune, rest string) int {
		if r == '\n' || r == '\t' {
			return 1
		}
		for _, c := range colours {
			if r == '\x1b' && strings.HasPrefix(rest, c) {
				return len(c)
			}
		}
		return 0
	})
}

func whole(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

// show writes what cannot be shown in another way; keep says how many bytes from here on stay as they are.
func show(s string, keep func(r rune, rest string) int) string {
	clean := true
	for i, r := range s {
		if hidden(r, s[i:]) {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case !hidden(r, s[i:]):
			b.WriteString(s[i : i+size])
		case keep != nil && keep(r, s[i:]) > 0:
			size = keep(r, s[i:])
			b.WriteString(s[i : i+size])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += size
	}
	return b.String()
}

func hidden(r rune, rest string) bool {
	if r < 0x7f {
		return r < ' '
	}
	if r == utf8.RuneError {
		return !strings.HasPrefix(rest, "\uFFFD")
	}
	return unicode.In(r, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Co)
}

// JSON writes what Text would not show as it is, in a JSON text, as escapes that mean the same.
func JSON(text []byte) []byte {
	s := string(text)
	var b []byte
	from := 0
	for i, r := range s {
		if r < 0x7f || !hidden(r, s[i:]) || r == utf8.RuneError { // JSON has no lower ones within strings
			continue
		}
		if b == nil {
			b = make([]byte, 0, len(s)+64)
		}
		b = append(b, s[from:i]...)
		if r > 0xffff {
			b = fmt.Appendf(b, `\u%04x\u%04x`, 0xd800+(r-0x10000)>>10, 0xdc00+(r-0x10000)&0x3ff)
		} else {
			b = fmt.Appendf(b, `\u%04x`, r)
		}
		from = i + utf8.RuneLen(r)
	}
	if b == nil {
		return text
	}
	return append(b, s[from:]...)
}
