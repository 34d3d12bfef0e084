package manifest

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"zygos/internal/artifact"
	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/plain"
)

// NotIndexError says that a document is no index of a region that can be believed.
type NotIndexError struct {
	From string
	Err  error
}

func (e *NotIndexError) Error() string {
	return fmt.Sprintf("%s is no index of a region: %v", e.From, e.Err)
}
func (e *NotIndexError) Unwrap() error { return e.Err }

// ReadIndex reads the index of a region as a stream, and gives each version that it speaks of to take, which keeps what it needs.
// Nothing of the index is believed: a name that is no name, an id outside its alphabet, a digest that is none make it a
// *NotIndexError, and other text is cleaned. from says where the index is from. It returns the region's name.
func ReadIndex(ctx context.Context, in io.Reader, from string, take func(*Version)) (region string, err error) {
	schema := ""
	err = bounded.Objects(ctx, in, from, "versions", func(name string, value json.RawMessage) error {
		switch name {
		case "schema":
			return json.Unmarshal(value, &schema)
		case "region":
			return json.Unmarshal(value, &region)
		}
		return nil
	}, func(decode func(any) error) error {
		var v Version
		err := decode(&v)
		if err == nil {
			err = v.clean()
		}
		if err == nil {
			take(&v)
		}
		return err
	})
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case err == nil && schema != IndexSchema:
		err = fmt.Errorf("its schema is %.80q, and not %s", schema, IndexSchema)
	case err == nil && !definition.IsName(region):
		err = fmt.Errorf("%.80q is no name of a region", region)
	}
	if err != nil {
		return "", &NotIndexError{from, err}
	}
	return region, nil
}

// clean refuses a version whose names cannot be names, and cleans the rest.
func (v *Version) clean() error {
	if _, ok := definition.ParseVersion(v.Version); !ok || !definition.IsName(v.Image) {
		return fmt.Errorf("%.80q is no version of an image", v.Image+"@"+v.Version)
	}
	for _, tag := range v.Tags {
		if !definition.IsName(tag) {
			return fmt.Errorf("%s@%s: %.80q is no tag", v.Image, v.Version, tag)
		}
	}
	for i := range v.Artifacts {
		a := &v.Artifacts[i]
		if err := a.check(); err != nil {
			return fmt.Errorf("%s@%s: %w", v.Image, v.Version, err)
		}
	}
	if v.Recall != nil {
		v.Recall.Why, v.Recall.By = plain.Text(v.Recall.Why), plain.Text(v.Recall.By)
	}
	return nil
}

func (a *Local) check() error {
	switch {
	case !IsID(a.ID):
		return fmt.Errorf("%.80q is no id", a.ID)
	case a.Digest.IsZero():
		return fmt.Errorf("%s has no digest", a.ID)
	case a.Bytes < 0:
		return fmt.Errorf("%s has %d bytes", a.ID, a.Bytes)
	case a.Name != "" && !definition.IsName(a.Name), a.Variant != "" && !definition.IsName(a.Variant), !definition.IsName(a.Format):
		return fmt.Errorf("%.80q is no name of an artifact", artifact.Key{Variant: a.Variant, Name: a.Name, Format: a.Format}.String())
	case !IsLocation(a.Location):
		return fmt.Errorf("%.80q is no location", a.Location)
	}
	return nil
}

// IsID reports whether a text can be the id of a placement: ids stand in scripts and in addresses, so that they have an alphabet,
// letters, digits and ._:/@+=- behind the first, and 200 bytes at most.
func IsID(text string) bool {
	for i, c := range []byte(text) {
		if !(c >= 'a' && c <= 'z') && !(c >= 'A' && c <= 'Z') && !(c >= '0' && c <= '9') && (i == 0 || strings.IndexByte("._:/@+=-", c) < 0) {
			return false
		}
	}
	return text != "" && len(text) <= 200
}

// IsLocation reports whether a text can be the location of a placement: one line without anything that a terminal obeys.
func IsLocation(text string) bool {
	return text != "" && len(text) <= 8<<10 && plain.Text(text) == text && !strings.ContainsRune(text, 0)
}
