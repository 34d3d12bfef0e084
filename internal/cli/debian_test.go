package cli_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"zygos/internal/needtest"

	"github.com/stretchr/testify/require"
)

// The Debian example: 'make test' makes its base with debootstrap.
func TestDebianExample(t *testing.T) {
	t.Parallel()
	source, err := filepath.Abs("../../.cache/debian")
	require.NoError(t, err)
	if bases, _ := filepath.Glob(filepath.Join(source, "bases", "*")); len(bases) == 0 {
		needtest.Skip(t, "the Debian base is missing; 'make test' makes it, as root")
	}
	everyone(t, func(t *testing.T, p *person) {
		require.NoError(t, errorsOf(exec.Command("sh", "-euc",
			`cp -r ../../examples/debian "$0/debian"; cp -r "$1/bases" "$1/zygos.toml" "$0/debian"`, p.dir, source)))
		if p.cred != nil {
			require.NoError(t, errorsOf(exec.Command("chown", "-R", ordinary+":", p.dir)))
		}
		p.dir = filepath.Join(p.dir, "debian")
		r := p.run("build", "field-gateway")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.err, "sshd | permitrootlogin no")
		require.Contains(t, r.err, "home | keeper")
		require.Regexp(t, `seal +ssh-host-keys +6 paths`, r.err)
		require.Contains(t, p.ok("show", "field-gateway"), "2 passed (build by")
		p.ok("publish", "field-gateway")
		raw := p.glob("regions/shelf/field-gateway/*/*.raw")[0]
		require.NoError(t, errorsOf(exec.Command("e2fsck", "-fn", raw)))
		inside := func(command string) string {
			out, err := exec.Command("debugfs", "-R", command, raw).Output()
			require.NoError(t, err)
			return string(out)
		}
		require.Contains(t, inside("cat /etc/passwd"), "keeper:x:1000:1000::/home/keeper:/bin/bash")
		require.Contains(t, inside("stat /home/keeper"), "User:  1000")
		require.Contains(t, inside("cat /etc/timezone"), "Etc/UTC")
		require.Contains(t, inside("cat /etc/default/locale"), "LANG=en_GB.UTF-8")
		require.Contains(t, inside("cat /etc/ssh/sshd_config.d/10-hardening.conf"), "PermitRootLogin no")
		require.Contains(t, inside("stat /usr/bin/sudo"), "Mode:  04755")
		require.Contains(t, inside("stat /dev/null"), "Type: character special")
		require.NotContains(t, inside("ls /etc/ssh"), "ssh_host_")
		archive := p.glob("regions/shelf/field-gateway/*/*.tar.zst")[0]
		out, err := exec.Command("sh", "-c", "zstd -dc "+archive+" | tar --list --verbose --numeric-owner ./usr/bin/passwd "+
			"./var/mail").CombinedOutput()
		require.NoError(t, err, string(out))
		require.Contains(t, string(out), "-rwsr-xr-x 0/0")
		require.Contains(t, string(out), "drwxrwsr-x 0/8")
	})
}
