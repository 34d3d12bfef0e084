package record_test

import (
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/record"
)

// rung is a made-up kind of event.
type rung struct {
	record.At
	Bells int `json:"bells"`
}

func (rung) Kind() string { return "rung" }

// A new kind of event is a type and a line in the table: logs keep and give back what it says.
func TestNewKindOfEventIsOneEntryOfTheTable(t *testing.T) {
	e := record.Event{Time: time.Unix(0, 0).UTC(), Build: "b-1", Image: "link", Variant: "edge", What: rung{record.At{Stage: "one"}, 3}}
	text, err := json.Marshal(e)
	require.NoError(t, err)
	require.Equal(t, `{"time":"1970-01-01T00:00:00Z","build":"b-1","kind":"rung","image":"link","variant":"edge","stage":"one","bells":3}`,
		string(text))
	var read record.Event
	require.NoError(t, json.Unmarshal(text, &read), "a kind that is not known is passed over")
	require.Equal(t, "rung", read.Kind())
	old := record.Kinds
	t.Cleanup(func() { record.Kinds = old })
	record.Kinds = append(slices.Clone(old), record.Kind{Zero: rung{}, Says: "it rings"})
	require.NoError(t, json.Unmarshal(text, &read))
	require.Equal(t, e, read)
	seen := map[string]bool{}
	for _, k := range record.Kinds {
		require.False(t, seen[k.Zero.Kind()], k.Zero.Kind())
		seen[k.Zero.Kind()] = true
		e.What = k.Zero
		text, err := json.Marshal(e)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &read), string(text))
		again, err := json.Marshal(read)
		require.NoError(t, err)
		require.JSONEq(t, string(text), string(again))
		require.IsType(t, k.Zero, read.What)
	}
}
