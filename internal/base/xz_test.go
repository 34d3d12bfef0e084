package base_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/base"
)

// xzSmall is a text of several blocks, as 'xz --block-size' makes them.
func xzSmall(t testing.TB, options string) (plain, packed []byte) {
	dir := t.TempDir()
	cmd := exec.Command("sh", "-euc", `seq 30000 > plain; xz -k --block-size=50KiB `+options+` plain`)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	plain, err = os.ReadFile(dir + "/plain")
	require.NoError(t, err)
	packed, err = os.ReadFile(dir + "/plain.xz")
	require.NoError(t, err)
	return plain, packed
}

func TestEveryFormOfXZ(t *testing.T) {
	for _, options := range []string{"", "-T2", "--check=none", "--check=crc32", "--check=crc64", "--check=sha256", "-0", "-9e",
		"--lzma2=preset=0,lc=0,lp=2,pb=0"} {
		plain, packed := xzSmall(t, options)
		got, err := base.Unpacked(bytes.NewReader(packed))
		require.NoError(t, err, options)
		require.True(t, bytes.Equal(plain, got), options)
	}
	plain, packed := xzSmall(t, "")
	twice := bytes.Join([][]byte{packed, make([]byte, 8), packed, make([]byte, 4)}, nil)
	got, err := base.Unpacked(bytes.NewReader(twice))
	require.NoError(t, err)
	require.True(t, bytes.Equal(append(plain, plain...), got), "streams one behind the other")
	_, packed = xzSmall(t, "--x86 --lzma2")
	_, err = base.Unpacked(bytes.NewReader(packed))
	require.ErrorContains(t, err, "a filter that is not known here")
}

// Any block may ask for memory, and is asked before it gets it; what is damaged ends with an error, wherever it is.
func TestHostileXZ(t *testing.T) {
	plain, packed := xzSmall(t, "")
	head := packed[12 : 12+4*(int(packed[12])+1)] // of each block
	text := bytes.Clone(packed)
	at := 12 + bytes.Index(packed[12:], head)
	for next := bytes.Index(text[at+1:], head[:2]); ; next = bytes.Index(text[at+1:], head[:2]) { // the last of them
		if next < 0 || !bytes.Contains(text[at+1+next:][:len(head)], []byte{0x21, 1}) {
			break
		}
		at += 1 + next
	}
	require.Greater(t, at, 12, "not the first block")
	block := text[at:][:len(head)]
	block[bytes.Index(block, []byte{0x21, 1})+2] = 39 // 3 GiB
	binary.LittleEndian.PutUint32(block[len(block)-4:], crc32.ChecksumIEEE(block[:len(block)-4]))
	_, err := base.Unpacked(bytes.NewReader(text))
	require.ErrorContains(t, err, "it asks for more than 128 MiB of memory")

	rnd := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		text := bytes.Clone(packed)
		text[6+rnd.IntN(len(text)-6)] ^= 1 << rnd.IntN(8) // behind what says that it is xz
		got, err := base.Unpacked(bytes.NewReader(text))
		require.False(t, err == nil && !bytes.Equal(plain, got), "a spoilt bit is noticed")
		_, err = base.Unpacked(bytes.NewReader(packed[:rnd.IntN(len(packed))]))
		require.Error(t, err)
	}
}
