package cli_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
)

// clone is a virtual machine on an overlay of a disk, reached over SSH.
type clone struct {
	t    *testing.T
	disk string
	port int
	key  string
	cmd  *exec.Cmd
	log  *os.File
}

// newClone starts a disk that is larger than what it holds, with a volume that brings the keeper's key.
func newClone(t *testing.T, dir, disk, name string) *clone {
	c := &clone{t: t, disk: filepath.Join(dir, name+".qcow2"), key: filepath.Join(dir, name)}
	run := func(args ...string) { require.NoError(t, errorsOf(exec.Command(args[0], args[1:]...))) }
	run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", c.key)
	key, err := os.ReadFile(c.key + ".pub")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(c.key+".env", []byte("KEEPER_KEY="+string(key)), 0o600))
	run("sh", "-euc", `truncate -s 40M $0.vol; mkfs.vfat -n ZYGOS $0.vol >/dev/null; mcopy -i $0.vol $0.env ::first-boot.env`, c.key)
	run("qemu-img", "create", "-q", "-f", "qcow2", "-b", disk, "-F", "qcow2", c.disk, "20G")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c.port = l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	c.log, err = os.Create(c.key + ".log")
	require.NoError(t, err)
	c.on()
	t.Cleanup(func() {
		c.off()
		c.log.Close()
	})
	return c
}

func (c *clone) on() {
	c.cmd = exec.Command("qemu-system-x86_64", "-machine", "q35", "-accel", "tcg,thread=multi", "-cpu", "max", "-smp", "2", "-m", "1024",
		"-nographic", "-drive", "if=pflash,format=raw,unit=0,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd",
		"-drive", "if=pflash,format=raw,unit=1,snapshot=on,file=/usr/share/OVMF/OVMF_VARS_4M.fd",
		"-drive", "file="+c.disk+",format=qcow2,if=virtio", "-drive", "file="+c.key+".vol,format=raw,if=virtio,readonly=on",
		"-netdev", fmt.Sprintf("user,id=n,hostfwd=tcp:127.0.0.1:%d-:22", c.port), "-device",
		"virtio-net-pci,netdev=n", "-device", "virtio-rng-pci")
	c.cmd.Stdout, c.cmd.Stderr = c.log, c.log
	require.NoError(c.t, c.cmd.Start())
}

func (c *clone) off() {
	_ = c.cmd.Process.Kill()
	_ = c.cmd.Wait()
}

// restart has the guest go down and turns it off and on once nothing runs in it any more: a processor in software now and then hangs
// where it resets itself.
func (c *clone) restart() {
	c.do("sudo systemd-run --on-active=1 systemctl reboot")
	require.Eventually(c.t, func() bool {
		console, _ := os.ReadFile(c.key + ".log")
		return bytes.Contains(console, []byte("reboot: Restarting system"))
	}, 10*time.Minute, time.Second)
	c.off()
	c.on()
}

// do runs a command in the guest once it can be reached.
func (c *clone) do(command string) string {
	until := time.Now().Add(15 * time.Minute)
	for {
		ctx, cancel := context.WithTimeout(c.t.Context(), 3*time.Minute)
		out, err := exec.CommandContext(ctx, "ssh", "-p", fmt.Sprint(c.port), "-i", c.key, "-o", "StrictHostKeyChecking=no", "-o",
			"UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-o", "ConnectTimeout=10", "-o",
			"ServerAliveInterval=5", "-o", "ServerAliveCountMax=6", "keeper@127.0.0.1", command).CombinedOutput()
		stuck := ctx.Err() != nil // in a guest that was turned off
		cancel()
		if err == nil {
			return strings.TrimSpace(string(out))
		}
		var exit *exec.ExitError
		if unreached := stuck || errors.As(err, &exit) && exit.ExitCode() == 255; time.Now().After(until) || !unreached {
			console, _ := os.ReadFile(c.key + ".log") // for the message
			require.NoError(c.t, err, "%s: %s\n%s", command, out, console[max(0, len(console)-300):])
		}
		time.Sleep(time.Second) // until it answers
	}
}

// up waits until the guest has started.
func (c *clone) up() string {
	return c.do("systemctl is-system-running --wait || true; systemctl --failed --no-legend")
}

