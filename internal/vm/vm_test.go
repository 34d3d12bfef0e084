package vm_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/vm"
)

func TestWhatAHostLacksIsNamed(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	_, err := vm.Find(t.Context(), "")
	require.EqualError(t, err, "qemu-system-x86_64 is not on this host; install the package qemu-system-x86")

	dir, old := t.TempDir(), vm.Firmwares
	t.Cleanup(func() { vm.Firmwares = old })
	vm.Firmwares = [][2]string{{dir + "/code", dir + "/variables"}}
	require.NoError(t, os.WriteFile(dir+"/qemu-system-x86_64", nil, 0o755))
	t.Setenv("PATH", dir)
	_, err = vm.Find(t.Context(), "")
	require.EqualError(t, err, "there is no UEFI firmware for virtual machines on this host; install the package ovmf")
	require.NoError(t, os.WriteFile(dir+"/code", []byte("cut short"), 0o644))
	require.NoError(t, os.WriteFile(dir+"/variables", nil, 0o644))
	_, err = vm.Find(t.Context(), "")
	require.EqualError(t, err, "the firmware "+dir+"/code is broken: it has 9 bytes; install the package ovmf again")
}

// play is a host whose QEMU is a script.
func play(t *testing.T, script string) *vm.Host {
	name := filepath.Join(t.TempDir(), "qemu")
	require.NoError(t, os.WriteFile(name, []byte("#!/bin/sh\n"+script+"\n"), 0o755))
	return &vm.Host{Program: name, Code: "/dev/null", Variables: "/dev/null"}
}

// A machine is up when its console asks for a login; what it said last is told when it does not.
func TestMachineComesUpOrSaysWhyNot(t *testing.T) {
	m := vm.Machine{Disk: "/dev/null", Format: "raw", CPUs: 1, Memory: 1 << 20, Temp: t.TempDir()}
	var heard []string
	took, err := play(t, `printf 'a\r\n\033[0;32mOK\033[0m\r\nvm login: '; sleep 60`).Comes(t.Context(), m, time.Minute,
		func(line string) { heard = append(heard, line) })
	require.NoError(t, err)
	require.Less(t, took, 30*time.Second)
	require.Equal(t, []string{"a", "OK"}, heard)
	var down *vm.NotUpError
	_, err = play(t, `i=0; while [ $i -lt 50 ]; do echo line $i; i=$((i+1)); done; sleep 60`).Comes(t.Context(), m,
		time.Second, func(string) {})
	require.ErrorAs(t, err, &down)
	require.EqualError(t, err, "the machine was not up after 1s")
	require.Len(t, down.Console, 20)
	require.Equal(t, "line 49", down.Console[19])
	_, err = play(t, `echo panic; echo "no such disk" >&2; exit 1`).Comes(t.Context(), m, time.Minute, func(string) {})
	require.EqualError(t, err, "the machine ended before it was up: no such disk")
	_, err = play(t, `exit 0`).Comes(t.Context(), m, time.Minute, func(string) {})
	require.ErrorContains(t, err, "it turned itself off")
}

// A machine is started with the kernel it is given, and with our agent in one more archive of its initramfs.
// What a console says is up only where an init or a getty says it, and a guest that says much is heard so far and no further.
func TestWhatAConsoleSays(t *testing.T) {
	m := vm.Machine{Disk: "/dev/null", Format: "raw", CPUs: 1, Memory: 1 << 20, Temp: t.TempDir()}
	for said, up := range map[string]bool{"sulogin: root account is locked": false, "Failed to start getty; no login: see logs": false,
		"Command line: quiet banner=login:": false, "echo Reached target multi-user.target": false, "no login: ": false,
		"field login: [    7.5] no": false,
		"field login: [  210.636585] powernow_k8: Power state transitions not supported": true, "field login: ": false,
		"[  OK  ] Reached target multi-user.target - Multi-User System.": true, "systemd[1]: Reached target graphical.target": true,
		"\\033M[  OK  ] Reached target multi-user.target": true} {
		t.Run(said, func(t *testing.T) {
			t.Parallel()
			_, err := play(t, `printf '%b' '`+said+`'; sleep 0.3; echo; sleep 60`).Comes(t.Context(), m, 2500*time.Millisecond, func(string) {})
			require.Equal(t, up, err == nil)
		})
	}
	t.Run("much", func(t *testing.T) {
		t.Parallel()
		passed, last := 0, ""
		_, err := play(t, `yes "$(printf '%0100d' 1)" | head -n 20000; exit 1`).Comes(t.Context(), m, time.Minute, func(line string) {
			passed, last = passed+len(line), line
		})
		require.Error(t, err)
		require.Less(t, passed, 2<<20)
		require.Equal(t, "(9515 more lines of the console are left out)", last)
	})
}

func TestMachineStartsWithOurAgent(t *testing.T) {
	dir := t.TempDir()
	m := vm.Machine{Disk: "/dev/null", Format: "raw", CPUs: 1, Memory: 1 << 20, Temp: dir, Alone: true}
	kernel := func() vm.Kernel {
		return vm.Kernel{Image: strings.NewReader("the kernel"), Initrd: strings.NewReader("odd"), Cmdline: "root=PARTUUID=1 ro"}
	}
	up := `printf 'a\0\0\0\055{"Up":"settled","Units":"b.service failed"}\n\n' >&3`
	r, err := play(t, `cd `+dir+`; cat kernel > had; tail -c +5 initrd > archive
printf '%s\n' "$@" > args; `+up+`; sleep 60`).Boot(t.Context(), m, kernel(), time.Minute, func(string) {})
	require.NoError(t, err)
	defer r.Stop()
	require.Equal(t, []string{"b.service"}, r.Failed)
	had, err := os.ReadFile(dir + "/had")
	require.NoError(t, err)
	require.Equal(t, "the kernel", string(had))
	args, err := os.ReadFile(dir + "/args")
	require.NoError(t, err)
	require.Contains(t, string(args), "\nroot=PARTUUID=1 ro rdinit=/zygos-agent\n")
	require.Contains(t, string(args), "restrict=on")
	require.Contains(t, string(args), "name=opt/zygos/trial,string=1")
	require.Contains(t, string(args), "werror=report")
	out, err := exec.Command("sh", "-c", "cpio -t --quiet < "+dir+"/archive").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Equal(t, "dev\ndev/console\ndev/null\nzygos-proc\nzygos-agent\n", string(out))

	var down *vm.NotUpError
	_, err = play(t, `echo no root >&2; exit 1`).Boot(t.Context(), m, kernel(), time.Minute, func(string) {})
	require.ErrorAs(t, err, &down)
	require.EqualError(t, err, "the machine ended before it was up: no root")
	_, err = play(t, `echo waiting; sleep 60`).Boot(t.Context(), m, kernel(), time.Second, func(string) {})
	require.ErrorAs(t, err, &down)
	require.Equal(t, []string{"waiting"}, down.Console)
	_, err = play(t, `printf 'a\377\377\377\377' >&3; sleep 60`).Boot(t.Context(), m, kernel(), time.Minute, func(string) {})
	require.ErrorAs(t, err, &down, "a guest that says nonsense is none that is up")
}
