package machine

import (
	"context"
	"os"
	"path/filepath"
	"time"
)

// Probe makes a sandbox without steps on an empty tree in dir and tells how long it took.
func Probe(ctx context.Context, ids IDs, dir string) (took time.Duration, err error) {
	temp, err := os.MkdirTemp(dir, "probe-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(temp)
	at := Folders{[]string{filepath.Join(temp, "lower")}, filepath.Join(temp, "upper"), filepath.Join(temp, "scratch")}
	for _, d := range []string{at.Layers[0], at.Upper, at.Scratch} {
		if err := os.Mkdir(d, 0o755); err != nil {
			return 0, err
		}
		if err := os.Chown(d, int(ids.First), int(ids.First)); err != nil {
			return 0, err
		}
	}
	began := time.Now()
	err = Sandbox{IDs: ids}.RunIn(ctx, at, Stage{Name: "probe", Hostname: "probe"}, nil)
	return time.Since(began), err
}
