// Package vm starts disks in virtual machines with QEMU, as a hypervisor elsewhere would: with UEFI firmware, from a disk that
// stays as it is. It knows files and nothing of images.
package vm

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

const program = "qemu-system-x86_64"

// Firmwares are where packages put UEFI firmware: code and variables.
var Firmwares = [][2]string{
	{"/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"},
	{"/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"},
	{"/usr/share/edk2/ovmf/OVMF_CODE.fd", "/usr/share/edk2/ovmf/OVMF_VARS.fd"},
	{"/usr/share/edk2/x64/OVMF_CODE.4m.fd", "/usr/share/edk2/x64/OVMF_VARS.4m.fd"},
	{"/usr/share/qemu/edk2-x86_64-code.fd", "/usr/share/qemu/edk2-i386-vars.fd"},
}

// MissingError says what this host lacks to start machines.
type MissingError struct{ What, Do string }

func (e *MissingError) Error() string { return e.What + "; " + e.Do }

// Host is what this host has to start machines with.
type Host struct {
	Program         string
	Code, Variables string // firmware
	Fast            bool   // by the processor, and not in software
}

// Find looks for QEMU and firmware; memory is a file that keeps whether the processor helps, for this boot of the host.
func Find(ctx context.Context, memory string) (*Host, error) {
	at, err := exec.LookPath(program)
	if err != nil {
		return nil, &MissingError{program + " is not on this host", "install the package qemu-system-x86"}
	}
	h := &Host{Program: at}
	for _, f := range Firmwares {
		code, err1 := os.Stat(f[0])
		_, err2 := os.Stat(f[1])
		if err1 != nil || err2 != nil {
			continue
		}
		if code.Size() < 1<<20 {
			return nil, &MissingError{fmt.Sprintf("the firmware %s is broken: it has %d bytes", f[0], code.Size()), "install the package ovmf again"}
		}
		h.Code, h.Variables = f[0], f[1]
		break
	}
	if h.Code == "" {
		return nil, &MissingError{"there is no UEFI firmware for virtual machines on this host", "install the package ovmf"}
	}
	h.Fast = h.remembered(ctx, memory)
	return h, nil
}

// remembered is whether the processor helps, tried once a boot of the host.
func (h *Host) remembered(ctx context.Context, memory string) bool {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return false
	}
	key := strings.TrimSpace(string(boot)) + " " + h.Program + " "
	if had, err := os.ReadFile(memory); err == nil {
		if answer, ok := strings.CutPrefix(string(had), key); ok {
			return answer == "fast\n"
		}
	}
	answer := "slow\n"
	if h.probe(ctx) {
		answer = "fast\n"
	}
	if memory != "" && ctx.Err() == nil && os.MkdirAll(filepath.Dir(memory), 0o755) == nil {
		_ = os.WriteFile(memory, []byte(key+answer), 0o644) // without it, it is tried again
	}
	return answer == "fast\n"
}

const probeTime = 5 * time.Second

// probe starts a guest of one sector that ends by itself: on some hosts the device is there and a guest hangs.
func (h *Host) probe(ctx context.Context) bool {
	kvm, err := os.OpenFile("/dev/kvm", os.O_RDWR, 0)
	if err != nil {
		return false
	}
	kvm.Close()
	sector := make([]byte, 512)
	copy(sector, []byte{0xb0, 0x01, 0xe6, 0xf4, 0xf4}) // mov al, 1; out 0xf4, al; hlt
	sector[510], sector[511] = 0x55, 0xaa
	file, err := os.CreateTemp("", "zygos-probe-")
	if err != nil {
		return false
	}
	defer os.Remove(file.Name())
	_, err = file.Write(sector)
	if err = errors.Join(err, file.Close()); err != nil {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, h.Program, "-accel", "kvm", "-display", "none", "-nodefaults", "-m", "16",
		"-device", "isa-debug-exit,iobase=0xf4,iosize=1", "-drive", "file="+file.Name()+",format=raw,if=ide,snapshot=on")
	var exit *exec.ExitError
	return errors.As(cmd.Run(), &exit) && exit.ExitCode() == 3 // 1 << 1 | 1: what the guest wrote
}

