package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zygos/internal/record"
	"zygos/internal/state"
	"zygos/internal/store"
)

// keptSize is how large a file may be that is kept, in bytes: a larger one is repeated from the workspace, if it is still there.
const keptSize = 64 << 20

// keepTexts keeps the files that go into the build, so that it can be repeated when the workspace has moved on, and later plans can say
// what changed. A file that is not kept makes a later reason shorter, and a repetition names it.
func (r *run) keepTexts(ctx context.Context) {
	if os.MkdirAll(r.State.In("texts"), 0o755) != nil {
		return
	}
	keep := func(digest string, open func() (io.ReadCloser, error)) {
		if info, err := os.Stat(r.State.Text(digest)); err == nil && (info.Size() > 1<<20 || r.State.ReadText(digest) != nil) {
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
				_ = os.Rename(part, r.State.Text(digest)) // as the comment says
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

// Kept files are looked through once they take that much, and half as much again as after the last time.
const textsEnough = 64 << 20

// sweepTexts removes kept files that no record of a build names any more.
func (e *Engine) sweepTexts() (list []Leftover) {
	dir := e.State.In("texts")
	memory := e.State.In("texts-swept")
	last, _ := os.ReadFile(memory)                     // none: it is the first time
	after, _ := strconv.ParseInt(string(last), 10, 64) // as above
	if state.Usage(dir) < max(textsEnough, after+after/2) {
		return nil
	}
	named := map[string]bool{}
	form := regexp.MustCompile(`[0-9a-f]{64}`)
	for _, name := range slices.Concat(e.State.Find("builds/*/"+record.File), e.State.Find("builds/*/"+record.PendingFile)) {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil // what it names is not known
		}
		for _, digest := range form.FindAll(text, -1) {
			named[string(digest)] = true
		}
	}
	entries, _ := os.ReadDir(dir) // no folder, nothing to sweep
	for _, entry := range entries {
		name := filepath.Join(dir, entry.Name())
		if bytes := state.Usage(name); !named[entry.Name()] && os.Remove(name) == nil {
			list = append(list, Leftover{"file that no build's record names", entry.Name(), bytes})
		}
	}
	_ = os.WriteFile(memory, fmt.Append(nil, state.Usage(dir)), 0o644) // without it, it is looked through again
	return list
}
