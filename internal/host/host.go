// Package host says what this host can do for builds, and what to change where it cannot.
package host

import (
	"context"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"zygos/internal/machine"
	"zygos/internal/plain"
)

// Finding is one thing that was looked at.
type Finding struct {
	What  string `json:"what"`
	State string `json:"state"` // ok, limited, over or missing
	Text  string `json:"text"`
	Do    string `json:"do,omitempty"`
}

// ID tells this host from others by its machine-id(5), "-" where it has none: the name of a container, say,
// changes each time.
func ID() string {
	if text, err := os.ReadFile("/etc/machine-id"); err == nil && len(strings.Fields(string(text))) == 1 {
		return strings.TrimSpace(string(text))
	}
	return "-"
}

// Kernel tells which kernel runs.
func Kernel() Finding {
	var uts unix.Utsname
	_ = unix.Uname(&uts) // it cannot fail with a valid buffer
	return Finding{What: "kernel", State: "ok", Text: unix.ByteSliceToString(uts.Release[:])}
}

// IDs tells which user and group ids sandboxes have.
func IDs(ids machine.IDs) Finding {
	f := Finding{What: "ids", State: "ok", Text: fmt.Sprintf("sandboxes use the %d ids from %d on this host", ids.Count, ids.Host)}
	if ids.Limited() {
		f.State, f.Text = "limited", "only root exists in sandboxes: steps for other users fail, and so do packages that set other owners"
		f.Do = "install the package uidmap, and give your user a line NAME:100000:65536 in /etc/subuid and in /etc/subgid"
	}
	return f
}

// Limits tells whether stages can be limited.
func Limits() Finding {
	f := Finding{What: "limits", State: "ok", Text: "builds may be limited in memory, processes and processors"}
	if err := machine.LimitsWork(); err != nil {
		f.State, f.Text = "limited", fmt.Sprintf("[limits] would not be in force: %v", err)
		f.Do = "for [limits], use a host with cgroup v2 that lets you make control groups, for instance under 'systemd-run --user --scope -p " +
			"Delegate=yes'"
	}
	return f
}

// Disk tells how much room there is.
func Disk(dir string) Finding {
	var fs unix.Statfs_t
	if err := unix.Statfs(dir, &fs); err != nil {
		return Finding{What: "disk", State: "missing", Text: fmt.Sprintf("%s: %v", dir, err)}
	}
	return Finding{What: "disk", State: "ok", Text: fmt.Sprintf("%s free at %s", plain.MiB(int64(fs.Bavail)*fs.Bsize), dir)}
}

// Sandbox makes one in a folder.
func Sandbox(ctx context.Context, ids machine.IDs, dir string) Finding {
	took, err := machine.Probe(ctx, ids, dir)
	if err != nil {
		return Finding{What: "sandbox", State: "missing", Text: err.Error(),
			Do: "use a kernel of 5.11 or later with overlay and user namespaces, and a state folder on a local file system (ext4, xfs, btrfs)"}
	}
	return Finding{What: "sandbox", State: "ok", Text: "made and left in " + plain.Duration(took)}
}