// Port leads from the host's loopback to a guest.
type Port struct{ Host, Guest int }

// Machine is what to start.
type Machine struct {
	Disk   string
	Format string // as QEMU calls it
	// Changes is a file that takes what the guest writes, an overlay of the disk; "" throws it away.
	Changes string
	CPUs    int
	Memory  int64 // bytes
	Ports   []Port
	BIOS    bool   // it starts without UEFI
	Alone   bool   // it reaches neither this host nor what lies behind
	Temp    string // folder for what is thrown away
}

// ParsePorts reads HOST:GUEST,…
func ParsePorts(text string) (list []Port, err error) {
	if text == "" {
		return nil, nil
	}
	for _, pair := range strings.Split(text, ",") {
		host, guest, _ := strings.Cut(pair, ":")
		h, err1 := strconv.ParseUint(host, 10, 16)
		g, err2 := strconv.ParseUint(guest, 10, 16)
		if err1 != nil || err2 != nil || h == 0 || g == 0 {
			return nil, fmt.Errorf("has %q; write HOST:GUEST, for instance 8022:22", pair)
		}
		list = append(list, Port{Host: int(h), Guest: int(g)})
	}
	return list, nil
}

// command is QEMU for a machine with its console on stdin and stdout.
func (h *Host) command(ctx context.Context, m Machine, serial string) *exec.Cmd {
	accel, cpu := "tcg,thread=multi", "max"
	if h.Fast {
		accel, cpu = "kvm", "host"
	}
	disk := "file=" + escape(m.Disk) + ",format=" + m.Format + ",snapshot=on"
	if m.Changes != "" {
		disk = "file=" + escape(m.Changes) + ",format=qcow2"
	}
	net := "user,id=net"
	if m.Alone {
		net += ",restrict=on"
	}
	for _, p := range m.Ports {
		net += fmt.Sprintf(",hostfwd=tcp:127.0.0.1:%d-:%d", p.Host, p.Guest)
	}
	cmd := exec.CommandContext(ctx, h.Program, "-machine", "q35", "-accel", accel, "-cpu", cpu, "-smp", fmt.Sprint(m.CPUs),
		"-m", fmt.Sprint(m.Memory>>20), "-display", "none", "-nodefaults", "-no-user-config", "-serial", serial, "-monitor", "none",
		"-drive", disk+",if=none,id=disk,werror=report", "-device", "virtio-blk-pci,drive=disk,bootindex=1",
		"-netdev", net, "-device", "virtio-net-pci,netdev=net,romfile=", "-device", "virtio-rng-pci")
	if !m.BIOS {
		cmd.Args = append(cmd.Args, "-drive", "if=pflash,format=raw,unit=0,readonly=on,file="+escape(h.Code),
			"-drive", "if=pflash,format=raw,unit=1,snapshot=on,file="+escape(h.Variables))
	}
	// Guests honour it from nowhere else (QEMU, "fw_cfg").
	cmd.Args = append(cmd.Args, "-fw_cfg", "name=opt/zygos/trial,string=1")
	cmd.Env = append(cmd.Environ(), "TMPDIR="+m.Temp)
	cmd.SysProcAttr = &unix.SysProcAttr{Pdeathsig: unix.SIGKILL}
	cmd.WaitDelay = time.Second
	return cmd
}

// escape keeps commas in a file's name from ending an option.
func escape(name string) string { return strings.ReplaceAll(name, ",", ",,") }

// Show runs a machine with its console on this terminal until it is turned off, or the keys Ctrl-A X.
func (h *Host) Show(ctx context.Context, m Machine, in io.Reader, out, errs io.Writer) error {
	// The parent-death signal of the machine follows the thread that starts it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd := h.command(ctx, m, "mon:stdio")
	for i, arg := range cmd.Args {
		if arg == "-monitor" { // it shares the console
			cmd.Args = append(cmd.Args[:i], cmd.Args[i+2:]...)
			break
		}
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, errs
	err := cmd.Run()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}
