package disk_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/disk"
)

// sparse is an output that keeps holes.
type sparse struct {
	*os.File // nil keeps nothing
}

func (s *sparse) Write(p []byte) (int, error) {
	if s.File == nil {
		return len(p), nil
	}
	return s.File.Write(p)
}

func (s *sparse) Zero(n int64) error {
	if s.File == nil {
		return nil
	}
	at, err := s.Seek(n, 1)
	if err == nil {
		err = s.Truncate(at)
	}
	return err
}

type tree struct {
	t     *testing.T
	dir   string
	files []disk.File
}

func newTree(t *testing.T) *tree {
	return &tree{t: t, dir: t.TempDir(), files: []disk.File{{Path: ".", Mode: 0o40755, MTime: 1767225600}}}
}

func (tr *tree) add(f disk.File) *tree {
	f.MTime = 1767225600
	tr.files = append(tr.files, f)
	return tr
}

func (tr *tree) file(path string, content []byte) *tree {
	source := filepath.Join(tr.dir, fmt.Sprint(len(tr.files)))
	require.NoError(tr.t, os.WriteFile(source, content, 0o600))
	return tr.add(disk.File{Path: path, Mode: 0o100644, Size: int64(len(content)), Source: source})
}

func (tr *tree) volume(size int64) (disk.Volume, error) {
	return disk.Ext4(tr.t.Context(), tr.files, disk.Options{Size: size, Label: "zygos", UUID: [16]byte{1, 2, 3, 15: 4}, Epoch: 1767225600})
}

func (tr *tree) image(size int64) string {
	name := filepath.Join(tr.t.TempDir(), "disk.raw")
	f, err := os.Create(name)
	require.NoError(tr.t, err)
	defer f.Close()
	v, err := tr.volume(size)
	require.NoError(tr.t, err)
	require.NoError(tr.t, v.Write(tr.t.Context(), &sparse{File: f}))
	info, err := f.Stat()
	require.NoError(tr.t, err)
	require.Equal(tr.t, v.Size(), info.Size())
	return name
}

func run(t *testing.T, name string, args ...string) string {
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

func TestEveryKindOfFileSurvivesInExt4(t *testing.T) {
	big := bytes.Repeat([]byte("0123456789abcdef"), 1<<20)
	tr := newTree(t).file("small", []byte("hello\n")).file("empty", nil).file("big", big)
	tr.add(disk.File{Path: "dev", Mode: 0o40755}).add(disk.File{Path: "dev/null", Mode: 0o20666, Major: 1, Minor: 3})
	tr.add(disk.File{Path: "dev/sda", Mode: 0o60660, Major: 8, Minor: 300, GID: 70000})
	tr.add(disk.File{Path: "pipe", Mode: 0o10600}).add(disk.File{Path: "short", Mode: 0o120777, Link: "small"})
	tr.add(disk.File{Path: "long", Mode: 0o120777, Link: strings.Repeat("x/", 100)})
	tr.add(disk.File{Path: "second", Mode: 0o100644, Same: "small"})
	tr.add(disk.File{Path: "many", Mode: 0o41777})
	for i := range 1500 {
		tr.file(fmt.Sprintf("many/%0200d", i), []byte("x"))
	}
	tr.file("attributes", []byte("y"))
	tr.files[len(tr.files)-1].Xattrs = map[string][]byte{"user.note": []byte("abc"), "security.capability": make([]byte, 20),
		"system.posix_acl_access": {2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 232, 3, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0,
			4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}}
	name := tr.image(0)
	run(t, "e2fsck", "-fn", name)
	ask := func(command string) string { return run(t, "debugfs", "-R", command, name) }
	require.Contains(t, ask("cat small"), "hello\n")
	require.Contains(t, ask("stat second"), "Links: 2")
	require.Contains(t, ask("stat dev/null"), "Device major/minor number: 01:03")
	require.Contains(t, ask("stat dev/sda"), "Device major/minor number: 08:300")
	require.Contains(t, ask("ea_get attributes user.note"), "abc")
	copied := filepath.Join(t.TempDir(), "big")
	ask("dump big " + copied)
	got, err := os.ReadFile(copied)
	require.NoError(t, err)
	require.Equal(t, sha256.Sum256(big), sha256.Sum256(got))
}

func TestExt4OfManySizesIsClean(t *testing.T) {
	for _, mib := range []int64{1, 4, 64, 127, 128, 129, 1000, 3 << 10, 20 << 10} {
		name := newTree(t).file("a", bytes.Repeat([]byte("a"), 100000)).image(mib << 20)
		run(t, "e2fsck", "-fn", name)
	}
}

func TestSparseFileWithMoreExtentsThanABlockHolds(t *testing.T) {
	const step, count = 1 << 17, 3000
	tr := newTree(t)
	source := filepath.Join(tr.dir, "sparse")
	f, err := os.Create(source)
	require.NoError(t, err)
	file := disk.File{Path: "sparse", Mode: 0o100600, Size: step*count + 5, Source: source}
	for i := range int64(count) {
		_, err := f.WriteAt([]byte("data"), i*step)
		require.NoError(t, err)
		file.Data = append(file.Data, disk.Extent{Offset: i * step, Length: 4096})
	}
	require.NoError(t, f.Truncate(file.Size))
	require.NoError(t, f.Close())
	name := tr.add(file).image(0)
	run(t, "e2fsck", "-fn", name)
	info, err := os.Stat(name)
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(64<<20), "holes take no room")
	copied := filepath.Join(t.TempDir(), "copy")
	run(t, "debugfs", "-R", "dump sparse "+copied, name)
	run(t, "cmp", source, copied)
}

