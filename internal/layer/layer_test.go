package layer_test

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zygos/internal/layer"
	"zygos/internal/machine"
	"zygos/internal/machine/machinetest"
)

func TestMain(m *testing.M) { machinetest.Main(m) }

func owners() layer.Owners {
	ids, _ := machine.Inside()
	return layer.Owners{First: ids.First, Count: ids.Count}
}

// archive makes a tar stream of headers; a header's Name may be followed by content in bodies.
func archive(t *testing.T, bodies map[string]string, headers ...tar.Header) *bytes.Buffer {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		h.Size = int64(len(bodies[h.Name]))
		if h.Format == 0 {
			h.Format = tar.FormatPAX
		}
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(bodies[h.Name]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return &b
}

func folder(t *testing.T) layer.Folder {
	dir := t.TempDir()
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(dir)) })
	return layer.Folder{Dir: filepath.Join(mkdir(t, dir, "tree")), Owners: owners()}
}

func mkdir(t *testing.T, dir, name string) string {
	full := filepath.Join(dir, name)
	require.NoError(t, os.Mkdir(full, 0o755))
	return full
}

func pack(t *testing.T, f layer.Folder, x layer.Index) *bytes.Buffer {
	var b bytes.Buffer
	w := layer.NewTarWriter(&b)
	for _, n := range layer.Merge(x).Nodes() {
		require.NoError(t, w.Add(t.Context(), n, filepath.Join(f.Dir, n.Path)))
	}
	require.NoError(t, w.Close())
	return &b
}

var moment = time.Unix(1767225600, 0)

// rich is an archive with everything that must survive.
func rich(t *testing.T) *bytes.Buffer {
	long := strings.Repeat("long-directory-name/", 12) + strings.Repeat("n", 250)
	sparse := strings.Repeat("\x00", 1<<20) + "middle" + strings.Repeat("\x00", 3<<20)
	acl := string([]byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 232, 3, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0, 4, 0,
		255, 255, 255, 255, 32, 0, 4, 0, 255, 255, 255, 255})
	capability := string([]byte{1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0})
	return archive(t, map[string]string{"etc/shadow": "root:*\n", "bin/ping": "elf", long: "deep", "sparse": sparse, "odd\xffname": "x",
		"set": "s"},
		tar.Header{Name: ".", Typeflag: tar.TypeDir, Mode: 0o755, ModTime: moment},
		tar.Header{Name: "etc/", Typeflag: tar.TypeDir, Mode: 0o751, ModTime: moment},
		tar.Header{Name: "etc/shadow", Typeflag: tar.TypeReg, Mode: 0o640, Uid: 0, Gid: 42, ModTime: moment},
		tar.Header{Name: "bin/ping", Typeflag: tar.TypeReg, Mode: 0o755, ModTime: moment, PAXRecords: map[string]string{
			"SCHILY.xattr.security.capability": capability, "SCHILY.xattr.user.note": "kept", "SCHILY.xattr.system.posix_acl_access": acl}},
		tar.Header{Name: "bin/ping6", Typeflag: tar.TypeLink, Linkname: "bin/ping", ModTime: moment},
		tar.Header{Name: "bin/sh", Typeflag: tar.TypeSymlink, Linkname: "../usr/bin/sh", ModTime: moment},
		tar.Header{Name: "abs", Typeflag: tar.TypeSymlink, Linkname: "/etc/shadow", ModTime: moment},
		tar.Header{Name: "dev/null", Typeflag: tar.TypeChar, Mode: 0o666, Devmajor: 1, Devminor: 3, ModTime: moment},
		tar.Header{Name: "dev/sda", Typeflag: tar.TypeBlock, Mode: 0o660, Devmajor: 8, Gid: 6, ModTime: moment},
		tar.Header{Name: "pipe", Typeflag: tar.TypeFifo, Mode: 0o600, ModTime: moment},
		tar.Header{Name: "set", Typeflag: tar.TypeReg, Mode: 0o6755, Uid: 1000, Gid: 1000, ModTime: moment},
		tar.Header{Name: "sparse", Typeflag: tar.TypeReg, Mode: 0o600, ModTime: moment},
		tar.Header{Name: "odd\xffname", Typeflag: tar.TypeReg, Mode: 0o600, ModTime: moment, Format: tar.FormatGNU},
		tar.Header{Name: long, Typeflag: tar.TypeReg, Mode: 0o600, ModTime: moment},
		tar.Header{Name: "var/", Typeflag: tar.TypeDir, Mode: 0o1777, Uid: 70000, ModTime: moment})
}