// The Debian example as a disk: two clones start from it, are let in by what only they were given, grow, differ in what
// clones must not share, stay the same over a restart, and start a kernel that was installed later.
func clonesOfABootableDisk(t *testing.T) {
	if os.Getuid() != 0 {
		needtest.Skip(t, "the Debian base is made as root only")
	}
	p := me(t)
	debian(t, p)
	open, err := net.Listen("tcp", "127.0.0.1:0") // which a machine that is not cut off would reach
	require.NoError(t, err)
	defer open.Close()
	_, port, err := net.SplitHostPort(open.Addr().String())
	require.NoError(t, err)
	text, rest, _ := strings.Cut(p.read("images/field-machine.toml"), "[[artifact]]")
	_, rest, _ = strings.Cut(rest, "[[artifact.")
	partitions, _, _ := strings.Cut("[[artifact."+rest, "[[artifact]]")
	p.write("images/field-machine.toml", text+`
[[stage]]
name = "sudo"
inline = "echo 'keeper ALL=(ALL) NOPASSWD:ALL' > /etc/sudoers.d/keeper"
[[first_boot]]
name   = "count"
inline = "date >> /var/lib/counted"
[[check]]
name   = "hangs"
in     = "vm"
level  = "warn"
timeout = "3s"
inline = "echo before; sleep 1000 & setsid sleep 2000 & sleep 3000"
[[check]]
name   = "nothing is left"
in     = "vm"
user   = "keeper"
inline = "! pgrep sleep && id -un && head -c 9000000 /dev/zero | tr '\\000' x | fold"
[[check]]
name   = "it is a trial"
in     = "vm"
inline = """
grep 'count does not run in a trial' /var/log/zygos/first-boot.log && [ ! -e /var/lib/counted ]
[ -z "$(systemctl --failed --no-legend)" ]
! timeout 5 bash -c ': < /dev/tcp/10.0.2.2/`+port+`'
"""
[[check]]
name   = "turns it off"
in     = "vm"
level  = "warn"
inline = "poweroff -f"
[[check]]
name   = "after that"
in     = "vm"
level  = "warn"
inline = "true"
[[artifact]]
format  = "qcow2"
boot    = "uefi"
cmdline = "console=ttyS0"
compression = "zstd"
`+partitions)
	built := p.run("build", "field-gateway", "field-machine")
	require.Zero(t, built.code, built.err)
	require.Contains(t, p.ok("show", "field-machine"), "3 passed, 3 warned")
	for _, says := range []string{"the machine answers: passed", "nothing is left: passed", "it did not end within its timeout of 3s",
		"the machine ended while it ran",
		"not judged: the machine ended while check turns it off ran"} {
		require.Contains(t, built.out+built.err, says)
	}
	p.ok("publish", "field-machine", "--region", "shelf")
	disk := p.glob("regions/shelf/field-machine/*/*.qcow2")[0]
	// The same disk as a base: its child's is laid out as it is, and comes up.
	p.diskBase("own", disk, `[[check]]
name   = "it is the child, with its partitions"
in     = "vm"
inline = "cat /etc/hello; findmnt /var/log; swapon --show=TYPE --noheadings | grep partition"
[[artifact]]
format = "qcow2"
boot   = "base"
`)
	beside := make(chan result, 2)
	go func() {
		beside <- p.run("test", "field-machine", "--in", "vm", "--check", "the machine answers", "--region", "shelf")
		beside <- p.run("build", "on-own")
	}()
	a := newClone(t, p.dir, disk, "a")
	require.Equal(t, "running", a.up(), "no unit failed")
	b := newClone(t, p.dir, disk, "b")
	require.Equal(t, "running", b.up())
	own := `sudo cat /etc/machine-id; cat /etc/ssh/ssh_host_ed25519_key.pub`
	first := a.do(own)
	require.NotEqual(t, first, b.do(own), "clones do not share identities")
	b.off()
	require.Regexp(t, `^(19|20)G$`, a.do(`df -h --output=size / | tail -1 | tr -d ' '`), "the root has grown to its disk")
	require.Contains(t, a.do("sudo cat /var/log/zygos/first-boot.log"), "keeper-key ended with 0")

	// What a kernel's package runs last when it is installed brings the kernel to where the loader looks.
	a.do(`sudo sh -euc 'rm -r /boot/efi/field-machine /boot/efi/loader/entries/*
		/etc/kernel/postinst.d/zz-systemd-boot $(uname -r) /boot/vmlinuz-$(uname -r)'`)
	require.Contains(t, a.do("sudo ls /boot/efi/loader/entries"), "field-machine-")
	a.restart()
	require.Equal(t, "running", a.up())
	require.Equal(t, first, a.do(own), "and they stay over a restart")
	require.Equal(t, "1", a.do("wc -l < /var/lib/counted"), "a script of first boot ran once")
	require.Contains(t, a.do("cat /proc/cmdline"), "console=ttyS0")
	said, came := <-beside, <-beside
	require.Zero(t, said.code, said.err)
	require.Regexp(t, `the machine answers +vm +passed`, said.out)
	require.Regexp(t, `fetch [0-9.]+ MiB .*, boot .*, judge in the machine `, said.err)
	require.Zero(t, came.code, came.err)
	require.Contains(t, came.err, "it is the child, with its partitions: passed")
}
