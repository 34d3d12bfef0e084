package judge

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/layer"
	"zygos/internal/needtest"
)

// world is a Debian in a folder, in which the programs run whose judgement is ours too.
type world struct {
	*testing.T
	root string
}

func newWorld(t *testing.T) *world {
	from, err := filepath.Abs("../../.cache/judges")
	require.NoError(t, err)
	if _, err := os.Stat(from); err != nil || os.Getuid() != 0 {
		needtest.Skip(t, "needs root and the tree of sudo, sshd and systemctl, which make test makes")
	}
	w := &world{t, filepath.Join(t.TempDir(), "root")}
	out, err := exec.CommandContext(t.Context(), "cp", "-al", from, w.root).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return w
}

// write replaces a file; text that begins with -> is a link.
func (w *world) write(name, text string) {
	name = filepath.Join(w.root, name)
	require.NoError(w, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(w, os.RemoveAll(name))
	if to, ok := strings.CutPrefix(text, "->"); ok {
		require.NoError(w, os.Symlink(to, name))
		return
	}
	require.NoError(w, os.WriteFile(name, []byte(text), 0o440))
}

func (w *world) read(name string) string {
	text, err := os.ReadFile(filepath.Join(w.root, name))
	require.NoError(w, err)
	return string(text)
}

// run runs a program there, and says whether it was content.
func (w *world) run(words ...string) (out string, ok bool) {
	text, err := exec.CommandContext(w.Context(), "chroot", append([]string{w.root}, words...)...).CombinedOutput()
	return string(text), err == nil
}

// tree is what judges look at.
func (w *world) tree(of ...string) *Tree {
	text, err := exec.CommandContext(w.Context(), "tar", append([]string{"-c", "-C", w.root}, of...)...).Output()
	require.NoError(w, err)
	s := &layer.Store{Dir: w.TempDir()}
	dir, err := s.Begin(w.TempDir())
	require.NoError(w, err)
	x, err := layer.Unpack(w.Context(), bytes.NewReader(text), layer.Folder{Dir: filepath.Join(dir, "tree")}, layer.DefaultLimits)
	require.NoError(w, err)
	digest, err := s.Commit(dir, x)
	require.NoError(w, err)
	merged, err := s.Stack([]string{digest})
	require.NoError(w, err)
	return &Tree{Files: layer.Files{Store: s, Layers: []string{digest}, Tree: merged}}
}

// Expectations judge as the programs do that they speak of: each in one tree, which they and we look at.
func TestExpectationsJudgeAsTheProgramsDo(t *testing.T) {
	w := newWorld(t)
	for name, test := range map[string]func(*testing.T, *world){
		"AccountsAreThoseOfTheLibrary": accountsAreThoseOfTheLibrary,
		"SudoIsThatOfSudo":             sudoIsThatOfSudo, "StartsIsThatOfSystemd": startsIsThatOfSystemd,
		"ListensIsThatOfSshd": listensIsThatOfSshd, "WritableByAll": writableByAll,
	} {
		t.Run(name, func(t *testing.T) { test(t, w) })
	}
}

// Accounts are those of getpwnam(3), with the shell that it gives.
func accountsAreThoseOfTheLibrary(t *testing.T, w *world) {
	before := w.read("etc/passwd")
	for _, line := range []string{"evil:x:0:0::/root:/bin/sh:more", "evil:x:0:0", "evil:x:0", "evil:x:zero:0::/:/bin/sh", "evil",
		"evil:x:7:7::/:/bin/sh\nevil:x:8:8::/:/bin/false", " evil:x:7:7::/:/bin/sh", "#evil:x:7:7::/:/bin/sh", "evil:x:7:7:::",
		"evil:x:-1:7::/:/bin/sh", "evil:x:4294967296:7::/:/bin/sh", "evil:x:7:7::/:/bin/sh  "} {
		w.write("etc/passwd", before+line+"\n")
		said, there := w.run("getent", "passwd", "evil")
		tree := w.tree("etc/passwd")
		require.Equal(t, !there, accountKind.Holds(tree, accountSettings{name: "evil", absent: true}) == "", "%q: %s", line, said)
		if there {
			fields := strings.SplitN(strings.TrimSuffix(said, "\n"), ":", 7)
			if len(fields) < 7 { // it is there, and its shell cannot be written as a line
				fields = []string{6: "/bin/sh:more"}
			}
			require.Empty(t, accountKind.Holds(tree, accountSettings{name: "evil", shell: fields[6]}), line)
		}
	}
}

// What an account may do is what sudo says that it may.
func sudoIsThatOfSudo(t *testing.T, w *world) {
	w.write("etc/passwd", w.read("etc/passwd")+"keeper:x:900:900::/:/bin/sh\n")
	may, mayNot := true, false
	yes, no := accountSettings{name: "keeper", maySudo: &may}, accountSettings{name: "keeper", maySudo: &mayNot}
	files := []string{"etc/passwd", "etc/group", "etc/sudoers", "etc/sudoers.d"}
	w.write("etc/group", w.read("etc/group")+"keeper:x:900:\nwheel:x:901:keeper\n")
	for _, rules := range []string{"keeper ALL=(ALL) ALL", "keeper ALL=(ALL) !ALL", "keeper ALL=(ALL) ALL\nkeeper ALL=(ALL) !ALL",
		"%wheel ALL=(ALL:ALL) ALL",
		"%other ALL=(ALL) ALL", "keeper\tALL=(ALL)\tNOPASSWD: ALL", "ALL, !keeper ALL=ALL", "User_Alias OPS = keeper, root\nOPS ALL=ALL",
		"User_Alias OPS = root\nOPS ALL=ALL", "#900 ALL=ALL", "# keeper ALL=ALL", "keeper ALL=ALL # all", "keeper \\\n ALL=ALL",
		"Cmnd_Alias EVERY = ALL\nkeeper ALL=EVERY", "Cmnd_Alias EVERY = ALL\nkeeper ALL=!EVERY", "Defaults:keeper !lecture",
		"@includedir /etc/sudoers.d", "#includedir /etc/sudoers.d", "nobody ALL=ALL", "keeper,nobody ALL=ALL", "%#900 ALL=ALL"} {
		w.write("etc/sudoers", "Defaults !fqdn\nroot ALL=(ALL:ALL) ALL\n"+rules+"\n")
		w.write("etc/sudoers.d/keeper", "keeper ALL=ALL\n")
		w.write("etc/sudoers.d/not.read", "keeper ALL=!ALL\n")
		said, may := w.run("sudo", "-l", "-U", "keeper", "/bin/true")
		may = may && strings.Contains(said, "/bin/true")
		tree := w.tree(files...)
		require.Equal(t, may, accountKind.Holds(tree, yes) == "", "%s: %s", rules, said)
		require.Equal(t, !may, accountKind.Holds(tree, no) == "", "%s: %s", rules, said)
	}
	require.NoError(t, os.Chmod(filepath.Join(w.root, "etc/sudoers"), 0o666))
	require.NotEmpty(t, accountKind.Holds(w.tree(files...), yes), "sudo reads no such file")
}

// What starts is what systemd has enabled.
func startsIsThatOfSystemd(t *testing.T, w *world) {
	units := []string{"etc/systemd/system", "usr/lib/systemd/system", "lib"}
	const wants = "etc/systemd/system/multi-user.target.wants/x.service"
	const unit = "[Service]\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n"
	for name, files := range map[string]map[string]string{
		"wanted": {"etc/systemd/system/x.service": unit, wants: "->/etc/systemd/system/x.service"},
		"not":    {"etc/systemd/system/x.service": unit},
		"masked": {"etc/systemd/system/x.service": "->/dev/null", "lib/systemd/system/x.service": unit,
			wants: "->/lib/systemd/system/x.service"},
		"dangling":  {wants: "->/lib/systemd/system/x.service"},
		"by itself": {"lib/systemd/system/x.service": unit, wants: "->/lib/systemd/system/x.service"},
	} {
		for _, old := range []string{"etc/systemd/system/x.service", "lib/systemd/system/x.service", wants} {
			_ = os.Remove(filepath.Join(w.root, old))
		}
		for file, text := range files {
			w.write(file, text)
		}
		said, enabled := w.run("systemctl", "is-enabled", "x.service")
		if name == "dangling" { // is-enabled goes by links alone; there is nothing to start
			enabled = false
		}
		require.Equal(t, enabled, startsKind.Holds(w.tree(units...), "x") == "", "%s: %s", name, said)
	}
	require.Empty(t, startsKind.Holds(w.tree(units...), "sshd"), "by its alias")
}

// Where sshd listens is where it says that it does.
func listensIsThatOfSshd(t *testing.T, w *world) {
	require.NoError(t, os.MkdirAll(filepath.Join(w.root, "run/sshd"), 0o755))
	all := []string{"etc/ssh", "etc/systemd/system", "usr/lib/systemd/system", "lib"}
	ports := regexp.MustCompile(`(?m)^listenaddress .*:(\d+)$`)
	for _, config := range []string{"", "Port 2222", "Port 2222\nPort 22", "Port 2222\nListenAddress 2001:db8::22",
		"ListenAddress 10.0.0.1:22\nPort 2222",
		"Port 2222\nListenAddress [2001:db8::1]:22", "Include /etc/ssh/sshd_config.d/*.conf", "#Port 2222", "port=2222", "Port 2222 # for us",
		"Match User x\n X11Forwarding no", "Port 2222"} {
		w.write("etc/ssh/sshd_config", config+"\n")
		w.write("etc/ssh/sshd_config.d/a.conf", "Port 2222\n")
		said, ok := w.run("/usr/sbin/sshd", "-T")
		require.True(t, ok, "%s: %s", config, said)
		tree := w.tree("etc/ssh")
		for _, port := range []string{"22", "2222"} {
			real := false
			for _, m := range ports.FindAllStringSubmatch(said, -1) {
				real = real || m[1] == port
			}
			require.Equal(t, real, listensKind.Holds(tree, listensSettings{"tcp", port}) == "", "%s: %s: %s", config, port, said)
		}
	}
	require.Empty(t, listensKind.Holds(w.tree(all...), listensSettings{"tcp", "2222"}))
	w.write("etc/systemd/system/ssh.service", "->/dev/null")
	require.NotEmpty(t, listensKind.Holds(w.tree(all...), listensSettings{"tcp", "22"}), "nothing starts it")
}

// The sticky bit excuses folders alone.
func writableByAll(t *testing.T, w *world) {
	w.write("etc/world", "x")
	require.NoError(t, os.Chmod(filepath.Join(w.root, "etc/world"), 0o666|os.ModeSticky))
	require.Contains(t, writableKind.Holds(w.tree("etc/world"), []string{}), "/etc/world")
}
