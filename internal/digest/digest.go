// Package digest is the one type of SHA-256 digests. A Digest is made by parsing or by hashing and by nothing else, so that
// whatever becomes the name of a file, or a key, cannot be anything but 64 hexadecimal digits.
package digest

import (
	"crypto/sha256"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"hash"
	"strings"
)

// Digest is a SHA-256 digest. The zero value stands for no digest.
type Digest struct {
	text string // 64 lower-case hexadecimal digits, or ""
}

const prefix = "sha256:"

// Parse reads 64 hexadecimal digits, with "sha256:" before them or without.
func Parse(text string) (Digest, error) {
	digits := strings.TrimPrefix(text, prefix)
	whole := len(digits) == hex.EncodedLen(sha256.Size)
	for _, c := range []byte(digits) {
		whole = whole && (c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F')
	}
	if !whole {
		return Digest{}, fmt.Errorf("%.80q is no SHA-256 digest; one has 64 hexadecimal digits", text)
	}
	return Digest{strings.ToLower(digits)}, nil
}

// Of returns the digest of content.
func Of(content []byte) Digest {
	sum := sha256.Sum256(content)
	return Digest{hex.EncodeToString(sum[:])}
}

// From returns the digest of what was written to a hash, which crypto/sha256 made.
func From(h hash.Hash) Digest { return Digest{hex.EncodeToString(h.Sum(nil))} }

// IsZero reports whether there is no digest.
func (d Digest) IsZero() bool { return d.text == "" }

// Hex returns the 64 digits, or "" for no digest.
func (d Digest) Hex() string { return d.text }

// String returns "sha256:" and the digits, or "" for no digest.
func (d Digest) String() string {
	if d.text == "" {
		return ""
	}
	return prefix + d.text
}

// Name returns the file name for a digest in text form: its digits. If text is no digest, it is a name that nothing has.
func Name(text string) string {
	d, err := Parse(text)
	if err != nil {
		return "no-digest"
	}
	return d.text
}

// MarshalText implements encoding.TextMarshaler.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler. Empty text stands for no digest.
func (d *Digest) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*d = Digest{}
		return nil
	}
	*d, err = Parse(string(text))
	return err
}

// Value implements driver.Valuer.
func (d Digest) Value() (driver.Value, error) { return d.String(), nil }

// Scan implements sql.Scanner.
func (d *Digest) Scan(value any) error {
	switch v := value.(type) {
	case string:
		return d.UnmarshalText([]byte(v))
	case []byte:
		return d.UnmarshalText(v)
	}
	return fmt.Errorf("%v is no SHA-256 digest", value)
}
