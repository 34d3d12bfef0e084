// Package base brings a base's root archive into the state: it tries the candidates in order,
// downloads what is remote, verifies the checksum while it reads, and unpacks into a layer.
package base

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/layer"
	"zygos/internal/store"
)

// Importer brings bases into a state.
type Importer struct {
	Root      string // workspace, for relative paths
	Store     *store.Store
	Layers    *layer.Store
	Downloads string // folder for unfinished downloads
	Temp      string // folder for unfinished layers
	// Progress is told how many bytes of how many were read; total is -1 if not known.
	Progress func(doing string, done, total int64)
}

// MismatchError says that an archive is not the one that was pinned, or that its feed lists.
type MismatchError struct {
	Base, From string
	Want, Got  digest.Digest
	Listed     string // by that feed, "" for one that is pinned
}

// Mismatch is that of a base.
func Mismatch(b *definition.Base, from string, got digest.Digest) *MismatchError {
	e := &MismatchError{Base: b.Name, From: from, Want: b.SHA256, Got: got}
	if b.Feed != nil {
		e.Listed = b.Feed.At
	}
	return e
}

func (e *MismatchError) Error() string {
	if e.Listed != "" {
		return fmt.Sprintf("base %s: %s is not the file that its feed, %s, lists\n  listed sha256 %s\n  found  sha256 %s\n"+
			"Nothing was kept. Its publisher may be about to replace it: try again later, or hold an earlier one with pinned = \"…\" "+
			"in [base.%s]; if it stays so, somebody changed the file.", e.Base, e.From, e.Listed, e.Want.Hex(), e.Got.Hex(), e.Base)
	}
	return fmt.Sprintf("base %s: %s is not the archive that zygos.toml pins\n  expected sha256 %s\n  found    sha256 %s\n"+
		"Nothing was kept. If the new content is wanted, write the found digest into [base.%s]; if not, somebody changed the file.", e.Base,
		e.From, e.Want.Hex(), e.Got.Hex(), e.Base)
}

// ArchiveError says that an archive is what was pinned and cannot be used.
type ArchiveError struct {
	Base, From string
	Err        error
}

func (e *ArchiveError) Error() string {
	return fmt.Sprintf("base %s: %s cannot be used: %v. Nothing was kept; replace the archive by a sound one", e.Base, e.From, e.Err)
}
func (e *ArchiveError) Unwrap() error { return e.Err }

// Key is the snapshot key of a base's layer: its file, its kind, and what the definition says of how it is read.
func Key(b *definition.Base) string {
	of := "zygos base 2\n" + b.SHA256.Hex()
	if b.Key != "" {
		of += "\n" + b.Kind + "\n" + b.Key
	}
	sum := sha256.Sum256([]byte(of))
	return hex.EncodeToString(sum[:])
}

// State of a base, in words.
const (
	Ready      = "ready"      // unpacked, builds start at once
	Downloaded = "downloaded" // its archive is in the store
	Present    = "present"    // its archive is a file at hand
	Remote     = "remote"     // to be downloaded
	Missing    = "missing"    // no candidate is at hand or remote
	Unasked    = "not asked"  // its feed was never asked, or listed none
)

// State says how far a base has come, and where its archive is or comes from.
func (im *Importer) State(b *definition.Base) (state, where string) {
	if b.SHA256.IsZero() {
		return Unasked, b.Feed.At
	}
	if im.Layers.Peek(Key(b)) != nil {
		return Ready, im.first(b)
	}
	if _, err := os.Stat(im.Store.Path(b.SHA256)); err == nil {
		return Downloaded, im.first(b)
	}
	remote := ""
	for _, from := range b.From {
		if isRemote(from) {
			if remote == "" {
				remote = from
			}
		} else if _, err := os.Stat(im.path(from)); err == nil {
			return Present, from
		}
	}
	if remote != "" {
		return Remote, remote
	}
	return Missing, im.first(b)
}

func (im *Importer) first(b *definition.Base) string {
	if len(b.From) == 0 {
		return ""
	}
	return b.From[0]
}

func isRemote(from string) bool { return strings.Contains(from, "://") }

func (im *Importer) path(from string) string {
	if filepath.IsAbs(from) {
		return from
	}
	return filepath.Join(im.Root, from)
}

// Ensure makes the base a layer, unless it is one already. A candidate that cannot be had is
// passed over; one with another content than pinned stops.
func (im *Importer) Ensure(ctx context.Context, b *definition.Base) (*layer.Snapshot, error) {
	if snap := im.Layers.Find(ctx, Key(b)); snap != nil {
		return snap, nil
	}
	file, from, err := im.Archive(ctx, b)
	if err != nil {
		return nil, err
	}
	return im.unpack(ctx, b, file, from)
}

