package manifest_test

import (
	"bytes"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/manifest"
)

const read = `{"schema":"zygos.region/1","region":"north","more":{"a":[1]},` +
	`"versions":[{"image":"link","version":"1.2.3","tags":["stable"],` +
	`"artifacts":[{"id":"zy-1","name":"tar","format":"tar","digest":"sha256:` + zeros + `","bytes":9,"location":"/x/a.tar.zst"}],` +
	`"recall":{"since":"2026-01-02T03:04:05Z","why":"a \u001b[31mhole\n","by":"link@1.2.3"}}]}`

const zeros = "0000000000000000000000000000000000000000000000000000000000000000"

// An index is read as a stream; what cannot be a name, a digest, an id or a location is refused, and other text is cleaned.
func TestReadIndex(t *testing.T) {
	var list []*manifest.Version
	take := func(v *manifest.Version) { list = append(list, v) }
	region, err := manifest.ReadIndex(t.Context(), strings.NewReader(read), "index.json", take)
	require.NoError(t, err)
	require.Equal(t, "north", region)
	require.Equal(t, "zy-1", list[0].Artifacts[0].ID)
	require.Equal(t, `a \x1b[31mhole\n`, list[0].Recall.Why)
	for _, change := range [][2]string{{zeros, "../../../victim/x"}, {zeros, zeros + "0"}, {`"link",`, `"../link",`}, {`"1.2.3",`,
		`"1.2.3/..",`},
		{`"zy-1"`, `"$(touch x)"`}, {`"zy-1"`, `"zy-1\nKEY=x"`}, {`"/x/a`, `"/x\u001b[31m/a`}, {`"stable"`, `"a b"`}, {`"bytes":9`, `"bytes":-9`},
		{`"north"`, `"x\u001b[31m"`}, {"region/1", "region/2"}, {`}]}`, `}]} {}`}, {`"tar","format"`, `"a/b","format"`}, {`"versions":[`,
			`"versions":{`},
		{`,"location":"/x/a.tar.zst"`, ""}} {
		text := strings.Replace(read, change[0], change[1], 1)
		require.NotEqual(t, read, text)
		_, err := manifest.ReadIndex(t.Context(), strings.NewReader(text), "index.json", func(*manifest.Version) {})
		require.ErrorAs(t, err, new(*manifest.NotIndexError), "%v", change)
	}
}

// However large an index is, it takes little memory.
func TestLargeIndexTakesLittleMemory(t *testing.T) {
	head, rest, _ := strings.Cut(read, `"versions":[`)
	one := strings.TrimSuffix(rest, "]}")
	text := head + `"versions":[` + strings.Repeat(one+",", 60<<20/len(one)) + one + "]}"
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	n := 0
	most := uint64(0)
	_, err := manifest.ReadIndex(t.Context(), strings.NewReader(text), "index.json", func(*manifest.Version) {
		if n++; n%50_000 == 0 {
			runtime.GC()
			runtime.ReadMemStats(&after)
			most = max(most, after.HeapAlloc)
		}
	})
	require.NoError(t, err)
	require.Greater(t, n, 100_000)
	require.Less(t, most, before.HeapAlloc+16<<20)
}

func FuzzIndex(f *testing.F) {
	f.Add([]byte(read))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, _ = manifest.ReadIndex(t.Context(), bytes.NewReader(text), "x", func(v *manifest.Version) {
			for _, a := range v.Artifacts {
				require.Len(t, a.Digest.Hex(), 64)
				require.True(t, manifest.IsID(a.ID))
			}
		})
	})
}
