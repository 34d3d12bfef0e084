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

	"zygos/internal/needtest"

	"github.com/stretchr/testify/require"
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

// Limits are tried in a guest with a kernel and cgroup v2 of its own, since the host may have none.
func TestLimitsInAGuest(t *testing.T) {
	needtest.Long(t)
	t.Parallel()
	if os.Getuid() != 0 {
		needtest.Skip(t, "'make deps' prepares the guest as root only")
	}
	kernel, err := filepath.Abs("../../.cache/kernel")
	require.NoError(t, err)
	if _, err := os.Stat(kernel); err != nil {
		needtest.Skip(t, "there is no kernel for a guest; 'make test' prepares one")
	}
	p := me(t)
	p.ok("new", "seed")
	root := filepath.Join(p.dir, "root")
	run := func(script string) {
		cmd := exec.Command("sh", "-euc", script)
		cmd.Dir = p.dir
		cmd.Env = append(os.Environ(), "ROOT="+root, "KERNEL="+kernel, "PROGRAM="+program, "SEED="+p.dir+"/seed")
		require.NoError(t, errorsOf(cmd))
	}
	run(`mkdir -p $ROOT/modules $ROOT/disk && zstd -dc $SEED/bases/*.zst | tar -x -C $ROOT && rm -rf $ROOT/dev && mkdir -p $ROOT/dev ` +
		`$ROOT/proc $ROOT/sys
cp $PROGRAM $ROOT/bin/zygos && cp $KERNEL/modules/* $ROOT/modules/`)
	require.NoError(t, os.WriteFile(filepath.Join(root, "init"), []byte(guestBoot), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "begin"), []byte(guestInit), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "hungry"), []byte(hungry), 0o644))
	run(`(cd $ROOT && find . | cpio --quiet -o -H newc) > initrd && truncate -s 256M disk && mke2fs -q -t ext4 -d $ROOT disk`)
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "qemu-system-x86_64", "-accel", "tcg,thread=multi", "-smp", "2", "-m", "768", "-nographic", "-no-reboot",
		"-nic", "none",
		"-kernel", kernel+"/vmlinuz", "-initrd", p.dir+"/initrd", "-append", "console=ttyS0 quiet panic=-1", "-drive",
		"file="+p.dir+"/disk,format=raw,if=virtio")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	said := func(name string) string {
		_, rest, ok := strings.Cut(string(bytes.ReplaceAll(out, []byte("\r"), nil)), "BEGIN "+name+"\n")
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