func TestEverythingSurvivesTheRoundTrip(t *testing.T) {
	first := folder(t)
	x, err := layer.Unpack(t.Context(), rich(t), first, layer.DefaultLimits)
	require.NoError(t, err)
	packed := pack(t, first, x)
	second := folder(t)
	y, err := layer.Unpack(t.Context(), bytes.NewReader(packed.Bytes()), second, layer.DefaultLimits)
	require.NoError(t, err)
	require.Equal(t, x, y)
	require.Equal(t, x.Digest(), y.Digest())
	require.Equal(t, packed.Bytes(), pack(t, second, y).Bytes(), "the same tree gives the same archive")

	var b bytes.Buffer
	_, err = x.Encode(&b)
	require.NoError(t, err)
	decoded, err := layer.Decode(b.Bytes())
	require.NoError(t, err)
	require.Equal(t, x, decoded)

	tree := layer.Merge(x)
	ping6 := tree.Lookup("bin/ping6")
	require.Equal(t, "bin/ping", ping6.Same)
	require.Equal(t, []byte("kept"), ping6.Xattrs["user.note"])
	require.Equal(t, uint32(70000), tree.Lookup("var").UID, "an owner that the range cannot hold stands in the index")
	require.Equal(t, []layer.Segment{{Offset: 1 << 20, Length: 4096}}, tree.Lookup("sparse").Data)
	var st unix.Stat_t
	require.NoError(t, unix.Stat(filepath.Join(first.Dir, "sparse"), &st))
	require.Less(t, st.Blocks*512, int64(1<<16), "a sparse file stays sparse")
}

func TestOtherProgramsReadTheArchive(t *testing.T) {
	f := folder(t)
	x, err := layer.Unpack(t.Context(), rich(t), f, layer.DefaultLimits)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "a.tar")
	require.NoError(t, os.WriteFile(file, pack(t, f, x).Bytes(), 0o600))
	out, err := exec.Command("tar", "--list", "--verbose", "--numeric-owner", "--file", file).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "crw-rw-rw- 0/0             1,3")
	require.Contains(t, string(out), "./bin/ping6 link to ./bin/ping")
	require.Contains(t, string(out), "4194310", "the sparse file's real size")
	dir := t.TempDir()
	out, err = exec.Command("tar", "--extract", "--exclude=./dev", "--no-same-owner", "--directory", dir, "--file", file).CombinedOutput()
	require.NoError(t, err, string(out))
	got, err := os.ReadFile(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	require.Equal(t, "middle", string(bytes.Trim(got, "\x00")))
}

