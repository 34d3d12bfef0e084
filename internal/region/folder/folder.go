// Package folder is the kind of region that is a folder: IMAGE/VERSION/FILE below it.
package folder

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/flock"
	"zygos/internal/region"
	"zygos/internal/store"
)

// Kind is the line in the table of kinds.
var Kind = region.Kind{Name: "folder", Can: []string{"name"},
	Read: func(name string, v definition.Values) any {
		path, _ := v.Must("path", "regions/"+name)
		mark := v.Bool("mark")
		if path == "" {
			return nil
		}
		return Settings{path, mark}
	},
	Open: func(r *definition.Region, path func(string) string) region.Region {
		s := r.Settings.(Settings)
		return folder{name: r.Name, dir: path(s.Path), marked: s.Mark}
	},
	Where: func(s any) string { return s.(Settings).Path },
}

// Settings are what zygos.toml says of one.
type Settings struct {
	Path string
	Mark bool // use it only where a marker lies
}

// folder is an opened region.
type folder struct {
	name, dir string
	marked    bool
}

// markName is the file that says that this is the region's place, and not the empty folder that something else is mounted on.
const markName = ".zygos-region"

// UnmarkedError says that a folder is not the one that it is taken for.
type UnmarkedError struct{ Region, Dir, Why string }

func (e *UnmarkedError) Error() string {
	return fmt.Sprintf("%s is not known to be the place of region %s: %s. If it should be mounted, mount it; if it is the right one: "+
		"zygos regions --mark %s", e.Dir, e.Region, e.Why, e.Region)
}

// makeDirs makes folders that hosts can read, whatever the mask of this process is.
func makeDirs(dir string, mode os.FileMode) error {
	var made []string
	for at := filepath.Clean(dir); ; at = filepath.Dir(at) {
		if _, err := os.Lstat(at); err == nil || at == filepath.Dir(at) {
			break
		}
		made = append(made, at)
	}
	for i := len(made) - 1; i >= 0; i-- {
		if err := os.Mkdir(made[i], mode|0o700); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		} else if err == nil {
			if err := os.Chmod(made[i], mode); err != nil {
				return err
			}
		}
	}
	return os.MkdirAll(dir, mode) // says what is wrong, if anything is
}

// ready makes sure that the folder is the right one.
func (f folder) ready() error {
	if !f.marked {
		return nil
	}
	text, err := os.ReadFile(filepath.Join(f.dir, markName))
	switch {
	case errors.Is(err, os.ErrNotExist):
		return &UnmarkedError{f.name, f.dir, "no marker lies there"}
	case err != nil:
		return err
	case strings.TrimSpace(string(text)) != f.name:
		return &UnmarkedError{f.name, f.dir, fmt.Sprintf("its marker is that of %q", strings.TrimSpace(string(text)))}
	}
	return nil
}

// Mark says that the folder is the region's place.
func (f folder) Mark(context.Context) error {
	if !f.marked {
		return fmt.Errorf("region %s does not ask for a marker; add mark = true to [region.%s] in zygos.toml", f.name, f.name)
	}
	if err := makeDirs(f.dir, 0o755); err != nil {
		return err
	}
	return store.WriteFile(filepath.Join(f.dir, markName), []byte(f.name+"\n"))
}

func (f folder) Place(ctx context.Context, item region.Item, told region.Told) (region.Placed, error) {
	if err := f.ready(); err != nil {
		return region.Placed{}, err
	}
	dir := filepath.Join(f.dir, item.Image, item.Version)
	p := region.Placed{ID: region.ID(f.name, item), Location: filepath.Join(dir, item.File), By: artifact.ByContent}
	want := store.Blob{Digest: item.Digest, Bytes: item.Bytes}
	if err := makeDirs(dir, 0o755); err != nil {
		return p, err
	}
	part, err := flock.Claim(ctx, filepath.Join(dir, partPrefix+item.File))
	if err != nil {
		return p, err
	}
	defer part.Close() // and with it the lock of the name
	info, err := os.Stat(p.Location)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return p, err
	}
	if err == nil && info.Size() == item.Bytes {
		got, err := store.Digest(ctx, p.Location, func(n int64) { told(region.Verifying, n) })
		if err != nil || got == want {
			return p, errors.Join(err, os.Remove(part.Name()))
		}
	}
	if err := f.copy(ctx, part, item, told); err != nil {
		if had, e := part.Stat(); e != nil || had.Size() == 0 || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
			_ = os.Remove(part.Name()) // there is nothing to go on with, or no room for it
		}
		return p, &region.Absent{Err: err}
	}
	if err := os.Rename(part.Name(), p.Location); err != nil {
		return p, err
	}
	p.Copied = true
	return p, store.SyncDir(dir)
}

