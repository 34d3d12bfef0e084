package manifest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// Canonical is a document in its one form (RFC 8785, JSON Canonicalization Scheme): no space, no line's
// end, keys in the order of their UTF-16 code units, strings with no more escapes than they need. Numbers
// are whole and at most 2^53 away from zero, as all in our documents are.
func Canonical(document any) ([]byte, error) {
	text, err := json.Marshal(document)
	if err != nil {
		return nil, err
	}
	var plain any
	in := json.NewDecoder(bytes.NewReader(text))
	in.UseNumber()
	if err := in.Decode(&plain); err != nil {
		return nil, err
	}
	return appendCanonical(nil, plain)
}

func appendCanonical(b []byte, value any) (_ []byte, err error) {
	switch v := value.(type) {
	case nil:
		return append(b, "null"...), nil
	case bool:
		return strconv.AppendBool(b, v), nil
	case json.Number:
		n, err := v.Int64()
		if err != nil || n > 1<<53 || n < -1<<53 {
			return nil, fmt.Errorf("the number %s has no canonical form here", v)
		}
		return strconv.AppendInt(b, n, 10), nil
	case string:
		return appendString(b, v), nil
	case []any:
		b = append(b, '[')
		for i, item := range v {
			if i > 0 {
				b = append(b, ',')
			}
			if b, err = appendCanonical(b, item); err != nil {
				return nil, err
			}
		}
		return append(b, ']'), nil
	case map[string]any:
		b = append(b, '{')
		for i, key := range slices.SortedFunc(maps.Keys(v), byCodeUnits) {
			if i > 0 {
				b = append(b, ',')
			}
			b = append(appendString(b, key), ':')
			if b, err = appendCanonical(b, v[key]); err != nil {
				return nil, err
			}
		}
		return append(b, '}'), nil
	}
	return nil, fmt.Errorf("%T is no JSON value", value)
}

// byCodeUnits is the order of RFC 8785, section 3.2.3.
func byCodeUnits(a, b string) int {
	return slices.Compare(utf16.Encode([]rune(a)), utf16.Encode([]rune(b)))
}

// appendString writes a string as RFC 8785, section 3.2.2.2 has it.
func appendString(b []byte, s string) []byte {
	short := map[rune]byte{'\b': 'b', '\t': 't', '\n': 'n', '\f': 'f', '\r': 'r', '"': '"', '\\': '\\'}
	b = append(b, '"')
	for _, r := range s {
		if c, ok := short[r]; ok {
			b = append(b, '\\', c)
		} else if r < ' ' {
			b = fmt.Appendf(b, `\u%04x`, r)
		} else {
			b = utf8.AppendRune(b, r)
		}
	}
	return append(b, '"')
}
