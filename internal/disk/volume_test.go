package disk_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
	"zygos/internal/store"
)

// halves is a made-up partition table: a sector that says where each of its volumes starts, and then these.
type halves []disk.Volume

func (h halves) Size() (size int64) {
	size = 4096
	for _, v := range h {
		size += v.Size()
	}
	return size
}

func (h halves) Extents() []disk.Extent {
	list, at := []disk.Extent{{Length: 4096}}, int64(4096)
	for _, v := range h {
		for _, e := range v.Extents() {
			list = append(list, disk.Extent{Offset: at + e.Offset, Length: e.Length})
		}
		at += v.Size()
	}
	return list
}

func (h halves) Write(ctx context.Context, out disk.Output) error {
	head := make([]byte, 4096)
	for i, at := 0, int64(4096); i < len(h); i++ {
		binary.LittleEndian.PutUint64(head[8*i:], uint64(at))
		at += h[i].Size()
	}
	if _, err := out.Write(head); err != nil {
		return err
	}
	for _, v := range h {
		if err := v.Write(ctx, out); err != nil {
			return err
		}
	}
	return nil
}

// box is a made-up container: its size, its extents, then what lies in them; in front of all, where the end is,
// which it pretends to know last.
func box(ctx context.Context, to disk.Target, v disk.Volume) error {
	if err := to.Reserve(8); err != nil {
		return err
	}
	extents := v.Extents()
	table := []uint64{uint64(v.Size()), uint64(len(extents))}
	for _, e := range extents {
		table = append(table, uint64(e.Offset), uint64(e.Length))
	}
	if err := binary.Write(to, binary.LittleEndian, table); err != nil {
		return err
	}
	p := &packing{to: to, extents: extents}
	if err := v.Write(ctx, p); err != nil {
		return err
	}
	end := 8 + int64(len(table))*8 + p.kept
	_, err := to.WriteAt(binary.LittleEndian.AppendUint64(nil, uint64(end)), 0)
	return err
}

// packing keeps what lies in extents.
type packing struct {
	to       disk.Target
	extents  []disk.Extent
	at, kept int64
}

func (p *packing) Write(b []byte) (int, error) {
	for _, e := range p.extents {
		from, to := max(e.Offset, p.at), min(e.Offset+e.Length, p.at+int64(len(b)))
		if from < to {
			if _, err := p.to.Write(b[from-p.at : to-p.at]); err != nil {
				return 0, err
			}
			p.kept += to - from
		}
	}
	p.at += int64(len(b))
	return len(b), nil
}

func (p *packing) Zero(n int64) error {
	for n > 0 {
		part := min(n, 1<<20)
		if _, err := p.Write(make([]byte, part)); err != nil {
			return err
		}
		n -= part
	}
	return nil
}

func unbox(t *testing.T, text []byte) []byte {
	u64 := func(i int) int64 { return int64(binary.LittleEndian.Uint64(text[8*i:])) }
	require.EqualValues(t, len(text), u64(0))
	out, data := make([]byte, u64(1)), text[24+16*u64(2):]
	for i := range int(u64(2)) {
		at, length := u64(3+2*i), u64(4+2*i)
		copy(out[at:], data[:length])
		data = data[length:]
	}
	require.Empty(t, data)
	return out
}

// A container over a partition table over file systems: each knows nothing of the others but size, extents, bytes.
func TestVolumesCompose(t *testing.T) {
	one, err := newTree(t).file("a", bytes.Repeat([]byte("a"), 300000)).volume(0)
	require.NoError(t, err)
	two, err := newTree(t).file("b", []byte("b")).volume(200 << 20)
	require.NoError(t, err)
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	write := func(c disk.Container, v disk.Volume) []byte {
		w, err := s.Create(t.Context())
		require.NoError(t, err)
		defer w.Discard()
		told := int64(0)
		require.NoError(t, c(t.Context(), w, disk.Told(v, func(n int64) { told += n })))
		blob, err := w.Commit()
		require.NoError(t, err)
		require.NoError(t, s.Verify(t.Context(), blob))
		require.Positive(t, told)
		require.Less(t, told, v.Size(), "zeros are no work")
		text, err := os.ReadFile(s.Path(blob.Digest))
		require.NoError(t, err)
		return text
	}
	both := halves{one, two}
	plain := write(disk.Raw, both)
	require.Equal(t, write(disk.Raw, one), plain[4096:4096+one.Size()])
	require.Equal(t, write(disk.Raw, two), plain[binary.LittleEndian.Uint64(plain[8:]):])
	packed := write(box, both)
	require.Less(t, len(packed), len(plain)/4)
	require.True(t, bytes.Equal(plain, unbox(t, packed)))
	require.True(t, bytes.Equal(packed, write(box, both)), "the same bytes each time")
}