// copy fills a file under its temporary name, and verifies it. What an earlier try left there is gone on with, and if it was no
// part of this, all is copied anew.
func (f folder) copy(ctx context.Context, part *os.File, item region.Item, told region.Told) error {
	info, err := part.Stat()
	if err != nil {
		return err
	}
	want := store.Blob{Digest: item.Digest, Bytes: item.Bytes}
	got, err := f.fill(ctx, part, item, told)
	if err == nil && got != want && info.Size() > 0 {
		if err = part.Truncate(0); err == nil {
			told(region.Copying, -item.Bytes)
			got, err = f.fill(ctx, part, item, told)
		}
	}
	if err == nil && got != want {
		err = fmt.Errorf("the copy of %s has the digest %s instead of %s; the artifact in the store or the disk of the region is damaged",
			item.File, got.Digest, want.Digest)
		_ = part.Truncate(0) // the caller takes it away
	}
	return err
}

// fill brings what a file lacks, and says what the medium has then.
func (f folder) fill(ctx context.Context, part *os.File, item region.Item, told region.Told) (store.Blob, error) {
	behind := follow(ctx, part.Name())
	err := copyFile(ctx, part, item, told, behind.until)
	if err == nil {
		told(region.Verifying, 0)
	} else {
		err = fmt.Errorf("copy %s: %w", item.File, err)
	}
	got, wrong := behind.end()
	if err = errors.Join(err, wrong); err == nil {
		err = errors.Join(part.Chmod(0o644), part.Sync())
	}
	return got, err
}

// follower reads a file from its medium, behind whoever writes it.
type follower struct {
	until chan<- int64 // takes to where it is written
	done  chan struct{}
	got   store.Blob
	err   error
}

func follow(ctx context.Context, name string) *follower {
	until := make(chan int64, 64)
	f := &follower{until: until, done: make(chan struct{})}
	go func() {
		defer close(f.done)
		f.got, f.err = digestBehind(ctx, name, until)
		for range until { // whoever writes is not held up
		}
	}()
	return f
}

func (f *follower) end() (store.Blob, error) {
	close(f.until)
	<-f.done
	return f.got, f.err
}

// written waits until what is to be written is (sync_file_range(2)).
const written = unix.SYNC_FILE_RANGE_WAIT_BEFORE | unix.SYNC_FILE_RANGE_WRITE | unix.SYNC_FILE_RANGE_WAIT_AFTER

// digestBehind is the digest of a file as it lies on its disk, read as far as it is written.
func digestBehind(ctx context.Context, name string, until <-chan int64) (b store.Blob, err error) {
	file, err := os.Open(name)
	if err != nil {
		return b, err
	}
	defer file.Close()
	hash, buf, fd := sha256.New(), make([]byte, 1<<20), int(file.Fd())
	for to := range until {
		// Some file systems know neither of these: then it is read from memory.
		_ = unix.SyncFileRange(fd, b.Bytes, to-b.Bytes, written)
		_ = unix.Fadvise(fd, b.Bytes, to-b.Bytes, unix.FADV_DONTNEED)
		for b.Bytes < to {
			n, err := file.Read(buf[:min(int64(len(buf)), to-b.Bytes)])
			hash.Write(buf[:n])
			b.Bytes += int64(n)
			if err = cmp.Or(ctx.Err(), err); err != nil {
				return b, err
			}
		}
	}
	b.Digest = digest.From(hash)
	return b, nil
}

// fromMedium is the digest of a file as it lies on its disk, and not as the kernel remembers what was written to it.
func fromMedium(ctx context.Context, name string) (store.Blob, error) {
	if file, err := os.Open(name); err == nil {
		_ = unix.Fadvise(int(file.Fd()), 0, 0, unix.FADV_DONTNEED) // some file systems have no such memory
		file.Close()
	}
	return store.Digest(ctx, name, nil)
}

const partPrefix = ".part-" // of temporary names

// sweep removes temporary files that killed processes left for any version of an image. One that
// somebody is writing is locked and stays.
func sweep(imageDir string) (removed []string) {
	left, _ := filepath.Glob(filepath.Join(imageDir, "*", partPrefix+"*")) // a path that is no pattern has no leftovers to find
	for _, name := range left {
		f, err := os.Open(name)
		if err != nil {
			continue
		}
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			// The name may be another file's by now, which somebody writes.
			if same, err := flock.Names(f, name); err == nil && same && os.Remove(name) == nil { // else tried again next time
				removed = append(removed, name)
			}
		}
		f.Close()
	}
	return removed
}

// copyFile copies a file's data and keeps its holes.
func copyFile(ctx context.Context, to *os.File, item region.Item, told region.Told, until chan<- int64) error {
	from, err := item.Open(ctx)
	if err != nil {
		return err
	}
	defer from.Close()
	info, err := to.Stat()
	if err != nil {
		return err
	}
	at := info.Size() // an earlier try came so far
	if at > item.Bytes {
		at = 0
		if err := to.Truncate(0); err != nil {
			return err
		}
	}
	told(region.Copying, at)
	for at < item.Bytes {
		data, hole, err := from.Data(at)
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		told(region.Copying, data-at)
		if at, err = copyRange(ctx, to, from, data, min(hole, item.Bytes), told, until); err != nil {
			return err
		}
	}
	told(region.Copying, item.Bytes-at)
	err = to.Truncate(item.Bytes)
	if err == nil {
		until <- item.Bytes
	}
	return err
}

