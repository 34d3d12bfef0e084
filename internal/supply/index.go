package supply

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/manifest"
	"zygos/internal/region"
)

// Index reads a region's index from a file, or from a server.
func Index(ctx context.Context, from string) (*manifest.Index, error) {
	const most = 256 << 20
	in, err := Open(ctx, from)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return ParseIndex(io.LimitReader(in, most), from)
}

// ParseIndex reads a region's index; from is where it is from.
func ParseIndex(in io.Reader, from string) (*manifest.Index, error) {
	var x manifest.Index
	if err := json.NewDecoder(in).Decode(&x); err != nil {
		return nil, fmt.Errorf("%s is no index of a region: %w", from, err)
	}
	if x.Schema != manifest.IndexSchema {
		return nil, fmt.Errorf("%s is no index of a region: its schema is %q, and not %s", from, x.Schema, manifest.IndexSchema)
	}
	return &x, nil
}

// remote says whether a name is that of something on a server.
func remote(name string) bool {
	return strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://")
}

// Open opens a file, or what a server has.
func Open(ctx context.Context, from string) (io.ReadCloser, error) {
	in, _, err := open(ctx, http.MethodGet, from)
	return in, err
}

// open opens a file or what a server has, and says how many bytes that is, -1 if nobody knows.
func open(ctx context.Context, method, from string) (io.ReadCloser, int64, error) {
	if !remote(from) {
		file, err := os.Open(from)
		if err != nil {
			return nil, 0, err
		}
		info, err := file.Stat()
		if err != nil {
			return nil, 0, errors.Join(err, file.Close())
		}
		return file, info.Size(), nil
	}
	ask, err := http.NewRequestWithContext(ctx, method, from, nil)
	if err != nil {
		return nil, 0, err
	}
	way, err := region.Transport("", nil)
	if err != nil {
		return nil, 0, err
	}
	answer, err := (&http.Client{Transport: way}).Do(ask)
	if err != nil {
		return nil, 0, cmp.Or(region.Unanswered(err), err)
	}
	if answer.StatusCode != http.StatusOK {
		err := fmt.Errorf("%s answers %s", from, answer.Status)
		if answer.StatusCode == http.StatusNotFound {
			err = &region.Absent{Err: err}
		}
		return nil, 0, errors.Join(err, answer.Body.Close())
	}
	return answer.Body, answer.ContentLength, nil
}

// Beside is the size of a file that lies below the place of an index, and, if all of it is to be read, its digest.
func Beside(ctx context.Context, index, name string, read bool) (bytes int64, d digest.Digest, err error) {
	method, at := http.MethodHead, definition.Beside(index, name)
	if read {
		method = http.MethodGet
	}
	in, bytes, err := open(ctx, method, at)
	if err != nil {
		return 0, d, err
	}
	defer in.Close()
	if !read {
		return bytes, d, nil
	}
	hash := sha256.New()
	bytes, err = io.Copy(hash, &ending{ctx, in})
	return bytes, digest.From(hash), err
}

// ending ends with its context.
type ending struct {
	ctx context.Context
	io.Reader
}

func (r *ending) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(p)
}