func TestHostileArchivesAreRefused(t *testing.T) {
	reg := func(name string) tar.Header { return tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644} }
	link := func(name, to string) tar.Header {
		return tar.Header{Name: name, Typeflag: tar.TypeSymlink, Linkname: to}
	}
	for name, c := range map[string]struct {
		headers []tar.Header
		says    string
	}{
		"absolute":             {[]tar.Header{reg("/etc/passwd")}, "absolute name"},
		"dot-dot":              {[]tar.Header{reg("../x")}, "'..'"},
		"dot-dot inside":       {[]tar.Header{reg("a/../../x")}, "'..'"},
		"link out":             {[]tar.Header{link("a", "../../etc")}, "leaves the root"},
		"through a link":       {[]tar.Header{link("a", "/etc"), reg("a/passwd")}, "passes through"},
		"through a file":       {[]tar.Header{reg("a"), reg("a/b")}, "passes through"},
		"hard link out":        {[]tar.Header{{Name: "a", Typeflag: tar.TypeLink, Linkname: "../../etc/passwd"}}, "leaves the root"},
		"hard link to nothing": {[]tar.Header{{Name: "a", Typeflag: tar.TypeLink, Linkname: "b"}}, "no file before it"},
		"hard link to a folder": {[]tar.Header{{Name: "b/", Typeflag: tar.TypeDir}, {Name: "a", Typeflag: tar.TypeLink, Linkname: "b"}},
			"no file before it"},
		"device of no Linux": {[]tar.Header{{Name: "dev/x", Typeflag: tar.TypeBlock, Devmajor: 4096}}, "Linux has none beyond"},
		"unknown in an ACL": {[]tar.Header{{Name: "a", Typeflag: tar.TypeReg,
			PAXRecords: map[string]string{"SCHILY.acl.access": "user::rw-,user:lisa:r--,group::r--,mask::r--,other::---"}}},
			`names the user "lisa", who is not in`},
		"device":    {[]tar.Header{{Name: "etc/sda", Typeflag: tar.TypeBlock, Devmajor: 8}}, "device outside dev/"},
		"twice":     {[]tar.Header{reg("a"), reg("a")}, "appears twice"},
		"long part": {[]tar.Header{reg(strings.Repeat("x", 256))}, "longer than 255"},
		"empty":     {nil, "empty"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := layer.Unpack(t.Context(), archive(t, nil, c.headers...), folder(t), layer.DefaultLimits)
			require.ErrorContains(t, err, c.says)
		})
	}
}

func TestAbsurdSizesAndCutArchivesAreRefused(t *testing.T) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "huge", Typeflag: tar.TypeReg, Size: 1 << 50}))
	_, err := layer.Unpack(t.Context(), &b, folder(t), layer.DefaultLimits)
	require.ErrorContains(t, err, "the limit for one file is")

	body := map[string]string{"a": strings.Repeat("x", 100000)}
	whole := archive(t, body, tar.Header{Name: "a", Typeflag: tar.TypeReg})
	_, err = layer.Unpack(t.Context(), bytes.NewReader(whole.Bytes()[:50000]), folder(t), layer.DefaultLimits)
	require.ErrorContains(t, err, "unexpected EOF")
	_, err = layer.Unpack(t.Context(), whole, folder(t), layer.Limits{Bytes: 5000, Logical: 1 << 40, Entries: 10})
	require.ErrorContains(t, err, "over the limit of 5000 bytes")
}

func TestUnpackStopsWhenCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := layer.Unpack(ctx, rich(t), folder(t), layer.DefaultLimits)
	require.ErrorIs(t, err, context.Canceled)
}

// entries makes an index of plain entries: "dir/" a folder, "-name" a whiteout, "name=content" a file, "name>first" a hard link.
func entries(names ...string) layer.Index {
	x := layer.Index{}
	for _, n := range names {
		e := layer.Entry{Path: strings.TrimSuffix(n, "/"), Kind: layer.Dir, Mode: 0o755}
		if path, ok := strings.CutPrefix(n, "-"); ok {
			e = layer.Entry{Path: path, Kind: layer.Whiteout}
		} else if path, first, ok := strings.Cut(n, ">"); ok {
			e = layer.Entry{Path: path, Kind: layer.File, Same: first, Digest: "d"}
		} else if path, content, ok := strings.Cut(n, "="); ok {
			e = layer.Entry{Path: path, Kind: layer.File, Digest: content}
		} else if path, ok := strings.CutSuffix(n, "/!"); ok {
			e = layer.Entry{Path: path, Kind: layer.Dir, Opaque: true}
		}
		x = append(x, e)
	}
	x.Sort()
	return x
}

