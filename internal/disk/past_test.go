package disk_test

import (
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
)

// counting is a file that counts what is read of it.
type counting struct {
	io.ReaderAt
	bytes int64
}

func (c *counting) ReadAt(p []byte, at int64) (int, error) {
	n, err := c.ReaderAt.ReadAt(p, at)
	c.bytes += int64(n)
	return n, err
}

// A disk that changed a little has the bytes that it would have without its past, whatever became of that.
func TestWhatWasPackedIsCopied(t *testing.T) {
	first := drawings["mixed"]
	next := &drawn{size: first.size, parts: first.parts, text: func(at int64, p []byte) {
		if mixed(at, p); at == 7*mib {
			words(at+5, p[:100_000])
		}
	}}
	for name, container := range map[string]func(*disk.Past) disk.Container{
		"zlib": func(p *disk.Past) disk.Container { return disk.Qcow2(disk.Zlib, p) },
		"zstd": func(p *disk.Past) disk.Container { return disk.Qcow2(disk.Zstd, p) },
		"vmdk": func(p *disk.Past) disk.Container { return disk.Vmdk(7, p) },
	} {
		t.Run(name, func(t *testing.T) {
			unknown, err := disk.NewPast(nil, nil)
			require.NoError(t, err)
			was, blob := stored(t, container(unknown), first)
			_, plain := stored(t, container(nil), first)
			require.Equal(t, plain, blob, "noting pieces changes nothing")
			_, want := stored(t, container(nil), next)
			require.NotEqual(t, want, blob)

			with := func(text []byte, file string) (int64, []byte) {
				f, err := os.Open(file)
				require.NoError(t, err)
				defer f.Close()
				read := &counting{ReaderAt: f}
				past, err := disk.NewPast(text, read)
				require.NoError(t, err)
				_, got := stored(t, container(past), next)
				require.Equal(t, want, got)
				return read.bytes, past.Text()
			}
			copied, _ := with(unknown.Text(), was)
			require.Greater(t, copied, blob.Bytes/4) // pieces that do not pack are not read
			require.Less(t, copied, blob.Bytes)

			other := t.TempDir() + "/other"
			text, err := os.ReadFile(was)
			require.NoError(t, err)
			for i := len(text) / 3; i < len(text)/2; i++ {
				text[i] ^= 0x55
			}
			require.NoError(t, os.WriteFile(other, text[:len(text)*3/4], 0o600))
			with(unknown.Text(), other) // damaged and cut short: what is not as it was is packed

			list := unknown.Text()
			list[40] ^= 1
			_, err = disk.NewPast(list, nil)
			require.ErrorContains(t, err, "damaged")
			_, err = disk.NewPast(list[:7], nil)
			require.ErrorContains(t, err, "damaged")
		})
	}
}