// Archive returns the first candidate at hand as a file, downloading it where it must. A remote
// one has been verified; a local one is verified when it is read.
func (im *Importer) Archive(ctx context.Context, b *definition.Base) (file, from string, err error) {
	whole := find(b.Kind).Whole
	if stored := im.Store.Path(b.SHA256); exists(stored) && (whole == nil || whole(stored, b.Settings)) {
		return stored, im.first(b), nil
	}
	var tried []string
	for _, from := range b.From {
		if isRemote(from) {
			if fetch := transport(from); fetch != nil {
				err = fetch(ctx, im, b, from)
			} else {
				err = im.download(ctx, b, from)
			}
			file = im.Store.Path(b.SHA256)
		} else {
			file = im.path(from)
			_, err = os.Stat(file)
		}
		var mismatch *MismatchError
		if err == nil || errors.As(err, &mismatch) || ctx.Err() != nil {
			return file, from, err
		}
		tried = append(tried, fmt.Sprintf("  %s: %v", from, reason(err)))
	}
	do := fmt.Sprintf("Correct [base.%s] from = […], or put the archive in one of them", b.Name)
	if b.Feed != nil {
		do = fmt.Sprintf("Its feed, %s, listed it there. 'zygos bases --refresh %s' asks what it lists now", b.Feed.At, b.Name)
	}
	return "", "", fmt.Errorf("base %s could not be had from any of its places:\n%s\n%s", b.Name, strings.Join(tried, "\n"), do)
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}

// reason is an error without the path that is named beside it anyway.
func reason(err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

// unpack turns an archive into a layer; on any error nothing stays.
func (im *Importer) unpack(ctx context.Context, b *definition.Base, file, from string) (*layer.Snapshot, error) {
	began := time.Now()
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	dir, err := im.Layers.Begin(im.Temp)
	if err != nil {
		return nil, err
	}
	kept := false
	defer func() {
		if !kept {
			_ = layer.RemoveAll(dir) // what stays is swept by the next build
		}
	}()
	hash := sha256.New()
	counted := &meter{r: in, total: info.Size(), stop: ctx, tell: func(done, total int64) { im.Progress("unpack base "+b.Name, done, total) }}
	raw := io.TeeReader(counted, hash)
	x, bad := im.read(ctx, b, raw, in, dir)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if _, err := bounded.Copy(ctx, io.Discard, raw, from, math.MaxInt64); err != nil {
		return nil, errors.Join(ctx.Err(), err)
	}
	if got := digest.From(hash); got != b.SHA256 {
		return nil, Mismatch(b, from, got)
	}
	if errors.Is(bad, unix.ENOSPC) {
		return nil, fmt.Errorf("unpack base %s: %w; make room on the disk of %s and run the command again", b.Name, bad, im.Layers.Dir)
	}
	if bad != nil {
		return nil, &ArchiveError{b.Name, from, bad}
	}
	digest, err := im.Layers.Commit(dir, x)
	if err != nil {
		return nil, err
	}
	kept = true
	snap := layer.Snapshot{Key: Key(b), Layer: digest, Bytes: x.Bytes(), Created: began.UTC(), Took: time.Since(began), Epoch: newest(x)}
	return &snap, im.Layers.Remember(snap)
}

func (im *Importer) read(ctx context.Context, b *definition.Base, in io.Reader, file *os.File, dir string) (layer.Index, error) {
	limits := layer.DefaultLimits
	var fs unix.Statfs_t
	if err := unix.Statfs(dir, &fs); err == nil {
		limits.Bytes = int64(fs.Bavail) * fs.Bsize
	}
	return find(b.Kind).Unpack(ctx, in, file, b.Settings, layer.Folder{Dir: filepath.Join(dir, "tree"), Owners: im.Layers.Owners}, limits)
}

// First bytes of compressed streams (RFC 1952; RFC 8878; The .xz File Format 1.1.0).
var gzipMark, zstdMark, xzMark = []byte{0x1f, 0x8b}, []byte{0x28, 0xb5, 0x2f, 0xfd}, []byte("\xfd7zXZ\x00")

const mostWindow = 128 << 20 // bytes of memory that a compressed stream may ask for

// decompress recognises the compression by its first bytes.
func decompress(r io.Reader) (plain io.Reader, done func(), err error) {
	in := bufio.NewReaderSize(r, 1<<18)
	head, _ := in.Peek(6) // a shorter file has none of the magic numbers
	done = func() {}
	switch {
	case bytes.HasPrefix(head, gzipMark):
		plain, err = gzip.NewReader(in)
	case bytes.HasPrefix(head, zstdMark):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(in, zstd.WithDecoderMaxWindow(mostWindow)); err == nil {
			plain, done = z, z.Close
		}
	case bytes.HasPrefix(head, xzMark):
		plain = &xzReader{in: in}
	default:
		plain = in
	}
	if err != nil {
		err = fmt.Errorf("decompress: %w", err)
	}
	return plain, done, err
}

// newest is the latest time in a tree, which builds on it do not exceed.
func newest(x layer.Index) (epoch int64) {
	for i := range x {
		epoch = max(epoch, x[i].MTime)
	}
	return epoch
}

// meter tells how far a reader has come.
type meter struct {
	stop        context.Context
	r           io.Reader
	done, total int64
	tell        func(done, total int64)
}

func (m *meter) Read(p []byte) (int, error) {
	if err := m.stop.Err(); err != nil {
		return 0, err
	}
	n, err := m.r.Read(p)
	m.done += int64(n)
	m.tell(m.done, m.total)
	return n, err
}