func TestMergeAppliesWhiteoutsOpaqueFoldersAndReplacements(t *testing.T) {
	for name, c := range map[string]struct {
		stack []layer.Index
		want  string
	}{
		"whiteout of a file":      {[]layer.Index{entries("a/", "a/f=1"), entries("a/", "-a/f")}, "a"},
		"whiteout of a folder":    {[]layer.Index{entries("a/", "a/b/", "a/b/f=1"), entries("a/", "-a/b")}, "a"},
		"opaque":                  {[]layer.Index{entries("a/", "a/f=1", "a/g=1"), entries("a/!", "a/h=2")}, "a a/h"},
		"file over folder":        {[]layer.Index{entries("a/", "a/f=1"), entries("a=2")}, "a"},
		"folder over file":        {[]layer.Index{entries("a=1"), entries("a/", "a/f=2")}, "a a/f"},
		"again after whiteout":    {[]layer.Index{entries("a=1"), entries("-a"), entries("a=3")}, "a"},
		"name like a path's head": {[]layer.Index{entries("a/", "a-b=1", "a/f=1"), entries("-a")}, "a-b"},
	} {
		t.Run(name, func(t *testing.T) {
			var got []string
			for _, n := range layer.Merge(c.stack...).Nodes() {
				got = append(got, n.Path)
			}
			require.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

func TestHardLinksStayTogetherWhenTheirFirstNameGoes(t *testing.T) {
	tree := layer.Merge(entries("a=d", "b>a", "c>a"), entries("-a"))
	nodes := tree.Nodes()
	require.Equal(t, "b", nodes[0].Path)
	require.Empty(t, nodes[0].Same)
	require.Equal(t, "b", nodes[1].Same)
	tree = layer.Merge(entries("a=d", "b>a"), entries("a=new"))
	for _, n := range tree.Nodes() {
		require.Empty(t, n.Same, "a replaced name is a file of its own")
	}
}

func TestDamagedOrForeignSnapshotsAreNotUsed(t *testing.T) {
	f := folder(t)
	s := &layer.Store{Dir: t.TempDir(), Owners: owners(), Check: true}
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(s.Dir)) })
	dir, err := s.Begin(t.TempDir())
	require.NoError(t, err)
	f.Dir = filepath.Join(dir, "tree")
	x, err := layer.Unpack(t.Context(), rich(t), f, layer.DefaultLimits)
	require.NoError(t, err)
	digest, err := s.Commit(dir, x)
	require.NoError(t, err)
	require.NoError(t, s.Remember(layer.Snapshot{Key: "k", Layer: digest}))
	require.NotNil(t, s.Find(t.Context(), "k"))
	require.NoError(t, s.Verify(t.Context(), digest))
	require.NoError(t, os.WriteFile(filepath.Join(s.TreeDir(digest), "bin/ping"), []byte("ELF"), 0o755))
	require.ErrorContains(t, s.Verify(t.Context(), digest), "damaged")

	// After a power cut the snapshot's boot is another one: it is checked before it is used.
	name := filepath.Join(s.Dir, "keys", "k.json")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	i := bytes.Index(text, []byte(`"boot": "`)) + len(`"boot": "`)
	text[i] ^= 1
	require.NoError(t, os.WriteFile(name, text, 0o600))
	s.Check = false
	require.NotNil(t, s.Find(t.Context(), "k"), "who cannot read the tree leaves it alone")
	s.Check = true
	require.Nil(t, s.Find(t.Context(), "k"))
	_, err = os.Stat(name)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.False(t, s.Has(digest), "a damaged layer makes room for a sound one")
}

func FuzzUnpack(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	_ = w.WriteHeader(&tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 1})
	_, _ = w.Write([]byte("x"))
	for _, h := range []tar.Header{{Name: "d/", Typeflag: tar.TypeDir, Mode: 0o755},
		{Name: "d/l", Typeflag: tar.TypeSymlink, Linkname: "../a"}, {Name: "h", Typeflag: tar.TypeLink, Linkname: "a"},
		{Name: "dev/null", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3}, {Name: "p", Typeflag: tar.TypeFifo},
		{Name: strings.Repeat("long/", 40) + "x", Typeflag: tar.TypeReg, PAXRecords: map[string]string{"SCHILY.xattr.user.a": "b"}}} {
		_ = w.WriteHeader(&h)
	}
	_ = w.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		inside := mkdir(t, dir, "in")
		_, _ = layer.Unpack(t.Context(), io.LimitReader(bytes.NewReader(data), 1<<20),
			layer.Folder{Dir: inside, Owners: owners()}, layer.Limits{Bytes: 1 << 20, Logical: 1 << 20, Entries: 100})
		list, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Len(t, list, 1, "nothing is written beside the folder")
		require.NoError(t, layer.RemoveAll(inside))
	})
}

