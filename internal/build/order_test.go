package build_test

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/plan"
	"zygos/internal/record"
	"zygos/internal/secret"
)

// A plan that was sent as JSON, with what it names by digest, comes to the same in another state.
func TestOrderIsCarriedOutElsewhere(t *testing.T) {
	contents := map[string][]byte{}
	keep := func(text string) string {
		contents[plan.Digest([]byte(text))] = []byte(text)
		return plan.Digest([]byte(text))
	}
	order := func(w *works) *plan.Plan {
		p := w.plan("1.0.0", "one", "two")
		p.Shapes[0].Stages[0].Steps[0].Digest, p.Shapes[0].Stages[0].Steps[0].Script = keep("echo one"), []byte("echo one")
		p.Shapes[0].Stages[1].Steps[0].Digest, p.Shapes[0].Stages[1].Steps[0].Script = keep("echo two"), []byte("echo two")
		p.Shapes[0].Stages[1].Secrets = []plan.Mark{{Name: "token", Mark: "m", Value: secret.Secret{Name: "token", Value: "a long value"}}}
		p.Shapes[0].From = "edge"
		p.Sources = []plan.Source{{Path: "images/link.toml", Digest: keep("base = \"x\"")}, {Path: "../../outside", Digest: keep("evil")}}
		return p
	}
	here := newWorks(t)
	was, err := here.engine.Run(t.Context(), order(here))
	require.NoError(t, err)

	there := newWorks(t)
	text, err := json.Marshal(plan.NewOrder(order(there)))
	require.NoError(t, err)
	require.NotContains(t, string(text), "a long value")
	var o plan.Order
	require.NoError(t, json.Unmarshal(text, &o))
	c := plan.Carrier{Dir: t.TempDir(), Content: func(digest, _ string) []byte { return contents[digest] },
		Secret: func(context.Context, string) (plan.Mark, error) {
			return plan.Mark{Mark: "m", Value: secret.Secret{Name: "token", Value: "a long value"}}, nil
		}}
	p, err := c.Ready(t.Context(), &o)
	require.NoError(t, err)
	require.Equal(t, "edge", p.Shapes[0].From)
	require.Equal(t, "echo two", string(p.Shapes[0].Stages[1].Steps[0].Script))
	require.Equal(t, "a long value", p.Shapes[0].Stages[1].Secrets[0].Value.Value)
	require.FileExists(t, filepath.Join(c.Dir, "images/link.toml"))
	_, err = os.Stat(filepath.Join(c.Dir, "../../outside"))
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is laid outside the folder")
	now, err := there.engine.Run(t.Context(), p)
	require.NoError(t, err)
	layers := func(r *record.Record) (list []string) {
		for _, s := range r.Shapes[0].Stages {
			list = append(list, s.Layer)
		}
		return list
	}
	require.Equal(t, layers(was), layers(now))
	require.Equal(t, was.Version.Artifacts[0].Digest, now.Version.Artifacts[0].Digest)

	delete(contents, plan.Digest([]byte("echo two")))
	c.Secret = func(context.Context, string) (plan.Mark, error) { return plan.Mark{Mark: "other"}, nil }
	_, err = c.Ready(t.Context(), &o)
	var lacks *plan.LacksError
	require.ErrorAs(t, err, &lacks)
	require.Equal(t, []string{"scripts/two.sh of stage two, as it was", "the value that the secret token had then; it has another one now"},
		lacks.What)
	c.Secret = func(context.Context, string) (plan.Mark, error) { return plan.Mark{}, errors.New("the store is away") }
	_, err = c.Ready(t.Context(), &o)
	require.EqualError(t, err, "the store is away")
}
