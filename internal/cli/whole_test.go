package cli_test

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
	"zygos/internal/wholetest"
)

// workProgram is the name under which the program of the tests does the work of a stage.
const workProgram = "/do-the-work"

func workMain() {
	if len(os.Args) > 2 { // it has nothing to do
		os.Exit(0)
	}
	if err := wholetest.Change("/"); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	os.Exit(0)
}

// What comes out of a stage is what the same work gives on a plain disk, in every artifact, as other
// programs and the kernel read it.
func TestArtifactsAreWhatAPlainDiskWouldBe(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	if os.Getuid() != 0 {
		needtest.Skip(t, "only root can make files of all owners by hand")
	}
	p := me(t)
	p.starter()
	shell := func(script string) {
		t.Helper()
		cmd := exec.Command("sh", "-euc", script)
		cmd.Dir = p.dir
		require.NoError(t, errorsOf(cmd))
	}
	plain := tempDir(t)
	require.NoError(t, wholetest.Base(plain))
	shell("tar --create --xattrs --xattrs-include='*' --acls --sparse --numeric-owner --directory " + plain + " --file bases/whole.tar .")
	content, err := os.ReadFile(filepath.Join(p.dir, "bases/whole.tar"))
	require.NoError(t, err)
	sum := sha256.Sum256(content)
	p.write("zygos.toml", p.read("zygos.toml")+"\n[base.whole]\nrelease = \"1\"\nfrom = [\"bases/whole.tar\"]\nsha256 = "+
		"\""+hex.EncodeToString(sum[:])+"\"\n")
	self, err := os.Executable()
	require.NoError(t, err)
	shell("mkdir -p files && cp " + self + " files/work")
	p.write("images/first.toml", `series = "0.1"
base = "whole"
[[stage]]
name = "work"
files = [{ from = "files/work", to = "`+workProgram+`", mode = "0755" }]
inline = "#!`+workProgram+`"
[[stage]]
name = "idle"
inline = "#!`+workProgram+` nothing"
[seal]
keep = ["identity", "ssh-host-keys", "logs", "history", "package-caches", "temporary", "random-seed", "leases"]
[[artifact]]
format = "tar"
[[artifact]]
format = "raw"
[publish]
regions = ["here"]
`)
	p.ok("build", "first")
	p.ok("publish", "first")
	q := someone(t)
	q.starter()
	shell("cp -r bases files images zygos.toml " + q.dir + "/ && chown -R " + ordinary + " " + q.dir)
	q.ok("build", "first")
	require.Equal(t, p.versions()[0].Artifacts, q.versions()[0].Artifacts, "whoever builds, the bits are the same")
	require.NoError(t, wholetest.Change(plain))
	want, err := wholetest.List(plain)
	require.NoError(t, err)
	require.Greater(t, len(want), 400)

	unpacked := map[string]string{"GNU tar": tempDir(t), "bsdtar": tempDir(t), "Python": tempDir(t), "the kernel": tempDir(t)}
	archive := p.glob("regions/here/first/*/*.tar.zst")[0]
	shell("zstd -qdc " + archive + " | tar --extract --xattrs --xattrs-include='*' --acls --numeric-owner --preserve-permissions " +
		"--directory " + unpacked["GNU tar"])
	shell("zstd -qdc " + archive + " | LC_ALL=C.UTF-8 bsdtar -x -p --numeric-owner --xattrs --acls -C " + unpacked["bsdtar"])
	shell("zstd -qdc " + archive + " | PYTHONUTF8=1 python3 -c 'import sys, tarfile; tarfile.open(fileobj=sys.stdin.buffer, " +
		"mode=\"r|\").extractall(sys.argv[1], numeric_owner=True, filter=\"fully_trusted\")' " + unpacked["Python"])
	disk := unpacked["the kernel"]
	shell("mount -o loop,ro,noload " + p.glob("regions/here/first/*/*.raw")[0] + " " + disk)
	defer shell("umount " + disk)
	shell("e2fsck -fn " + p.glob("regions/here/first/*/*.raw")[0])
	for reader, dir := range unpacked {
		got, err := wholetest.List(dir)
		require.NoError(t, err)
		var differ []string
		for path := range want {
			if w, g := comparable(want[path], reader), comparable(got[path], reader); w != g && !isFolderOfTheBase(want[path], got[path]) {
				differ = append(differ, fmt.Sprintf("%q\n  should be %s\n  is        %s", path, w, g))
			}
		}
		for path := range got {
			if _, ok := want[path]; !ok {
				differ = append(differ, fmt.Sprintf("%q should not be there: %s", path, got[path]))
			}
		}
		assert.Zero(t, len(differ), "%s\n%s", reader, strings.Join(differ, "\n"))
	}
}

// comparable leaves out what a reader does not bring back, whatever it is given.
func comparable(text, reader string) string {
	if reader == "bsdtar" || reader == "Python" {
		words := strings.Fields(text)
		if reader == "Python" && strings.HasPrefix(text, "12") { // it leaves links their own time
			words[2] = "some time"
		}
		for i := len(words) - 1; i >= 0; i-- {
			if strings.HasPrefix(words[i], "user.") || strings.HasPrefix(words[i], "trusted.") || strings.HasPrefix(words[i], "security.") ||
				(reader == "Python" && strings.HasPrefix(words[i], "system.")) {
				words = append(words[:i], words[i+1:]...)
			}
		}
		return strings.Join(words, " ")
	}
	return text
}

// isFolderOfTheBase says whether two lines differ only in the time of a folder that a stage changed
// something in: such a folder keeps its time.
func isFolderOfTheBase(plain, got string) bool {
	a, b := strings.Fields(plain), strings.Fields(got)
	if len(a) != len(b) || len(a) < 3 || !strings.HasPrefix(a[0], "04") || a[2] != "clock" {
		return false
	}
	a[2] = b[2]
	return strings.Join(a, " ") == strings.Join(b, " ")
}