// copyRange copies in pieces, so that a cancel is heard. Of a file the kernel does it.
func copyRange(ctx context.Context, to *os.File, from region.Content, at, end int64, told region.Told,
	until chan<- int64) (int64, error) {
	const piece = 8 << 20
	for at < end {
		if err := ctx.Err(); err != nil {
			return at, err
		}
		if _, err := to.Seek(at, io.SeekStart); err != nil {
			return at, err
		}
		var in io.Reader = io.NewSectionReader(from, at, end-at)
		if f, ok := from.(*region.File); ok {
			if _, err := f.Seek(at, io.SeekStart); err != nil {
				return at, err
			}
			in = f.File
		}
		n, err := io.CopyN(to, in, min(piece, end-at))
		if err != nil {
			return at, err
		}
		_ = unix.SyncFileRange(int(to.Fd()), at, n, unix.SYNC_FILE_RANGE_WRITE) // begins to write; the end of all waits for it
		at += n
		until <- at
		told(region.Copying, n)
	}
	return at, nil
}

// Remove also takes away the version's folder and its documents when no artifact is left in it.
func (f folder) Remove(_ context.Context, location string) error {
	if err := f.ready(); err != nil {
		return err
	}
	dir := filepath.Dir(location)
	if rel, err := filepath.Rel(f.dir, dir); err != nil || !filepath.IsLocal(rel) || rel == "." {
		return fmt.Errorf("%s does not lie in region %s, %s", location, f.name, f.dir)
	}
	if err := os.Remove(location); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	} else if err == nil { // for good, before anybody forgets that it was there
		if err := store.SyncDir(dir); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if filepath.Ext(e.Name()) != ".json" {
			return err // another artifact
		}
	}
	if err := errors.Join(err, os.RemoveAll(dir)); err != nil {
		return err
	}
	return store.SyncDir(filepath.Dir(dir))
}

// near is a location as it is on this machine, which may have the folder under another path.
func (f folder) near(location string) string {
	if _, err := os.Stat(location); err == nil {
		return location
	}
	version, file := filepath.Split(filepath.Clean(location))
	image, version := filepath.Split(filepath.Clean(version))
	rel := filepath.Join(filepath.Base(image), version, file)
	if !filepath.IsLocal(rel) {
		rel = "no place" // which nothing has
	}
	return filepath.Join(f.dir, rel)
}

func (f folder) Fetch(_ context.Context, location string, from int64) (io.ReadCloser, error) {
	if err := f.ready(); err != nil {
		return nil, err
	}
	file, err := os.Open(f.near(location))
	if err != nil {
		return nil, err
	}
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

func (f folder) Stat(_ context.Context, location string) (int64, digest.Digest, error) {
	if err := f.ready(); err != nil {
		return 0, digest.Digest{}, err
	}
	info, err := os.Stat(f.near(location))
	switch {
	case errors.Is(err, os.ErrNotExist):
		return 0, digest.Digest{}, region.Missing("there is no file %s", location)
	case err != nil:
		return 0, digest.Digest{}, err
	case !info.Mode().IsRegular():
		return 0, digest.Digest{}, region.Missing("%s is no file", location)
	}
	return info.Size(), digest.Digest{}, nil
}

func (f folder) Verify(ctx context.Context, location string, want digest.Digest) error {
	if err := f.ready(); err != nil {
		return err
	}
	got, err := fromMedium(ctx, f.near(location))
	switch {
	case errors.Is(err, os.ErrNotExist):
		return &region.Absent{Err: err}
	case err == nil && got.Digest != want:
		return region.Missing("%s has the digest %s instead of %s", location, got.Digest, want)
	}
	return err
}

func (f folder) List(context.Context) (list []string, err error) {
	if err := f.ready(); err != nil {
		return nil, err
	}
	all, err := filepath.Glob(filepath.Join(definition.EscapeGlob(f.dir), "*", "*", "*"))
	for _, name := range all {
		if filepath.Ext(name) != ".json" && !strings.HasPrefix(filepath.Base(name), partPrefix) {
			list = append(list, name)
		}
	}
	return list, err
}

func (f folder) Sweep(context.Context) (removed []string, err error) {
	if f.ready() != nil {
		return nil, nil // it is not there
	}
	dirs, err := filepath.Glob(filepath.Join(definition.EscapeGlob(f.dir), "*"))
	for _, dir := range dirs {
		removed = append(removed, sweep(dir)...)
	}
	return removed, err
}
