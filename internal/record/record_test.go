package record_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/definition"
	"zygos/internal/record"
	"zygos/internal/state"
)

// Whatever a record says, its names are names once it was checked.
func FuzzRecord(f *testing.F) {
	at := state.Dir(f.TempDir())
	require.NoError(f, os.MkdirAll(at.Build("b-1", ""), 0o755))
	f.Add([]byte(`{"schema":"zygos.build/3","build":"b-1","version":{"image":"a","version":"1.0.0","build":"b-1","trees":[{"layers":["x"]}],` +
		`"artifacts":[{"format":"tar","digest":"sha256:x"}]},"plan":{}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		require.NoError(t, os.WriteFile(at.Build("b-1", "record.json"), text, 0o644))
		r, err := record.Read(at, "b-1")
		if err != nil || r.Version == nil || r.Version.Check() != nil {
			return
		}
		require.True(t, definition.IsName(r.Version.Image))
		require.True(t, filepath.IsLocal(r.Version.Version))
		for _, a := range r.Version.Artifacts {
			require.Len(t, a.Digest.Hex(), 64)
		}
	})
}
