package manifest

import (
	"encoding/json"
	"reflect"
	"slices"
)

// later are the keys that documents gained after their first form. One that an older program wrote lacks them, and is not wrong for that.
var later = []string{"name", "bytes", "labels", "checks", "warned", "skipped", "document", "verified_by"}

// Agree reports whether a document says what it should: all that it says is right, and it lacks nothing but keys that documents gained
// later.
func Agree(has, should []byte) bool {
	var a, b any
	return json.Unmarshal(has, &a) == nil && json.Unmarshal(should, &b) == nil && agree(a, b)
}

func agree(has, should any) bool {
	switch want := should.(type) {
	case map[string]any:
		had, ok := has.(map[string]any)
		if !ok {
			return false
		}
		for key, value := range had {
			if other, ok := want[key]; !ok || !agree(value, other) {
				return false
			}
		}
		for key := range want {
			if _, ok := had[key]; !ok && !slices.Contains(later, key) {
				return false
			}
		}
		return true
	case []any:
		had, ok := has.([]any)
		return ok && slices.EqualFunc(had, want, agree)
	}
	return reflect.DeepEqual(has, should)
}
