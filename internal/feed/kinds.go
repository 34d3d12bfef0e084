package feed

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"zygos/internal/base"
	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/manifest"
	"zygos/internal/region"
	"zygos/internal/session"
	"zygos/internal/supply"
)

// kinds says how the releases of a feed are found, newest or oldest first.
var kinds = map[definition.FeedKind]func(context.Context, *session.Session, *definition.Base, *signer) ([]definition.Release, error){
	definition.Listing: listing, definition.Index: index, definition.Registry: registry}

const (
	mostListing = bounded.Listing
	mostTags    = 100_000
)

// read reads a document, at most so many bytes of it.
func read(ctx context.Context, s *session.Session, at string, most int64) ([]byte, error) {
	in, err := open(ctx, s, at)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return whole(ctx, in, at, most)
}

// open opens a document.
func open(ctx context.Context, s *session.Session, at string) (io.ReadCloser, error) {
	from := at
	if !strings.Contains(at, "://") {
		from = s.Path(at)
	}
	in, err := supply.Open(ctx, from)
	if err != nil {
		if path := (*os.PathError)(nil); errors.As(err, &path) {
			err = fmt.Errorf("%s: %w", at, path.Err)
		}
		return nil, &UnheardError{err}
	}
	return in, nil
}

// whole reads all of a document.
func whole(ctx context.Context, in io.Reader, at string, most int64) ([]byte, error) {
	text, err := bounded.All(ctx, in, at, most)
	var large *bounded.TooLargeError
	if err != nil && !errors.As(err, &large) {
		err = &UnheardError{cmp.Or(region.Unanswered(err), err)}
	}
	return text, err
}

// sum is a line of sha256sum, with or without its option --tag.
var sum = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:([0-9a-fA-F]{64}) [ *](.+)|SHA256 \((.+)\) = ([0-9a-fA-F]{64}))$`)
})

// listing reads a file of checksums, as sha256sum writes it.
func listing(ctx context.Context, s *session.Session, b *definition.Base, by *signer) ([]definition.Release, error) {
	at := b.Feed.Listing()
	text, err := read(ctx, s, at, mostListing)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) || errors.Is(err, region.ErrAbsent) {
			err = &UnheardError{fmt.Errorf("%w; it is made by 'sha256sum FILES > SHA256SUMS' there, or feed names another file", err)}
		}
		return nil, err
	}
	if !bytes.Contains(text, []byte("\n")) || !sumIn(text) { // a page that asks for a login, say, and no listing that anybody has signed
		return nil, &UnheardError{fmt.Errorf("%s is no listing of SHA-256 checksums", at)}
	}
	if text, err = by.open(ctx, s, at, text); err != nil {
		return nil, err
	}
	return releases(b, at, text)
}

// releases are those of a listing's lines.
func releases(b *definition.Base, at string, text []byte) (list []definition.Release, err error) {
	for line := range strings.Lines(string(text)) {
		m := sum().FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if m == nil {
			continue
		}
		name := strings.TrimPrefix(m[2]+m[3], "./")
		if release := b.Feed.ReleaseOf(name); release != "" {
			d, err := digest.Parse(m[1] + m[4])
			if err != nil {
				return nil, err
			}
			list = append(list, definition.Release{Release: release, From: definition.Beside(at, name), SHA256: d})
		}
	}
	return list, nil
}

// sumIn says whether a text has a line with a checksum.
func sumIn(text []byte) bool {
	for line := range bytes.Lines(text) {
		if sum().Match(bytes.TrimRight(line, "\r\n")) {
			return true
		}
	}
	return false
}

// index reads that of a region, in which the versions of another workspace's image are.
func index(ctx context.Context, s *session.Session, b *definition.Base, by *signer) ([]definition.Release, error) {
	f := b.Feed
	in, err := open(ctx, s, f.At)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	content := bufio.NewReader(in)
	var signed io.Reader = content
	if head, _ := content.Peek(5); by.file != "" || string(head) == "-----" { // the signature is of the whole
		text, err := whole(ctx, content, f.At, mostListing)
		if err == nil {
			text, err = by.open(ctx, s, f.At, text)
		}
		if err != nil {
			return nil, err
		}
		signed = bytes.NewReader(text)
	}
	var list []definition.Release
	images, had := map[string]bool{}, map[string]bool{}
	take := func(v *manifest.Version) {
		if len(images) < 1000 { // they are only told
			images[v.Image] = true
		}
		if v.Image != f.File {
			return
		}
		images[v.Image] = true
		for _, a := range v.Artifacts {
			had[strings.TrimPrefix(a.Variant+" "+a.Format, " ")] = true
			name := path.Join(v.Image, v.Version, path.Base(a.Location))
			if a.Format != f.Format || a.Variant != f.Variant || a.Digest.IsZero() || !filepath.IsLocal(name) {
				continue
			}
			list = append(list, definition.Release{Release: v.Version, From: definition.Beside(f.At, name), SHA256: a.Digest, Recall: recall(v)})
			break // of several of one format the first
		}
	}
	if _, err := manifest.ReadIndex(ctx, signed, f.At, take); err != nil {
		return nil, &UnheardError{err}
	}
	switch {
	case !images[f.File]:
		return nil, fmt.Errorf("%s speaks of no image %s; %s", f.At, f.File, known("it has", images))
	case len(list) == 0:
		return nil, fmt.Errorf("%s has no artifact of %s that is a %s; %s. Say which with variant and format", f.At, f.File,
			strings.TrimPrefix(f.Variant+" "+f.Format, " "), known("it has", had))
	}
	return list, nil
}

// recall is why a version is recalled now, "" if it is not.
func recall(v *manifest.Version) string {
	if v.Recall == nil {
		return ""
	}
	if since, err := time.Parse(time.RFC3339, v.Recall.Since); err == nil && time.Now().Before(since) {
		return ""
	}
	return cmp.Or(v.Recall.Why, "no reason is told")
}

// registry lists the tags of a repository (OCI Distribution Specification 1.1), and asks for the digest of the one to take.
func registry(ctx context.Context, s *session.Session, b *definition.Base, _ *signer) ([]definition.Release, error) {
	repo, err := base.Repository(s.Root, b, b.Feed.At)
	if err != nil {
		return nil, err
	}
	var list []definition.Release
	pages := bounded.Pages{What: "the list of tags of " + b.Feed.At}
	err = repo.Tags(ctx, "", func(tags []string) error {
		end := ""
		if len(tags) > 0 {
			end = tags[len(tags)-1]
		}
		if err := pages.Next(len(tags), end); err != nil {
			return err
		}
		for _, tag := range tags {
			if b.Feed.Means(tag) || tag == b.Feed.Pinned {
				list = append(list, definition.Release{Release: tag, From: b.Feed.At + ":" + tag})
			}
		}
		if len(list) > mostTags {
			return fmt.Errorf("%s has more than %d tags", b.Feed.At, mostTags)
		}
		return nil
	})
	if take, _ := b.Feed.Choose(list); err == nil && take != nil {
		d, e := repo.Resolve(ctx, take.Release)
		if err = e; err == nil {
			take.SHA256, err = digest.Parse(d.Digest.String())
		}
	}
	if err != nil {
		err = &UnheardError{cmp.Or(region.Unanswered(err), err)}
	}
	return list, err
}

// known tells what there is instead.
func known(what string, names map[string]bool) string {
	if len(names) == 0 {
		return "it has none"
	}
	return what + " " + strings.Join(slices.Sorted(maps.Keys(names)), ", ")
}
