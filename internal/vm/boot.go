package vm

import (
	"bufio"
	"context"
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"zygos/internal/machine"
)

// Kernel is what starts a tree without its loader: with our agent beside it, which no disk has.
type Kernel struct {
	Image, Initrd io.Reader
	Cmdline       string
}

// Running is a machine that has come up, with our agent in it.
type Running struct {
	*machine.Guest
	Took   time.Duration
	Failed []string // units of systemd that failed on the way
	said   *console
	stop   context.CancelFunc
	ended  chan error
}

// Boot starts a machine with the kernel of its tree and our agent, and waits until it is up; the error is a *NotUpError if it is not in
// time. tell hears each line of its console. It is to be stopped.
func (h *Host) Boot(ctx context.Context, m Machine, k Kernel, limit time.Duration, tell func(line string)) (*Running, error) {
	image, initrd := filepath.Join(m.Temp, "kernel"), filepath.Join(m.Temp, "initrd")
	if err := errors.Join(write(image, k.Image, nil), write(initrd, k.Initrd, addAgent)); err != nil {
		return nil, err
	}
	defer func() { _ = errors.Join(os.Remove(image), os.Remove(initrd)) }() // QEMU has read them once the machine is up
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "port"), os.NewFile(uintptr(pair[1]), "port")
	port, err := net.FileConn(ours)
	ours.Close()
	if err != nil {
		theirs.Close()
		return nil, err
	}
	within, stop := context.WithCancel(ctx)
	cmd := h.command(within, m, "stdio")
	cmd.Args = append(cmd.Args, "-kernel", escape(image), "-initrd", escape(initrd), "-append", k.Cmdline+" rdinit="+machine.AgentFile,
		"-chardev", "socket,id=port,fd=3", "-device", "virtio-serial-pci", "-device", "virtserialport,chardev=port,name="+machine.AgentPort)
	c := &console{tell: tell, up: make(chan struct{})}
	var complaint strings.Builder
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = c, &complaint, []*os.File{theirs}
	r := &Running{said: c, stop: stop, ended: make(chan error, 1)}
	began := time.Now()
	go func() {
		// The parent-death signal of the machine follows the thread that starts it.
		runtime.LockOSThread()
		err := cmd.Start()
		theirs.Close()
		if err == nil {
			err = cmd.Wait()
		}
		r.ended <- err
	}()
	r.Guest = machine.NewGuest(port)
	up, cancel := context.WithTimeout(within, limit)
	defer cancel()
	settled, failed, err := r.Up(up)
	if err == nil && !settled {
		select {
		case <-c.up:
		case <-up.Done():
			err = up.Err()
		}
	}
	if err == nil {
		r.Took, r.Failed = time.Since(began), failed
		return r, nil
	}
	late := errors.Is(up.Err(), context.DeadlineExceeded)
	stop()
	ended := <-r.ended
	c.close()
	port.Close()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case ended != nil && !errors.As(ended, &exit): // it did not even start
		return nil, ended
	}
	down := &NotUpError{Limit: limit, Console: c.lines(), Full: m.full()}
	if !late {
		if down.Ended = strings.TrimSpace(complaint.String()); down.Ended == "" {
			down.Ended = fmt.Sprintf("it turned itself off (%v)", ended)
		}
	}
	return nil, down
}

// Stop turns the machine off.
func (r *Running) Stop() {
	r.stop()
	<-r.ended
	r.said.close()
	r.Close()
}

// write makes a file of what a reader says, and more.
func write(name string, from io.Reader, more func(*os.File) error) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	if err == nil && more != nil {
		err = more(f)
	}
	return errors.Join(err, f.Close())
}

// addAgent appends an archive with our agent to an initramfs, in the form "newc" (Linux,
// Documentation/driver-api/early-userspace/buffer-format.rst): an initramfs may consist of several, with zeros between.
func addAgent(to *os.File) error {
	self, err := os.Open("/proc/self/exe")
	if err != nil {
		return err
	}
	defer self.Close()
	if err := static(self); err != nil {
		return err
	}
	info, err := self.Stat()
	if err != nil {
		return err
	}
	at, err := to.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	w := &archive{to: bufio.NewWriterSize(to, 1<<20), at: at}
	w.pad()
	w.entry("dev", unix.S_IFDIR|0o755, 0, 0, nil)
	w.entry("dev/console", unix.S_IFCHR|0o600, 0, 5<<8|1, nil)
	w.entry("dev/null", unix.S_IFCHR|0o666, 0, 1<<8|3, nil)
	w.entry(machine.AgentFolder[1:], unix.S_IFDIR|0o755, 0, 0, nil)
	w.entry(machine.AgentFile[1:], unix.S_IFREG|0o755, info.Size(), 0, self)
	w.entry("TRAILER!!!", 0, 0, 0, nil)
	return errors.Join(w.err, w.to.Flush())
}

// static says whether this program runs where there are no libraries.
func static(self io.ReaderAt) error {
	program, err := elf.NewFile(self)
	if err != nil {
		return err
	}
	if program.Machine != elf.EM_X86_64 {
		return &MissingError{"this program is not made for the processor of the guest", "use one made for amd64"}
	}
	for _, p := range program.Progs {
		if p.Type == elf.PT_INTERP {
			return &MissingError{"this program needs libraries that a guest has not", "build it with CGO_ENABLED=0, as 'make build' does"}
		}
	}
	return nil
}

// archive writes cpio entries.
type archive struct {
	to  *bufio.Writer
	at  int64
	err error
}

func (a *archive) write(from io.Reader) {
	if a.err == nil {
		var n int64
		n, a.err = io.Copy(a.to, from)
		a.at += n
	}
}

func (a *archive) pad() { a.write(strings.NewReader("\x00\x00\x00"[:-a.at&3])) }

// entry writes one; device is its major number in the upper byte.
func (a *archive) entry(name string, mode uint32, size int64, device int, content io.Reader) {
	a.write(strings.NewReader(fmt.Sprintf("070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", 0, mode, 0, 0, 1, 0, size, 0, 0,
		device>>8, device&0xff, len(name)+1, 0, name)))
	a.pad()
	if content != nil {
		a.write(content)
		a.pad()
	}
}
