package reading_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// An appliance in an appliance, and one of very many files, is refused at once.
func TestAppliancesAreBounded(t *testing.T) {
	var inner bytes.Buffer
	for range 50 {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "disk.vmdk", Size: int64(inner.Len()), Typeflag: tar.TypeReg,
			Format: tar.FormatUSTAR}))
		_, err := w.Write(inner.Bytes())
		require.NoError(t, err)
		require.NoError(t, w.Close())
		inner = out
	}
	require.EqualError(t, readAll(bytes.NewReader(inner.Bytes()), int64(inner.Len())), "ova: its disk is no vmdk")

	var many bytes.Buffer
	w := tar.NewWriter(&many)
	for i := range 2000 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprintf("%d.mf", i), Typeflag: tar.TypeReg, Format: tar.FormatUSTAR}))
	}
	require.NoError(t, w.Close())
	require.EqualError(t, readAll(bytes.NewReader(many.Bytes()), int64(many.Len())), "ova: it has more than 1000 entries")
}
