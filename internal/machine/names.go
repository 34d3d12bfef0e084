package machine

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"
)

const resolverFile = "/etc/resolv.conf"

// giveNames lets the sandbox resolve names as the host does, where the tree does not say how: it gets
// the host's resolver configuration as a file that scripts may change or replace. takeBack
// takes it away again, unless one of them did.
func giveNames(host []byte) (takeBack func() error, err error) {
	nothing := func() error { return nil }
	at := resolverFile
	if target, err := os.Readlink(at); err == nil {
		if at = path.Join("/etc", target); path.IsAbs(target) {
			at = path.Clean(target)
		}
		if !strings.HasPrefix(at, "/run/") {
			return nothing, nil // the tree decides
		}
		if err := os.MkdirAll(path.Dir(at), 0o755); err != nil {
			return nil, err
		}
		return nothing, os.WriteFile(at, host, 0o644) // in memory, and gone with the stage
	}
	was, err := os.Stat(at)
	if err == nil && (was.Size() > 0 || !was.Mode().IsRegular()) {
		return nothing, nil // the tree has its own
	}
	if err := os.WriteFile(at, host, 0o644); err != nil {
		return nil, err
	}
	return func() error {
		now, err := readTree(at, int64(len(host))+1)
		if err != nil || !bytes.Equal(now, host) {
			return nil // a script made it its own
		}
		if was == nil {
			return os.Remove(at)
		}
		return errors.Join(os.Truncate(at, 0), os.Chtimes(at, was.ModTime(), was.ModTime()))
	}, nil
}

// readTree reads the first bytes of a file that scripts may have made into whatever they like: it neither
// waits nor follows a link at its end.
func readTree(name string, most int64) ([]byte, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no file", name)
	}
	return io.ReadAll(io.LimitReader(f, most))
}
