package cli_test

import (
	"io/fs"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/app"
	"zygos/internal/region/kinds"
)

// Beside a version lie any number of documents, in every kind of region: put, read, listed and removed by name.
func TestDocumentsBesideAVersion(t *testing.T) {
	t.Parallel()
	p := me(t)
	p.starter()
	dir, address := tempDir(t), freeAddress(t)
	p.write("zygos.toml", p.read("zygos.toml")+
		"\n[region.bucket]\nkind = \"s3\"\nurl = \"http://"+bucketServer(t,
		dir)+"\"\nbucket = \"golden\"\nprefix = \"a\"\ncredentials = \"file:key\"\n"+
		"\n[region.registry]\nkind = \"registry\"\nurl = \"http://"+registry(t, dir, "")+"/golden\"\n"+
		"\n[region.cloud]\nkind = \"cloud\"\nurl = \"http://"+address+"\"\ncredentials = \"file:.zygos/standin/credentials\"\n")
	p.write("key", s3Key+":"+s3Secret)
	p.cloud("--listen", address)
	w, err := app.Find(app.Where{Workspace: p.dir, State: filepath.Join(p.dir, ".zygos")})
	require.NoError(t, err)
	require.NoError(t, w.LoadOrganisation())
	for _, name := range []string{"here", "bucket", "registry", "cloud"} {
		t.Run(name, func(t *testing.T) {
			at, err := kinds.Open(w.Org.Region(name), w.Path)
			require.NoError(t, err)
			names := []string{"first/0.1.0/inventory.cdx.json", "first/0.1.0/manifest.json", "first/0.1.0/provenance.json",
				"first/0.1.1/manifest.json", "second/0.1.0/provenance.json"}
			all := append([]string{"index.json", "zygos-owner.json"}, names...)
			for _, name := range all {
				_, err := at.Document(t.Context(), name, []byte(`{"of":"`+name+`","versions":[]}`))
				require.NoError(t, err, name)
			}
			for _, name := range all {
				text, _, err := at.Read(t.Context(), name)
				require.NoError(t, err, name)
				require.Contains(t, string(text), `"`+name+`"`, "each is another one")
			}
			list := func(below string) []string {
				list, err := at.Documents(t.Context(), below)
				require.NoError(t, err)
				return list
			}
			require.ElementsMatch(t, names, list(""))
			require.ElementsMatch(t, names[:3], list("first/0.1.0"))
			require.Empty(t, list("third/0.1.0"))
			require.NoError(t, at.Withdraw(t.Context(), names[0]))
			_, _, err = at.Read(t.Context(), names[0])
			require.ErrorIs(t, err, fs.ErrNotExist)
			require.ElementsMatch(t, names[1:3], list("first/0.1.0"))
			require.ElementsMatch(t, names[1:], list(""))
		})
	}
}
