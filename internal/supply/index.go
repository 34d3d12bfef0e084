package supply

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"zygos/internal/manifest"
	"zygos/internal/region"
)

// Index reads a region's index from a file, or from a server.
func Index(ctx context.Context, from string) (*manifest.Index, error) {
	const most = 256 << 20
	var in io.ReadCloser
	if strings.HasPrefix(from, "https://") || strings.HasPrefix(from, "http://") {
		ask, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
		if err != nil {
			return nil, err
		}
		way, err := region.Transport("", nil)
		if err != nil {
			return nil, err
		}
		answer, err := (&http.Client{Transport: way}).Do(ask)
		if err != nil {
			return nil, cmp.Or(region.Unanswered(err), err)
		}
		if in = answer.Body; answer.StatusCode != http.StatusOK {
			return nil, errors.Join(fmt.Errorf("%s answers %s", from, answer.Status), in.Close())
		}
	} else {
		file, err := os.Open(from)
		if err != nil {
			return nil, err
		}
		in = file
	}
	defer in.Close()
	var x manifest.Index
	if err := json.NewDecoder(io.LimitReader(in, most)).Decode(&x); err != nil {
		return nil, fmt.Errorf("%s is no index of a region: %w", from, err)
	}
	if x.Schema != manifest.IndexSchema {
		return nil, fmt.Errorf("%s is no index of a region: its schema is %q, and not %s", from, x.Schema, manifest.IndexSchema)
	}
	return &x, nil
}
