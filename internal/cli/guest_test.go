package cli_test

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/needtest"
)

// guestBoot loads modules and goes on from the disk.
const guestBoot = `#!/bin/sh
export PATH=/bin:/sbin
mount -t proc proc /proc; mount -t devtmpfs dev /dev
for m in $(cat /modules/order); do insmod /modules/$m; done
mount -t ext4 /dev/vda /disk && exec switch_root /disk /begin
`

// guestInit is what runs in the guest: builds with limits, each of which one script passes.
const guestInit = `#!/bin/sh
export PATH=/bin:/sbin HOME=/
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev; mount -t cgroup2 cgroup /sys/fs/cgroup
HUNGRY=$(cat /hungry)
mkdir -p /work; cd /work && zygos new ws --quiet --color never && cd ws || poweroff -f
try() {
    printf 'series = "0.1"\nbase = "field-os"\n[limits]\nmemory = "48MiB"\nprocesses = 12\ncpu = 1\n[[stage]]\nname = "s"\ninline = ` +
	`"""\n%s\n"""\n[[artifact]]\nformat = "tar"\n' "$2" > images/first.toml
    echo "BEGIN $1"; zygos build first --color never 2>&1; echo "END $1 $?"
}
echo "BEGIN doctor"; zygos doctor --color never 2>&1; echo "END doctor $?"
try fits 'echo fits'
try memory "$HUNGRY"
try processes 'for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15; do sleep 3 & done; wait'
try cpu 'cat /proc/self/cgroup; i=0; while [ $i -lt 30000 ]; do i=$((i+1)); done; echo done'
echo "BEGIN left"; ls -d /sys/fs/cgroup/zygos-* 2>&1; echo "END left 0"
poweroff -f
`

// guestCompare tells what a kernel finds on a disk, in the words of compared.
const guestCompare = `#!/bin/sh
export PATH=/bin:/sbin
mount -t proc proc /proc; mount -t devtmpfs dev /dev
for m in $(cat /modules/order); do insmod /modules/$m; done
mount -t ext4 -o ro /dev/vda /disk && cd /disk && echo BEGIN && ` + compared + ` && echo END
poweroff -f
`

const compared = `find * ! -path 'lost+found*' | sort | while read -r f
do
    if [ -L "$f" ]; then stat -c '%n %f %u %g' "$f"; readlink "$f"; else stat -c '%n %f %u %g %h %Y' "$f"; fi
    if [ -f "$f" ] && [ ! -L "$f" ]; then sha256sum "$f"; fi
done`

// The kernel of a guest finds on a disk what the archive of the same version holds.
func kernelReadsADisk(t *testing.T) {
	p, kernel, root := guest(t)
	w := me(t)
	w.starter()
	w.image("[[stage]]\nname = \"s\"\ninline = \"\"\"\nmkdir -p /srv; mkdir -m 2755 /srv/a; chown 7:8 /srv/a; seq 200000 > /srv/a/long\n" +
		"ln /srv/a/long /srv/b\n" +
		"truncate -s 3M /srv/a/holes; echo end >> /srv/a/holes; ln -s $(printf '%0100d' 0) /srv/link; mkdir /srv/many\n" +
		"for i in $(seq 500); do echo $i > /srv/many/a-file-with-a-long-name-$i; done\n\"\"\"\n[[artifact]]\nformat = \"qcow2\"\n" +
		"compression = \"zstd\"\n")
	w.ok("build", "first")
	w.ok("publish", "first")
	p.write("root/init", guestCompare)
	require.NoError(t, os.Chmod(filepath.Join(root, "init"), 0o755))
	tree := filepath.Join(w.dir, "tree")
	w.sh("mkdir tree && zstd -dc regions/here/first/*/*.tar.zst | tar -x -C tree")
	cmd := exec.Command("sh", "-c", "export LC_ALL=C; "+compared)
	cmd.Dir = tree
	want, err := cmd.Output()
	require.NoError(t, err)
	out := start(t, p, kernel, w.glob("regions/here/first/*/*.qcow2")[0], "qcow2")
	_, got, ok := strings.Cut(out, "BEGIN\n")
	require.True(t, ok, out)
	got, _, ok = strings.Cut(got, "END\n")
	require.True(t, ok, out)
	require.Equal(t, strings.Split(string(want), "\n"), strings.Split(got, "\n"))
}

// guest is a person with a folder root that becomes the first file system of a guest, and a kernel for that.
func guest(t *testing.T) (p *person, kernel, root string) {
	if os.Getuid() != 0 {
		needtest.Skip(t, "'make deps' prepares the guest as root only")
	}
	kernel, err := filepath.Abs("../../.cache/kernel")
	require.NoError(t, err)
	if _, err := os.Stat(kernel); err != nil {
		needtest.Skip(t, "there is no kernel for a guest; 'make test' prepares one")
	}
	p = me(t)
	p.ok("new", "seed")
	root = filepath.Join(p.dir, "root")
	p.sh(`mkdir -p root/modules root/disk && zstd -dc seed/bases/*.zst | tar -x -C root
rm -rf root/dev && mkdir -p root/dev root/proc root/sys
cp ` + kernel + `/modules/* root/modules/`)
	return p, kernel, root
}

// start runs a guest with a disk until it turns itself off, and returns what its console said.
func start(t *testing.T, p *person, kernel, disk, format string) string {
	p.sh(`(cd root && find . | cpio --quiet -o -H newc) > initrd`)
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "qemu-system-x86_64", "-accel", "tcg,thread=multi", "-smp", "2", "-m", "768", "-nographic", "-no-reboot",
		"-nic", "none", "-kernel", kernel+"/vmlinuz", "-initrd", p.dir+"/initrd", "-append", "console=ttyS0 quiet panic=-1",
		"-drive", "file="+disk+",format="+format+",if=virtio")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(bytes.ReplaceAll(out, []byte("\r"), nil))
}

// Limits are tried in a guest with a kernel and cgroup v2 of its own, since the host may have none.
func limitsInAGuest(t *testing.T) {
	p, kernel, root := guest(t)
	p.sh("cp " + program + " root/bin/zygos")
	require.NoError(t, os.WriteFile(filepath.Join(root, "init"), []byte(guestBoot), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "begin"), []byte(guestInit), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "hungry"), []byte(hungry), 0o644))
	p.sh("truncate -s 256M disk && mke2fs -q -t ext4 -d root disk")
	out := start(t, p, kernel, p.dir+"/disk", "raw")
	said := func(name string) string {
		_, rest, ok := strings.Cut(out, "BEGIN "+name+"\n")
		require.True(t, ok, "%s", out)
		text, _, ok := strings.Cut(rest, "END "+name+" ")
		require.True(t, ok, "%s", out)
		return text
	}
	require.Contains(t, said("doctor"), "builds may be limited in memory, processes and processors")
	require.Contains(t, said("fits"), "Registered first@0.1.0")
	require.NotContains(t, said("fits"), "not in force")
	require.Contains(t, said("memory"), "it met its memory limit of 48 MiB and was stopped; raise memory in [limits]")
	require.Contains(t, said("processes"), "it met its limit of 12 processes; raise processes in [limits]")
	require.Contains(t, said("cpu"), "0::/\n", "a stage does not see the host's groups")
	require.Contains(t, said("cpu"), "s | done")
	require.Contains(t, said("left"), "No such file", "no group is left")
}
