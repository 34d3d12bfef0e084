package machine_test

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// number makes a raw system call an attempt.
func number(call uintptr, args ...uintptr) error {
	for len(args) < 5 {
		args = append(args, 0)
	}
	_, _, errno := unix.RawSyscall6(call, args[0], args[1], args[2], args[3], args[4], 0)
	if errno != 0 {
		return errno
	}
	return nil
}

func openFor(flags int) func(string) error {
	return func(name string) error {
		fd, err := unix.Open(name, flags|unix.O_CLOEXEC, 0)
		if err == nil {
			unix.Close(fd)
		}
		return err
	}
}

func socket(family, kind int) func(host) error {
	return func(host) error {
		fd, err := unix.Socket(family, kind, 0)
		if err == nil {
			unix.Close(fd)
		}
		return err
	}
}

func call(n uintptr, args ...uintptr) func(host) error {
	return func(host) error { return number(n, args...) }
}

func netlink(protocol int) func(host) error {
	return func(host) error {
		_, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW, protocol)
		return err
	}
}

// fill tries to write 300 MiB.
func fill(name string) func(host) error {
	return func(host) error {
		f, err := os.Create(name)
		if err != nil {
			return err
		}
		defer os.Remove(name)
		for range 300 {
			if _, err := f.Write(make([]byte, 1<<20)); err != nil {
				return errors.Join(err, f.Close())
			}
		}
		return f.Close()
	}
}

func at(name string, flags int) func(host) error {
	return func(host) error { return openFor(flags)(name) }
}