func TestTooSmallASizeSaysWhatIsNeeded(t *testing.T) {
	tr := newTree(t).file("a", bytes.Repeat([]byte("a"), 10<<20))
	_, err := tr.volume(4 << 20)
	var small *disk.SizeError
	require.ErrorAs(t, err, &small)
	require.Greater(t, small.Needed, int64(10<<20))
	tr.image(small.Needed)
}

func TestSameTreeSameBytes(t *testing.T) {
	tr := newTree(t).file("a", []byte("x")).file("b", bytes.Repeat([]byte("b"), 1<<20))
	run(t, "cmp", tr.image(0), tr.image(0))
}

// Random trees: the checker finds nothing, and every file comes back as it was.
func TestRandomTreesAreCleanAndComeBack(t *testing.T) {
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 7))
			tr := newTree(t)
			folders := []string{""}
			var files []string
			for i := range 300 {
				dir := folders[r.IntN(len(folders))]
				name := dir + fmt.Sprintf("%d-%s", i, strings.Repeat("n", r.IntN(200)))
				switch r.IntN(8) {
				case 0, 1:
					tr.add(disk.File{Path: name, Mode: 0o40755, UID: uint32(r.IntN(1 << 20))})
					folders = append(folders, name+"/")
				case 2:
					tr.add(disk.File{Path: name, Mode: 0o120777, Link: strings.Repeat("l", 1+r.IntN(200))})
				case 3:
					if len(files) > 0 {
						tr.add(disk.File{Path: name, Mode: 0o100644, Same: files[r.IntN(len(files))]})
					}
				default:
					content := make([]byte, r.IntN(1<<uint(r.IntN(20))))
					for j := range content {
						content[j] = byte(r.IntN(256))
					}
					tr.file(name, content)
					if r.IntN(4) == 0 {
						tr.files[len(tr.files)-1].Xattrs = map[string][]byte{"user.a": content[:min(len(content), 500)], "user.bb": []byte("x"),
							"trusted.c": nil}
					}
					files = append(files, name)
				}
			}
			size := int64(0)
			if seed%2 == 1 {
				size = 200 << 20
			}
			name := tr.image(size)
			run(t, "e2fsck", "-fn", name)
			out := t.TempDir()
			run(t, "debugfs", "-R", "rdump / "+out, name)
			for _, f := range tr.files {
				if f.Source != "" {
					run(t, "cmp", f.Source, filepath.Join(out, f.Path))
				}
				if f.Link != "" {
					got, err := os.Readlink(filepath.Join(out, f.Path))
					require.NoError(t, err)
					require.Equal(t, f.Link, got)
				}
			}
		})
	}
}

