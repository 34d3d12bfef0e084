package layer

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestOwnersShiftBothWays(t *testing.T) {
	o := Owners{First: 100000, Count: 65536}
	for tree, disk := range map[uint32]uint32{0: 100000, 1000: 101000, 65534: 165534} {
		got, ok := o.Disk(tree)
		require.True(t, ok)
		require.Equal(t, disk, got)
		require.Equal(t, tree, o.Tree(disk))
	}
	for _, id := range []uint32{65535, 65536, 70000} { // one id on disk stands for all of them
		disk, ok := o.Disk(id)
		require.False(t, ok)
		require.Equal(t, uint32(165535), disk)
		require.Equal(t, id, o.Was(disk, id))
	}
	require.Equal(t, uint32(0), o.Was(100000, 70000), "given to root")
	alone := Owners{First: 7, Count: 1}
	disk, ok := alone.Disk(42)
	require.False(t, ok)
	require.Equal(t, uint32(42), alone.Was(disk, 42))
	require.Equal(t, uint32(0), alone.Tree(disk))
	require.Equal(t, uint32(65534), o.Tree(0), "an owner from outside belongs to nobody in the tree")
	require.Equal(t, uint32(65534), o.Tree(165536))
}

func TestCapabilitiesAreBoundAndFreedAgain(t *testing.T) {
	plain := []byte{1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0} // cap_net_raw, effective
	bound := boundCapability(plain, 100000)
	require.Len(t, bound, 24)
	require.Equal(t, byte(3), bound[3])
	require.Equal(t, []byte{0xa0, 0x86, 1, 0}, bound[20:])
	require.Equal(t, plain, plainCapability(bound))
	require.Equal(t, plain, plainCapability(plain))
	require.Equal(t, plain, boundCapability(plain, 0))
	require.Equal(t, []byte("odd"), plainCapability([]byte("odd")))
}

func TestACLsShiftOnlyNamedIDs(t *testing.T) {
	acl := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 10, 0, 0, 0, 8, 0, 4, 0, 20, 0, 0, 0, 32, 0, 0, 0, 255, 255, 255,
		255}
	shifted := shiftACL(acl, func(_ uint16, id uint32) uint32 { return id + 100 })
	require.Equal(t, byte(110), shifted[16])
	require.Equal(t, byte(120), shifted[24])
	require.Equal(t, acl[:12], shifted[:12])
	require.Equal(t, acl[28:], shifted[28:])
	require.Equal(t, acl, shiftACL(shifted, func(_ uint16, id uint32) uint32 { return id - 100 }))
	require.Equal(t, byte(10), acl[16], "the original stays")
}

func TestHolesFollowFromTheContent(t *testing.T) {
	const hole = holeMin
	data := bytes.Repeat([]byte("d"), pageSize)
	zero := func(n int) []byte { return make([]byte, n) }
	for name, c := range map[string]struct {
		parts [][]byte
		want  []Segment
	}{
		"empty":              {nil, nil},
		"all data":           {[][]byte{data, data}, nil},
		"short run of zeros": {[][]byte{data, zero(hole - pageSize), data}, nil},
		"hole inside":        {[][]byte{data, zero(hole), data}, []Segment{{0, pageSize}, {pageSize + hole, pageSize}}},
		"hole in front":      {[][]byte{zero(hole), data}, []Segment{{hole, pageSize}}},
		"hole at the end":    {[][]byte{data, zero(hole)}, []Segment{{0, pageSize}}},
		"all hole":           {[][]byte{zero(hole)}, []Segment{}},
		"odd end":            {[][]byte{data, zero(hole), []byte("xyz")}, []Segment{{0, pageSize}, {pageSize + hole, 3}}},
		"odd hole at end":    {[][]byte{data, zero(hole + 5)}, []Segment{{0, pageSize}}},
		"zeros not on pages": {[][]byte{[]byte("x"), zero(hole), []byte("y")}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			whole := bytes.Join(c.parts, nil)
			for _, step := range []int{len(whole) + 1, 1000, pageSize, 7777} {
				h := newHoleFinder()
				for at := 0; at < len(whole); at += step {
					_, err := h.Write(whole[at:min(at+step, len(whole))])
					require.NoError(t, err)
				}
				require.Equal(t, c.want, h.Data(), "in steps of %d", step)
			}
		})
	}
}

func TestEscapesComeBackByteForByte(t *testing.T) {
	for _, s := range []string{"", "plain/path", "50%", "%41", "tab\tnew\nline", "ünïcode", "bad\xff\xfe", "\u2028", "nul-free\x7f",
		"\uFFFD", "mixed\xc3é%"} {
		e := escape(s)
		back, err := unescape(e)
		require.NoError(t, err)
		require.Equal(t, s, back)
		require.NotContains(t, e, "\n")
	}
	for _, s := range []string{"%", "%4", "%zz"} {
		_, err := unescape(s)
		require.Error(t, err)
	}
}
