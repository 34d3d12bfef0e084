package vm_test

import (
	"os"
	"path/filepath"
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