func TestWhatExt4CannotHoldIsRefused(t *testing.T) {
	for says, f := range map[string]disk.File{
		"is not in a folder":                           {Path: "a/b", Mode: 0o100644},
		"is a second name of nothing, which":           {Path: "b", Mode: 0o100644, Same: "nothing"},
		"more extended attributes than ext4 holds":     {Path: "c", Mode: 0o100644, Xattrs: map[string][]byte{"user.big": make([]byte, 5000)}},
		"/lost+found is no folder in the tree":         {Path: "lost+found", Mode: 0o100644},
		"open /nowhere: no such file or directory":     {Path: "d", Mode: 0o100644, Size: 5, Source: "/nowhere"},
		"e changed while it was read: 1 bytes missing": {Path: "e", Mode: 0o100644, Size: 1, Source: "/dev/null"},
	} {
		v, err := newTree(t).add(f).volume(0)
		if err == nil { // the content is met only when it is written
			err = v.Write(t.Context(), &sparse{})
		}
		require.ErrorContains(t, err, says)
	}
	_, err := disk.Ext4(t.Context(), nil, disk.Options{})
	require.ErrorContains(t, err, "no root")
	_, err = newTree(t).volume(20 << 40)
	require.ErrorContains(t, err, "16 TiB")
}

func TestLimitsOfExt4(t *testing.T) {
	many := newTree(t).file("one", []byte("x"))
	for i := range 64999 {
		many.add(disk.File{Path: fmt.Sprintf("n%d", i), Mode: 0o100644, Same: "one"})
	}
	run(t, "e2fsck", "-fn", many.image(0))
	many.add(disk.File{Path: "z", Mode: 0o100644, Same: "one"})
	_, err := many.volume(0)
	require.ErrorContains(t, err, "one has more than 65000 names")
	for _, folders := range []int{64998, 64999} { // with its own two entries 65,000 and 65,001 links
		tr := newTree(t).add(disk.File{Path: "d", Mode: 0o40755})
		for i := range folders {
			tr.add(disk.File{Path: fmt.Sprintf("d/%d", i), Mode: 0o40755})
		}
		run(t, "e2fsck", "-fn", tr.image(0))
	}
}

func TestTimesOfExt4(t *testing.T) {
	tr := newTree(t)
	times := map[string]int64{"first": -1 << 31, "before": -1<<31 - 1, "old": -5, "last": 15032385535, "after": 15032385536, "y2038": 1 << 31}
	for name, at := range times {
		tr.add(disk.File{Path: name, Mode: 0o40755})
		tr.files[len(tr.files)-1].MTime = at
	}
	name := filepath.Join(t.TempDir(), "disk.raw")
	f, err := os.Create(name)
	require.NoError(t, err)
	defer f.Close()
	var notes []string
	v, err := disk.Ext4(t.Context(), tr.files, disk.Options{Note: func(text string) { notes = append(notes, text) }})
	require.NoError(t, err)
	require.NoError(t, v.Write(t.Context(), &sparse{File: f}))
	require.Equal(t, []string{"ext4 holds times from 1901-12-13 to 2446-05-10; those of 2 files are at the nearest end of it"}, notes)
	run(t, "e2fsck", "-fn", name)
	for name, want := range map[string]string{"first": "80000000:00000000", "before": "80000000:00000000", "old": "fffffffb:00000000",
		"last": "7fffffff:00000003", "after": "7fffffff:00000003", "y2038": "80000000:00000001"} {
		require.Contains(t, run(t, "debugfs", "-R", "stat "+name, f.Name()), "mtime: 0x"+want, name)
	}
}
