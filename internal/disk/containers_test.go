package disk_test

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
	"zygos/internal/needtest"
	"zygos/internal/store"
)

// drawn is a made-up volume: pieces of text of so many bytes at some places, and zeros.
type drawn struct {
	size  int64
	parts []disk.Extent
	text  func(at int64, p []byte)
}

func (d *drawn) Size() int64            { return d.size }
func (d *drawn) Extents() []disk.Extent { return d.parts }
func (d *drawn) Write(_ context.Context, out disk.Output) error {
	at := int64(0)
	buf := make([]byte, 1<<20)
	for _, e := range d.parts {
		if e.Offset > at {
			if err := out.Zero(e.Offset - at); err != nil {
				return err
			}
		}
		for at = e.Offset; at < e.Offset+e.Length; {
			n := min(int64(len(buf)), e.Offset+e.Length-at)
			d.text(at, buf[:n])
			if _, err := out.Write(buf[:n]); err != nil {
				return err
			}
			at += n
		}
	}
	if at < d.size {
		return out.Zero(d.size - at)
	}
	return nil
}

func random(at int64, p []byte) {
	r := rand.NewPCG(uint64(at), 3)
	for i := 0; i+8 <= len(p); i += 8 {
		v := r.Uint64()
		for j := range 8 {
			p[i+j] = byte(v >> (8 * j))
		}
	}
}

func words(at int64, p []byte) {
	for i := range p {
		p[i] = "the quick brown fox "[(at+int64(i))%20] + byte((at+int64(i))>>20&1)
	}
}

// mixed has pieces that cannot be packed between those that can, and some zeros.
func mixed(at int64, p []byte) {
	for i := 0; i < len(p); i += 32 << 10 {
		part := p[i:min(i+32<<10, len(p))]
		switch (at + int64(i)) >> 15 % 5 {
		case 0, 1:
			random(at+int64(i), part)
		case 2:
			clear(part)
		default:
			words(at+int64(i), part)
		}
	}
}

const mib = 1 << 20

var drawings = map[string]*drawn{
	"nothing":    {size: 64 * mib},
	"one sector": {size: 512, parts: []disk.Extent{{Length: 512}}, text: words},
	"odd":        {size: 5*mib + 512, parts: []disk.Extent{{Length: 5*mib + 512}}, text: mixed},
	"zeros":      {size: 9 * mib, parts: []disk.Extent{{Length: 9 * mib}}, text: func(_ int64, p []byte) { clear(p) }},
	"random":     {size: 9 * mib, parts: []disk.Extent{{Length: 9 * mib}}, text: random},
	"mixed":      {size: 17 * mib, parts: []disk.Extent{{Length: 17 * mib}}, text: mixed},
	"holes around": {size: 100*mib + 4096, parts: []disk.Extent{{Offset: 3*mib + 4096, Length: 70000}, {Offset: 50 * mib, Length: mib}},
		text: words},
	"sparse": {size: 1 << 40, text: mixed,
		parts: []disk.Extent{{Offset: 4096, Length: 8192}, {Offset: 1 << 39, Length: 3 * mib}, {Offset: 1<<40 - 4096, Length: 4096}}},
	"wide": {size: 600<<20 + 512, parts: []disk.Extent{{Offset: 4096, Length: 8192}, {Offset: 600<<20 - 4096, Length: 4608}}, text: mixed},
	"large": {size: 5 << 30, parts: []disk.Extent{{Offset: 512 << 20, Length: 4<<30 + mib}}, text: func(at int64, p []byte) {
		words(at>>20<<20, p[:1<<16])
		for i := 1 << 16; i < len(p); i += 1 << 16 {
			copy(p[i:], p[:1<<16])
		}
	}},
}

var id = [16]byte{0xa1, 2, 3, 4, 5, 6, 0x87, 8, 0x89, 10, 15: 16}

// containers are all, by the name that their reader has for them.
var containers = []struct {
	name, format string
	disk.Container
}{
	{"qcow2 zlib", "qcow2", disk.Qcow2(disk.Zlib, nil)}, {"qcow2 zstd", "qcow2", disk.Qcow2(disk.Zstd, nil)},
	{"qcow2 none", "qcow2", disk.Qcow2(disk.None, nil)},
	{"vmdk", "vmdk", disk.Vmdk(7, nil)}, {"vhd", "vpc", disk.Vhd(disk.VhdOptions{ID: id, Epoch: 1767225600})},
	{"fixed vhd", "vpc", disk.Vhd(disk.VhdOptions{ID: id, Fixed: true})}, {"vhdx", "vhdx", disk.Vhdx(id)},
}

// stored writes a volume in a container into a store of its own.
func stored(t *testing.T, c disk.Container, v disk.Volume) (string, store.Blob) {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	w, err := s.Create(t.Context())
	require.NoError(t, err)
	defer w.Discard()
	require.NoError(t, c(t.Context(), w, v))
	blob, err := w.Commit()
	require.NoError(t, err)
	if v.Size() < 4<<30 {
		require.NoError(t, s.Verify(t.Context(), blob))
	}
	return s.Path(blob.Digest), blob
}

// Another program finds each container sound, and what is in it equal to the disk; the same disk gives the same bytes.
func TestContainersHoldWhatTheyWereGiven(t *testing.T) {
	for name, d := range drawings {
		t.Run(name, func(t *testing.T) {
			if name == "large" || name == "sparse" || name == "wide" {
				needtest.Long(t)
			}
			plain := filepath.Join(t.TempDir(), "plain.raw")
			f, err := os.Create(plain)
			require.NoError(t, err)
			require.NoError(t, d.Write(t.Context(), &sparse{File: f}))
			require.NoError(t, f.Close())
			for _, c := range containers {
				if c.name == "fixed vhd" && d.size > 8<<30 || c.format != "qcow2" && c.format != "vmdk" && d.size > 512<<30 {
					continue // too large for the format, or for a reader that does not know holes
				}
				if name == "large" && c.name != "qcow2 none" {
					continue
				}
				file, blob := stored(t, c.Container, d)
				if c.format == "qcow2" || c.format == "vhdx" || c.format == "vmdk" {
					run(t, "qemu-img", "check", "-f", c.format, file)
				}
				args := []string{"compare", "-f", "raw", "-F", c.format, plain, file}
				if d.size%(1*mib) != 0 && c.format != "qcow2" || c.format == "vpc" {
					require.NoError(t, os.Truncate(plain, asLarge(t, c.format, file, d.size)))
				}
				require.Contains(t, run(t, "qemu-img", args...), "Images are identical", c.name)
				require.NoError(t, os.Truncate(plain, d.size))
				if name != "large" {
					_, again := stored(t, c.Container, d)
					require.Equal(t, blob, again, c.name)
				}
			}
		})
	}
}

// asLarge is how large a reader takes a disk to be: the disk, or the next whole MiB.
func asLarge(t *testing.T, format, file string, size int64) int64 {
	var info struct {
		Size int64 `json:"virtual-size"`
	}
	require.NoError(t, json.Unmarshal([]byte(run(t, "qemu-img", "info", "--output", "json", "-f", format, file)), &info))
	require.GreaterOrEqual(t, info.Size, size)
	require.Less(t, info.Size, size+mib)
	return info.Size
}