func TestEvictTakesTheLeastRecentlyUsedThatNothingNeeds(t *testing.T) {
	s := &layer.Store{Dir: t.TempDir(), Owners: owners(), Check: true}
	t.Cleanup(func() { require.NoError(t, layer.RemoveAll(s.Dir)) })
	old := time.Now().Add(-time.Hour)
	make := func(name string, age time.Duration) string {
		temp := t.TempDir()
		dir, err := s.Begin(temp)
		require.NoError(t, err)
		x := layer.Index{{Path: ".", Kind: layer.Dir, Mode: 0o755}, {Path: name, Kind: layer.File, Mode: 0o644, Size: 5000}}
		f := layer.Folder{Dir: filepath.Join(dir, "tree"), Owners: owners()}
		for i := range x {
			require.NoError(t, f.Put(&x[i], bytes.NewReader(bytes.Repeat([]byte(name), 5000))))
		}
		digest, err := s.Commit(dir, x)
		require.NoError(t, err)
		require.NoError(t, s.Remember(layer.Snapshot{Key: name, Layer: digest}))
		used := old.Add(-age)
		require.NoError(t, os.Chtimes(filepath.Join(s.Dir, "keys", name+".json"), used, used))
		require.NoError(t, os.Chtimes(filepath.Join(s.Dir, digest), used, used))
		return digest
	}
	a, b, c, d := make("a", 4*time.Minute), make("b", 3*time.Minute), make("c", 2*time.Minute), make("d", time.Minute)
	require.Greater(t, s.Usage(), int64(4*8192))
	pinned := func(digest string) bool { return digest == a }
	freed, err := s.Evict(1, old, pinned)
	require.NoError(t, err)
	require.Greater(t, freed, int64(8000))
	require.Equal(t, []bool{true, false, true, true}, []bool{s.Has(a), s.Has(b), s.Has(c), s.Has(d)}, "a is needed, so b goes")
	require.True(t, s.Touch("c"))
	require.False(t, s.Touch("b"), "what is gone cannot be used")
	_, err = s.Evict(1<<30, old, pinned)
	require.NoError(t, err)
	require.Equal(t, []bool{true, true, false}, []bool{s.Has(a), s.Has(c), s.Has(d)}, "c was just used")
	left, err := filepath.Glob(s.Dir + "/*.gone")
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestDiffAndLinksOfTrees(t *testing.T) {
	dir := func(p string) layer.Entry { return layer.Entry{Path: p, Kind: layer.Dir, Mode: 0o755} }
	file := func(p, digest string) layer.Entry {
		return layer.Entry{Path: p, Kind: layer.File, Mode: 0o644, Digest: digest, Size: 10}
	}
	link := func(p, to string) layer.Entry {
		return layer.Entry{Path: p, Kind: layer.Symlink, Mode: 0o777, Link: to}
	}
	was := layer.Merge(layer.Index{dir("."), dir("etc"), file("etc/a", "1"), file("etc/b", "1"), link("l", "etc/a"), file("t", "1")})
	now := layer.Merge(layer.Index{dir("."), dir("etc"), file("etc/a", "2"), link("l", "/etc/b"), link("loop", "loop"), dir("t"),
		link("up", "../../etc"), link("etc/in", "b")},
		layer.Index{dir("."), dir("etc"), {Path: "etc/b", Kind: layer.File, Mode: 0o600, UID: 7, Digest: "1", Size: 10, MTime: 99}})
	var lines []string
	for _, c := range layer.Diff(was, now) {
		lines = append(lines, c.State+" "+c.Path+" "+strings.Join(c.What, ","))
	}
	require.Equal(t, []string{"changed etc/a content", "changed etc/b mode,owner", "added etc/in ", "changed l target", "added loop ",
		"changed t type", "added up "}, lines)
	require.Equal(t, int64(20), now.Size())
	for from, to := range map[string]string{"l": "etc/b", "up/in": "etc/b", "etc/b": "etc/b", "etc": "etc"} {
		require.Equal(t, to, now.Follow(from).Path, from)
	}
	require.Nil(t, now.Follow("loop"))
	require.Nil(t, now.Follow("etc/a/below"))
	require.Nil(t, now.Follow("nowhere"))
}

// ACLs as GNU tar writes them, in words and with names, become what the kernel keeps.
func TestACLsInWords(t *testing.T) {
	passwd := "root:x:0:0::/:/bin/sh\nlisa:x:70123:5::/:/bin/sh\n"
	acl := map[string]string{"SCHILY.acl.access": "user::rw-\nuser:lisa:r--,group::r--\nuser:7:-wx\n" +
		"group:9:rw-\t#effective:r--\nmask::r--\nother::---\n"}
	f := folder(t)
	x, err := layer.Unpack(t.Context(), archive(t, map[string]string{"etc/passwd": passwd, "f": "x"},
		tar.Header{Name: "f", Typeflag: tar.TypeReg, Mode: 0o640, ModTime: moment, PAXRecords: acl},
		tar.Header{Name: "g", Typeflag: tar.TypeLink, Linkname: "f", ModTime: moment},
		tar.Header{Name: "plain", Typeflag: tar.TypeReg, Mode: 0o640, ModTime: moment,
			PAXRecords: map[string]string{"SCHILY.acl.access": "user::rw-,group::r--,other::---"}},
		tar.Header{Name: "etc/passwd", Typeflag: tar.TypeReg, Mode: 0o644, ModTime: moment}), f, layer.DefaultLimits)
	require.NoError(t, err)
	tree := layer.Merge(x)
	want := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 3, 0, 7, 0, 0, 0, 2, 0, 4, 0, 0xeb, 0x11, 1, 0, 4, 0, 4, 0, 255, 255,
		255, 255,
		8, 0, 6, 0, 9, 0, 0, 0, 16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}
	require.Equal(t, want, tree.Lookup("f").Xattrs["system.posix_acl_access"])
	require.Equal(t, want, tree.Lookup("g").Xattrs["system.posix_acl_access"], "its other name has it too")
	require.Empty(t, tree.Lookup("plain").Xattrs, "what the mode says is no ACL")
	second := folder(t)
	y, err := layer.Unpack(t.Context(), pack(t, f, x), second, layer.DefaultLimits)
	require.NoError(t, err)
	require.Equal(t, x.Digest(), y.Digest())
}

