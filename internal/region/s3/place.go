package s3

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/minio/minio-go/v7"

	"zygos/internal/artifact"
	"zygos/internal/bounded"
	"zygos/internal/region"
)

func (b *bucket) Place(ctx context.Context, item region.Item, told region.Told) (region.Placed, error) {
	key := path.Join(b.prefix, item.Image, item.Version, item.File)
	p := region.Placed{ID: region.ID(b.name, item), Location: b.location(key)}
	if b.broken != nil {
		return p, b.broken
	}
	size, got, err := b.Stat(ctx, p.Location)
	if err == nil && size == item.Bytes && got == item.Digest {
		told(region.Verifying, item.Bytes)
		if p.By = artifact.BySize; item.Known {
			return p, nil
		}
		if p.By, err = b.verify(ctx, key, &item, ""); !errors.Is(err, region.ErrAbsent) {
			return p, err
		}
		told(region.Verifying, -item.Bytes) // it claims to be what it is not
	}
	if err != nil && !errors.Is(err, region.ErrAbsent) {
		return p, err
	}
	for range 2 {
		var sum string
		if sum, err = b.upload(ctx, key, &item, told); err != nil {
			return p, fmt.Errorf("copy %s: %w", item.File, err)
		}
		p.Copied = true
		told(region.Verifying, 0)
		size, got, err = b.Stat(ctx, p.Location)
		if err == nil && (size != item.Bytes || got != item.Digest) {
			err = region.Missing("%s holds something else than was sent", p.Location)
		}
		if err == nil {
			p.By, err = b.verify(ctx, key, &item, sum)
		}
		if !errors.Is(err, region.ErrAbsent) {
			break
		}
		// An upload that something else began under this name was ended: once more, from the beginning.
		if e := b.core.RemoveObject(ctx, b.bucket, key, minio.RemoveObjectOptions{}); e != nil && !missing(e) {
			return p, errors.Join(err, b.again(e))
		}
		told(region.Copying, -item.Bytes)
	}
	return p, err
}

// verify makes sure that an object has the content that was sent, and says how: the store made the same digest of it (its ETag; S3 API,
// "Checking object integrity"), or gives it back so. Where objects are encrypted with keys, their ETags are no digests. sum is what the
// ETag should be, "" if that is not known.
func (b *bucket) verify(ctx context.Context, key string, item *region.Item, sum string) (by string, err error) {
	if sum == "" {
		if sum, err = sumOf(ctx, item); err != nil {
			return "", err
		}
	}
	info, err := b.core.StatObject(ctx, b.bucket, key, minio.StatObjectOptions{})
	if err != nil {
		return "", b.again(err)
	}
	if strings.Trim(info.ETag, `"`) == sum {
		return artifact.ByDigest, nil
	}
	return artifact.ByContent, region.VerifyByReading(ctx, b, b.location(key), item.Digest)
}

// sumOf is the ETag that a store gives an artifact which is uploaded as upload does.
func sumOf(ctx context.Context, item *region.Item) (string, error) {
	file, err := item.Open(ctx)
	if err != nil {
		return "", err
	}
	defer file.Close()
	var sums sums
	for at, size := int64(0), part(item.Bytes); at < item.Bytes || at == 0; at += size {
		hash := md5.New()
		if _, err := bounded.Copy(ctx, hash, io.NewSectionReader(file, at, size), item.File, size); err != nil {
			return "", err
		}
		sums = append(sums, hash.Sum(nil)...)
	}
	return sums.tag(), nil
}

// sums are the MD5 digests of parts, one after another.
type sums []byte

// tag is the ETag of an object that consists of the parts.
func (s sums) tag() string {
	all := md5.Sum(s)
	return fmt.Sprintf("%s-%d", hex.EncodeToString(all[:]), len(s)/md5.Size)
}

// part is how large the parts of a file are: all but the last are as large, and there are at most 10,000.
func part(bytes int64) int64 {
	const least, most = 16 << 20, 9_000
	size := int64(least)
	for size*most < bytes {
		size *= 2
	}
	return size
}

// upload sends a file in parts, and goes on with what an earlier try sent. It returns the ETag that the object should have.
func (b *bucket) upload(ctx context.Context, key string, item *region.Item, told region.Told) (tag string, err error) {
	file, err := item.Open(ctx)
	if err != nil {
		return "", err
	}
	defer file.Close()
	options, err := b.options(item)
	if err != nil {
		return "", err
	}
	id, sent, err := b.begun(ctx, key)
	if err == nil && id == "" {
		id, err = b.core.NewMultipartUpload(ctx, b.bucket, key, options)
	}
	if err != nil {
		return "", b.again(err)
	}
	var sums sums
	size := part(item.Bytes)
	var parts []minio.CompletePart
	buf := make([]byte, min(size, max(item.Bytes, 1)))
	for n, at := 1, int64(0); at < item.Bytes || n == 1; n, at = n+1, at+size {
		text := buf[:min(size, item.Bytes-at)]
		if _, err := file.ReadAt(text, at); err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		sum := md5.Sum(text) // what stores check parts with (S3 API, UploadPart)
		sums = append(sums, sum[:]...)
		if had, ok := sent[n]; ok && had.Size == int64(len(text)) && strings.Trim(had.ETag, `"`) == hex.EncodeToString(sum[:]) {
			parts = append(parts, minio.CompletePart{PartNumber: n, ETag: had.ETag})
			told(region.Copying, int64(len(text)))
			continue
		}
		done, err := b.core.PutObjectPart(ctx, b.bucket, key, id, n, bytes.NewReader(text), int64(len(text)), minio.PutObjectPartOptions{
			Md5Base64: base64.StdEncoding.EncodeToString(sum[:])})
		if err != nil {
			return "", b.again(err)
		}
		parts = append(parts, minio.CompletePart{PartNumber: n, ETag: done.ETag})
		told(region.Copying, int64(len(text)))
	}
	_, err = b.core.CompleteMultipartUpload(ctx, b.bucket, key, id, parts, options)
	if minio.ToErrorResponse(err).Code == "NoSuchUpload" { // another process ended it
		err = nil
	}
	return sums.tag(), b.again(err)
}

// begun finds an upload that was begun, and its parts by number.
func (b *bucket) begun(ctx context.Context, key string) (id string, parts map[int]minio.ObjectPart, err error) {
	list, err := b.core.ListMultipartUploads(ctx, b.bucket, key, "", "", "", perPage)
	if err != nil {
		if code := minio.ToErrorResponse(err).StatusCode; code == http.StatusNotImplemented || code == http.StatusForbidden {
			return "", nil, nil // it cannot be known
		}
		return "", nil, err
	}
	at := slices.IndexFunc(list.Uploads, func(u minio.ObjectMultipartInfo) bool { return u.Key == key })
	if at < 0 {
		return "", nil, nil
	}
	id, parts = list.Uploads[at].UploadID, map[int]minio.ObjectPart{}
	pages := bounded.Pages{What: "the list of parts of " + key}
	for marker := 0; ; {
		some, err := b.core.ListObjectParts(ctx, b.bucket, key, id, marker, perPage)
		if err == nil && some.IsTruncated {
			err = pages.Next(len(some.ObjectParts), strconv.Itoa(some.NextPartNumberMarker))
		}
		if err != nil {
			return "", nil, err
		}
		for _, p := range some.ObjectParts {
			parts[p.PartNumber] = p
		}
		if marker = some.NextPartNumberMarker; !some.IsTruncated {
			return id, parts, nil
		}
	}
}
