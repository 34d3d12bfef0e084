package secret

import (
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"slices"
	"strings"
)

// pieceSize bounds how much of a long value must appear to be found.
const pieceSize = 48

// forms lists the byte sequences that give a value away, without line ends: the value, or of a
// long one each piece; the same in base64 (RFC 4648, 4 and 5) at each of the three places it can
// have in what was encoded, in URL form (RFC 3986, 2.1) and in hexadecimal.
func forms(value string) [][]byte {
	units := []string{strings.NewReplacer("\n", "", "\r", "").Replace(value)}
	if lines := strings.Fields(strings.ReplaceAll(value, "\r", "\n")); strings.ContainsAny(value, "\r\n") {
		// Of a value of many lines each line counts by itself.
		lines = slices.DeleteFunc(lines, func(l string) bool { return len(l) < Shortest })
		units = append(units, lines...)
	}
	var list [][]byte
	add := func(text string) {
		for _, piece := range pieces(text) {
			if !slices.ContainsFunc(list, func(b []byte) bool { return string(b) == piece }) {
				list = append(list, []byte(piece))
			}
		}
	}
	for _, u := range units {
		add(u)
	}
	for _, raw := range append([]string{value}, units...) {
		for shift := range 3 {
			for _, enc := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
				add(inner(enc, raw, shift))
			}
		}
		for _, text := range []string{url.QueryEscape(raw), url.PathEscape(raw), percentAll(raw), hex.EncodeToString([]byte(raw))} {
			add(text)
			add(strings.ToUpper(text))
			add(lowerEscapes(text))
		}
	}
	return slices.DeleteFunc(list, func(b []byte) bool { return len(b) < Shortest })
}

// pieces cuts a long text.
func pieces(text string) (list []string) {
	for len(text) >= 2*pieceSize {
		list = append(list, text[:pieceSize])
		text = text[pieceSize:]
	}
	return append(list, text)
}

// inner is the part of a base64 text that depends on raw alone if shift bytes precede it.
func inner(enc *base64.Encoding, raw string, shift int) string {
	text := enc.EncodeToString([]byte(strings.Repeat("\x00", shift) + raw))
	first := []int{0, 2, 3}[shift] // characters that hold bits of what precedes
	last := len(text)
	if (shift+len(raw))%3 != 0 {
		last-- // holds bits of what follows
	}
	return text[min(first, last):last]
}

const hexUpper = "0123456789ABCDEF"

func percentAll(raw string) string {
	var b strings.Builder
	for _, c := range []byte(raw) {
		b.Write([]byte{'%', hexUpper[c>>4], hexUpper[c&15]})
	}
	return b.String()
}

// lowerEscapes writes %AB as %ab and leaves the rest.
func lowerEscapes(text string) string {
	b := []byte(text)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:], strings.ToLower(string(b[i+1:i+3])))
		}
	}
	return string(b)
}
