package workspace_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/app"
	"zygos/internal/definition"
	"zygos/internal/workspace"
)

const org = "[workspace]\nname = \"x\"\n[base.b]\nrelease = \"1\"\nfrom = [\"a\"]\nsha256 = " +
	"\"0000000000000000000000000000000000000000000000000000000000000000\"\n"

func folder(t *testing.T, files map[string]string) string {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	return dir
}

func TestFoundFromAnyFolderInside(t *testing.T) {
	dir := folder(t, map[string]string{"zygos.toml": org, "images/deep/x": ""})
	t.Chdir(filepath.Join(dir, "images/deep"))
	w, err := app.Find(app.Where{})
	require.NoError(t, err)
	require.Equal(t, dir, w.Root)
	require.Equal(t, filepath.Join(dir, ".zygos"), w.State)
	w, err = app.Find(app.Where{State: "elsewhere"})
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "images/deep/elsewhere"), w.State, "a relative state starts at the current folder")
	_, err = app.Find(app.Where{Workspace: "."})
	require.ErrorAs(t, err, new(*workspace.NotFoundError), "a folder that was named is not left")
	t.Chdir("/")
	_, err = app.Find(app.Where{})
	require.ErrorContains(t, err, "zygos new DIR")
}

func TestPathsWithOddCharacters(t *testing.T) {
	dir := folder(t, map[string]string{"a [b] *c:,d/zygos.toml": org,
		"a [b] *c:,d/images/first.toml": "series = \"1.0\"\nbase = \"b\"\n[[artifact]]\nformat = \"tar\"\n"})
	w, err := app.Find(app.Where{Workspace: filepath.Join(dir, "a [b] *c:,d")})
	require.NoError(t, err)
	require.NoError(t, w.Load())
	require.Len(t, w.Images, 1)
}

func TestSharedStageWithAMistakeIsReportedOnce(t *testing.T) {
	image := "series = \"1.0\"\nbase = \"b\"\n[[stage]]\nuse = \"stages/s.toml\"\n[[artifact]]\nformat = \"tar\"\n"
	dir := folder(t, map[string]string{"zygos.toml": org, "images/a.toml": image, "images/c.toml": image,
		"stages/s.toml": "name = \"s\"\ninlin = \"x\"\n"})
	w, err := app.Find(app.Where{Workspace: dir})
	require.NoError(t, err)
	var problems definition.Problems
	require.ErrorAs(t, w.Load(), &problems)
	require.Len(t, problems, 2, problems.Error()) // the key, and that the stage does nothing
}

func TestImagesByName(t *testing.T) {
	image := "series = \"1.0\"\nbase = \"b\"\n[[artifact]]\nformat = \"tar\"\n"
	dir := folder(t, map[string]string{"zygos.toml": org, "images/tide-desk.toml": image})
	w, err := app.Find(app.Where{Workspace: dir})
	require.NoError(t, err)
	require.NoError(t, w.Load())
	img, err := w.Image("tide-desk")
	require.NoError(t, err)
	require.Equal(t, "images/tide-desk.toml", img.File)
	_, err = w.Image("tide-dsek")
	require.ErrorContains(t, err, `did you mean "tide-desk"?`)
	_, err = w.Image("buoy")
	require.ErrorContains(t, err, "images are tide-desk")
}

// Who only looks reads zygos.toml, and an image when it is asked for.
func TestImagesAreReadWhenAskedFor(t *testing.T) {
	good := "series = \"1.0\"\nbase = \"b\"\n[[stage]]\nname = \"s\"\ninline = \"true\"\n[[artifact]]\nformat = \"tar\"\n"
	dir := folder(t, map[string]string{"zygos.toml": org, "images/a.toml": good, "images/b2.toml": good + "oops = 1\n",
		"images/c.toml": "not toml at all"})
	w, err := app.Find(app.Where{Workspace: dir})
	require.NoError(t, err)
	require.NoError(t, w.LoadOrganisation(), "mistakes in images are not met")
	require.Empty(t, w.Images)
	img, err := w.Image("a")
	require.NoError(t, err)
	require.Equal(t, "1.0", img.Series)
	again, err := w.Image("a")
	require.NoError(t, err)
	require.Equal(t, img, again)
	require.Empty(t, w.Images, "looking changes nothing")
	require.True(t, w.Sound("a"))
	require.False(t, w.Sound("b2"))
	require.False(t, w.Sound("c"))
	require.False(t, w.Sound("none"))
	_, err = w.Image("b1")
	require.ErrorContains(t, err, `did you mean "b2"?`)
	require.Error(t, w.Load())
}

func TestStateKeepsItselfOutOfTheRepository(t *testing.T) {
	dir := folder(t, map[string]string{"zygos.toml": org})
	w, err := app.Find(app.Where{Workspace: dir})
	require.NoError(t, err)
	require.NoError(t, w.MakeState())
	text, err := os.ReadFile(filepath.Join(dir, ".zygos/.gitignore"))
	require.NoError(t, err)
	require.Equal(t, "*\n", string(text))
	require.Equal(t, filepath.Join(dir, "a/b"), w.Path("a/b"))
	require.Equal(t, "/a/b", w.Path("/a/b"))
}

func TestCommitOfTheRepositoryAround(t *testing.T) {
	dir := t.TempDir()
	w := &workspace.Workspace{Root: filepath.Join(dir, "images", "ebb")}
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	require.NoError(t, os.MkdirAll(w.Root, 0o755))
	write(".git/HEAD", "ref: refs/heads/main\n")
	require.Empty(t, w.Commit(), "a branch without a commit")
	write(".git/packed-refs", "# pack-refs\n1111 refs/heads/main\n")
	require.Equal(t, "1111", w.Commit())
	write(".git/refs/heads/main", "2222\n")
	require.Equal(t, "2222", w.Commit())
	write(".git/HEAD", "3333\n")
	require.Equal(t, "3333", w.Commit())
	write("images/.git", "gitdir: ../work\n")
	write("work/HEAD", "ref: refs/heads/side\n")
	write("work/commondir", "../.git\n")
	write(".git/refs/heads/side", "4444\n")
	require.Equal(t, "4444", w.Commit(), "a second work tree")
}

func TestStagesThatCannotBeStackedAreNamed(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "images"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zygos.toml"),
		[]byte("[workspace]\nname = \"x\"\n[base.b]\nrelease = \"1\"\nfrom = [\"b.tar\"]\nsha256 = \""+strings.Repeat("0", 64)+"\"\n"), 0o600))
	for name, base := range map[string]string{"parent": "b", "child": "parent"} {
		text := "series = \"0.1\"\nbase = \"" + base + "\"\n[[artifact]]\nformat = \"tar\"\n"
		for i := range 500 {
			text += fmt.Sprintf("[[stage]]\nname = \"s%d\"\ninline = \"true\"\n", i)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "images", name+".toml"), []byte(text), 0o600))
	}
	w, err := app.Find(app.Where{Workspace: dir})
	require.NoError(t, err)
	require.EqualError(t, w.Load(), "images/child.toml:2:8: with the images that it is built on, child has 1000 stages, and a tree is "+
		"stacked from 996 at most; merge stages")
	require.NoError(t, w.LoadEach(), "of others nothing is said")
	require.Nil(t, w.Wrong("parent"))
	require.Len(t, w.Wrong("child"), 1)
}
