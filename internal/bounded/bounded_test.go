package bounded_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/bounded"
)

func TestReadersEnd(t *testing.T) {
	text, err := bounded.All(t.Context(), strings.NewReader("1234"), "it", 4)
	require.NoError(t, err)
	require.Equal(t, "1234", string(text))
	var large *bounded.TooLargeError
	_, err = bounded.All(t.Context(), strings.NewReader("12345"), "it", 4)
	require.ErrorAs(t, err, &large)
	n, err := bounded.Copy(t.Context(), io.Discard, zeros{}, "it", 1<<20)
	require.ErrorAs(t, err, &large)
	require.EqualValues(t, 1<<20, n)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = bounded.Copy(ctx, io.Discard, zeros{}, "it", 1<<20)
	require.ErrorIs(t, err, context.Canceled)
	var v []int
	require.NoError(t, bounded.JSON(t.Context(), strings.NewReader(" [1] \n"), "it", 100, &v))
	require.ErrorContains(t, bounded.JSON(t.Context(), strings.NewReader("[1][2]"), "it", 100, &v), "something follows")
	require.ErrorAs(t, bounded.JSON(t.Context(), zerosJSON(), "it", 100, &v), &large)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

func zerosJSON() io.Reader { return io.MultiReader(strings.NewReader("["), repeated("1,")) }

type repeated string

func (r repeated) Read(p []byte) (int, error) {
	return copy(p, bytes.Repeat([]byte(r), len(p)/len(r)+1)), nil
}

func TestObjects(t *testing.T) {
	read := func(in io.Reader) (heads, list string, err error) {
		err = bounded.Objects(t.Context(), in, "it", "list", func(name string, v json.RawMessage) error {
			heads += fmt.Sprintf("%s=%s ", name, v)
			return nil
		}, func(decode func(any) error) error {
			var v json.RawMessage
			if err := decode(&v); err != nil {
				return err
			}
			list += string(v) + " "
			return nil
		})
		return heads, list, err
	}
	heads, list, err := read(strings.NewReader(`{"a":1,"list":[{"x":1},2],"b":"c"}`))
	require.NoError(t, err)
	require.Equal(t, `a=1 b="c" `, heads)
	require.Equal(t, `{"x":1} 2 `, list)
	for _, wrong := range []string{"", "[]", `{"list":{}}`, `{"list":[1`, `{"list":[1]}{}`, `{"list":[1]} x`, `{"a":1,}`} {
		_, _, err := read(strings.NewReader(wrong))
		require.Error(t, err, wrong)
	}
	var large *bounded.TooLargeError
	_, _, err = read(io.MultiReader(strings.NewReader(`{"list":["`), repeated("a")))
	require.ErrorAs(t, err, &large, "one entry without end")
}

func TestPagesEnd(t *testing.T) {
	p := bounded.Pages{What: "the list"}
	require.NoError(t, p.Next(10, "a"))
	require.NoError(t, p.Next(10, "b"))
	require.ErrorContains(t, p.Next(10, "a"), "leads back")
	p = bounded.Pages{What: "the list"}
	var err error
	n := 0
	for ; err == nil; n++ {
		err = p.Next(0, fmt.Sprint(n))
	}
	require.LessOrEqual(t, n, 200, "pages with nothing in them")
}
