package build

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"zygos/internal/store"
)

// keptSize is how large a file may be that is kept, in bytes: a larger one is repeated from the workspace, if it is still there.
const keptSize = 64 << 20

// keepTexts keeps the files that go into the build, so that it can be repeated when the workspace has moved on, and later plans can say
// what changed. A file that is not kept makes a later reason shorter, and a repetition names it.
func (r *run) keepTexts(ctx context.Context) {
	if os.MkdirAll(r.Dir.In("texts"), 0o755) != nil {
		return
	}
	keep := func(digest string, open func() (io.ReadCloser, error)) {
		if info, err := os.Stat(r.Dir.Text(digest)); err == nil && (info.Size() > 1<<20 || r.Dir.ReadText(digest) != nil) {
			return // a large one is looked at when it is needed: a power cut may leave it empty
		}
		from, err := open()
		if err != nil {
			return
		}
		defer from.Close()
		part := filepath.Join(r.dir, "text-"+digest)
		if copyTo(part, io.LimitReader(from, keptSize+1)) == nil {
			if got, err := store.Digest(ctx, part, nil); err == nil && got.Digest.Hex() == digest && got.Bytes <= keptSize {
				_ = os.Rename(part, r.Dir.Text(digest)) // as the comment says
			}
		}
		_ = os.Remove(part) // or it goes with the run's folder
	}
	for _, s := range r.plan.Sources {
		keep(s.Digest, func() (io.ReadCloser, error) { return os.Open(filepath.Join(r.Root, s.Path)) })
	}
	for _, shape := range r.plan.Shapes {
		for _, s := range shape.Stages {
			for _, step := range s.Steps {
				if step.Copy == nil {
					keep(step.Digest, func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(string(step.Script))), nil })
				}
			}
		}
	}
}

func copyTo(name string, from io.Reader) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	return errors.Join(err, f.Close())
}