// What a folder holds follows it directly, so that programs can close a folder and forget it: an ordinary
// user unpacks a folder without write permission, and folders keep their times.
func TestArchivesHoldFoldersTogether(t *testing.T) {
	f := folder(t)
	x, err := layer.Unpack(t.Context(), archive(t, map[string]string{"a/x": "x", "a-b": "b", "a/.c": "c"},
		tar.Header{Name: "a/", Typeflag: tar.TypeDir, Mode: 0o555, ModTime: moment},
		tar.Header{Name: "a-b", Typeflag: tar.TypeReg, Mode: 0o644, ModTime: moment},
		tar.Header{Name: "a/x", Typeflag: tar.TypeReg, Mode: 0o644, ModTime: moment},
		tar.Header{Name: "a/.c", Typeflag: tar.TypeReg, Mode: 0o644, ModTime: moment}), f, layer.DefaultLimits)
	require.NoError(t, err)
	var names []string
	for _, n := range layer.Merge(x).Nodes() {
		names = append(names, n.Path)
	}
	require.Equal(t, []string{".", "a", "a/.c", "a/x", "a-b"}, names)
	file, out := filepath.Join(t.TempDir(), "a.tar"), t.TempDir()
	require.NoError(t, os.WriteFile(file, pack(t, f, x).Bytes(), 0o644))
	text, err := exec.Command("tar", "--extract", "--no-same-owner", "--directory", out, "--file", file).CombinedOutput()
	require.NoError(t, err, string(text))
	info, err := os.Stat(filepath.Join(out, "a"))
	require.NoError(t, err)
	require.Equal(t, moment.Unix(), info.ModTime().Unix())
}

func TestUnescape(t *testing.T) {
	for field, want := range map[string]string{`/my\040data`: "/my data", `a\\b`: `a\\b`, `\134`: `\`, `x\04`: `x\04`, `\999`: `\999`,
		"": "", `\777`: `\777`} {
		require.Equal(t, want, layer.Unescape(field), field)
	}
}
