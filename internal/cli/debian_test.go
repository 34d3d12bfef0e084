package cli_test

import (
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
)

// debian gives a person the Debian example: 'make test' makes its base with debootstrap.
func debian(t *testing.T, p *person) {
	source, err := filepath.Abs("../../.cache/debian")
	require.NoError(t, err)
	if bases, _ := filepath.Glob(filepath.Join(source, "bases", "*")); len(bases) == 0 {
		needtest.Skip(t, "the Debian base is missing; 'make test' makes it, as root")
	}
	require.NoError(t, errorsOf(exec.Command("sh", "-euc",
		`cp -r ../../examples/debian "$0/debian"; cp -r "$1/bases" "$1/zygos.toml" "$0/debian"`, p.dir, source)))
	if p.cred != nil {
		require.NoError(t, errorsOf(exec.Command("chown", "-R", ordinary+":", p.dir)))
	}
	p.dir = filepath.Join(p.dir, "debian")
}

func TestDebianExample(t *testing.T) {
	t.Parallel()
	everyone(t, func(t *testing.T, p *person) {
		debian(t, p)
		r := p.run("build", "field-gateway")
		require.Zero(t, r.code, r.err)
		require.Contains(t, r.err, "sshd | permitrootlogin no")
		require.Contains(t, r.err, "home | keeper")
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

// With packages from an archive that does not move, the Debian example comes out the same, bit for bit; when the archive moves, the
// package that did is named.
func TestDebianRepeats(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	p := me(t)
	debian(t, p)
	definition := p.read("images/field-gateway.toml")
	packages := regexp.MustCompile(`PACKAGES = "(.*)"`).FindStringSubmatch(definition)[1]
	p.write("images/packages.toml", "series = \"1.0\"\nbase = \"debian\"\n[[stage]]\nname = \"fetch\"\n"+
		"bring = [\"/srv/archive\"]\ninline = \"\"\"\n"+
		"set -e\napt-get update\napt-get install -y --download-only --no-install-recommends "+packages+"\n"+
		"mkdir /srv/archive\ncp /var/cache/apt/archives/*.deb /srv/archive\n\"\"\"\n[[artifact]]\nformat = \"tar\"\n")
	p.ok("build", "packages")
	archive := p.glob(".zygos/builds/*/files/fetch/srv/archive")[0]
	index := func() {
		p.sh(`cd ` + archive + ` && for f in *.deb; do dpkg-deb -f $f; echo "Filename: ./$f"; echo "Size: $(stat -c %s $f)"; ` +
			`echo "SHA256: $(sha256sum < $f | cut -d' ' -f1)"; echo; done > Packages; touch -d 2026-01-01 Packages *.deb`)
	}
	index()
	server := httptest.NewServer(http.FileServer(http.Dir(archive)))
	defer server.Close()
	first := "[[stage]]\nname = \"archive\"\ninline = \"rm -f /etc/apt/sources.list.d/*; echo 'deb [trusted=yes] " + server.URL +
		" ./' > /etc/apt/sources.list\"\n\n[[stage]]\n"
	p.write("images/field-gateway.toml", strings.Replace(definition, "[[stage]]\n", first, 1))
	p.ok("build", "field-gateway")
	require.Contains(t, p.ok("repeat", "field-gateway"), "comes out the same, bit for bit: 2 artifacts")

	p.sh(`mkdir moved && cd moved && dpkg-deb -R ` + archive + `/ca-certificates_*.deb new &&
sed -i 's/^Version: .*/Version: 99999999/' new/DEBIAN/control && rm ` + archive +
		`/ca-certificates_*.deb && dpkg-deb --root-owner-group -b new ` + archive + `/ca-certificates_99999999_all.deb`)
	index()
	r := p.fails(4, "", "repeat", "field-gateway")
	require.Contains(t, r.out, "comes out different, first in stage packages")
	require.Regexp(t, `changed +/var/lib/dpkg/status .*\n +another version of a package was installed`, r.out)
}
