package digest_test

import (
	"crypto/sha256"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/digest"
)

func TestParse(t *testing.T) {
	digits := strings.Repeat("0aF9", 16)
	for _, text := range []string{digits, "sha256:" + digits} {
		d, err := digest.Parse(text)
		require.NoError(t, err)
		require.Equal(t, strings.ToLower(digits), d.Hex())
		require.Equal(t, "sha256:"+strings.ToLower(digits), d.String())
	}
	for _, text := range []string{"", "sha256:", "sha256:../../../victim/x", digits[1:], digits + "0", "sha512:" + digits,
		"sha256:sha256:" + digits, strings.Repeat("x", 64), digits[:62] + "/.", "../" + digits, strings.Repeat("é", 32)} {
		_, err := digest.Parse(text)
		require.Error(t, err, text)
		require.Equal(t, "no-digest", digest.Name(text))
		var d digest.Digest
		if text != "" {
			require.Error(t, json.Unmarshal([]byte(`"`+text+`"`), &d), text)
			require.Error(t, d.Scan(text))
		}
		require.True(t, d.IsZero())
	}
}

func TestForms(t *testing.T) {
	d := digest.Of([]byte("ebb"))
	h := sha256.New()
	h.Write([]byte("ebb"))
	require.Equal(t, d, digest.From(h))
	text, err := json.Marshal(struct {
		A digest.Digest `json:"a"`
		B digest.Digest `json:"b,omitzero"`
	}{A: d})
	require.NoError(t, err)
	require.JSONEq(t, `{"a":"`+d.String()+`"}`, string(text))
	var back struct{ A, B digest.Digest }
	require.NoError(t, json.Unmarshal(text, &back))
	require.Equal(t, d, back.A)
	var row digest.Digest
	require.NoError(t, row.Scan(d.String()))
	require.Equal(t, d, row)
}
