package supply

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/manifest"
	"zygos/internal/region"
	"zygos/internal/remote"
)

// Index reads a region's index from a file, or from a server, and gives each version to take. It returns the region's name.
func Index(ctx context.Context, from string, take func(*manifest.Version)) (region string, err error) {
	in, err := Open(ctx, from)
	if err != nil {
		return "", err
	}
	defer in.Close()
	return manifest.ReadIndex(ctx, in, from, take)
}

// isRemote says whether a name is that of something on a server.
func isRemote(name string) bool {
	return strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://")
}

// Open opens a file, or what a server has.
func Open(ctx context.Context, from string) (io.ReadCloser, error) {
	in, _, err := open(ctx, http.MethodGet, from)
	return in, err
}

// open opens a file or what a server has, and says how many bytes that is, -1 if nobody knows.
func open(ctx context.Context, method, from string) (io.ReadCloser, int64, error) {
	if !isRemote(from) {
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
	client, err := remote.Client(remote.Options{Home: ask.URL})
	if err != nil {
		return nil, 0, err
	}
	answer, err := client.Do(ask)
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

// Beside is the size of a file that lies below the place of an index and has at most so many bytes and, if all of it is to be read, its
// digest.
func Beside(ctx context.Context, index, name string, most int64, read bool) (bytes int64, d digest.Digest, err error) {
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
	bytes, err = bounded.Copy(ctx, hash, in, at, most)
	return bytes, digest.From(hash), err
}
