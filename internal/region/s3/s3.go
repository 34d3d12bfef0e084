// Package s3 is the kind of region that is a bucket of an S3-compatible store: IMAGE/VERSION/FILE below a prefix. Large files
// are uploaded in parts; an upload that broke is gone on with, also by another process.
package s3

import (
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/encrypt"

	"zygos/internal/artifact"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/region"
)

// Kind is the line in the table of kinds.
var Kind = region.Kind{Name: "s3", Can: []string{"name", "encryption", "class"},
	Read: read, Open: open, Where: func(s any) string { return s.(settings).where() }}

// settings are what zygos.toml says of one.
type settings struct {
	url             *url.URL
	bucket, prefix  string
	credentials, ca string
	area            string // what the store calls a region
}

func (s settings) where() string { return s.url.String() + "/" + path.Join(s.bucket, s.prefix) }

func read(name string, v definition.Values) any {
	u, at := region.Server(v, "https://store.example")
	bucket, _ := v.Must("bucket", name)
	s := settings{url: u, bucket: bucket, prefix: strings.Trim(v.Text("prefix"), "/"), credentials: v.Source("credentials"), ca: v.Text("ca"),
		area: v.Text("area")}
	switch {
	case u == nil || bucket == "":
		return nil
	case strings.Trim(u.Path, "/") != "":
		v.Problem(at, "the url of a store is no more than its host", "say bucket and prefix apart from it")
	case s.prefix != "" && !fs.ValidPath(s.prefix):
		v.Problem(at, fmt.Sprintf("the prefix %q is no path", s.prefix), "write names with / between them, without . and ..")
	}
	u.Path = ""
	return s
}

// bucket is an opened region.
type bucket struct {
	settings
	name   string
	terms  definition.Terms
	core   *minio.Core
	creds  *credentials.Credentials
	broken error // why it cannot be used
}

func open(r *definition.Region, place func(string) string) region.Region {
	b := &bucket{settings: r.Settings.(settings), name: r.Name, terms: r.Terms}
	b.creds = credentials.New(&keys{from: b.credentials, region: b.name, root: place(".")})
	transport, wrong := region.Transport(b.ca, place)
	core, err := minio.NewCore(b.url.Host, &minio.Options{Secure: b.url.Scheme == "https", Transport: transport, Region: b.area, MaxRetries: 4,
		BucketLookup: minio.BucketLookupPath, Creds: b.creds})
	b.core, b.broken = core, errors.Join(wrong, err)
	return b
}

// keys asks for the key and its secret when they are needed.
type keys struct {
	from, region, root string
	had                bool
}

func (k *keys) Retrieve() (credentials.Value, error) { return k.RetrieveWithCredContext(nil) }

func (k *keys) RetrieveWithCredContext(*credentials.CredContext) (v credentials.Value, err error) {
	if v.SignerType = credentials.SignatureAnonymous; k.from == "" {
		return v, nil
	}
	value, err := region.Credentials(context.Background(), k.region, k.from, k.root)
	if err != nil {
		return v, err
	}
	id, key, ok := strings.Cut(value, ":")
	if !ok {
		return v, fmt.Errorf("the credentials of region %s, %s, are no key and secret with a colon between them", k.region, k.from)
	}
	k.had = true
	return credentials.Value{AccessKeyID: id, SecretAccessKey: key, SignerType: credentials.SignatureV4}, nil
}

func (k *keys) IsExpired() bool { return !k.had }

// digestName is the metadata that holds the digest of what was placed.
const digestName = "Zygos-Digest"

func (b *bucket) location(key string) string { return "s3://" + b.bucket + "/" + key }

// key is where a location lies.
func (b *bucket) key(location string) (string, error) {
	key, ok := strings.CutPrefix(location, "s3://"+b.bucket+"/")
	if !ok || !strings.HasPrefix(key, strings.TrimPrefix(b.prefix+"/", "/")) {
		return "", fmt.Errorf("%s does not lie in region %s, %s", location, b.name, b.where())
	}
	return key, b.broken
}

// options say how an object is kept.
func (b *bucket) options(item *region.Item) (o minio.PutObjectOptions, err error) {
	o = minio.PutObjectOptions{StorageClass: b.terms.Class, ContentType: "application/json"}
	if id, ok := strings.CutPrefix(b.terms.Encryption, "key:"); ok {
		o.ServerSideEncryption, err = encrypt.NewSSEKMS(id, nil)
	} else if b.terms.Encryption == "store" {
		o.ServerSideEncryption = encrypt.NewSSE()
	}
	if item != nil {
		o.ContentType = "application/octet-stream"
		if f := artifact.Find(item.Format); f != nil {
			o.ContentType = f.MediaType
		}
		o.UserMetadata = map[string]string{digestName: item.Digest.String(), "Zygos-Image": item.Image, "Zygos-Version": item.Version,
			"Zygos-Variant": item.Variant, "Zygos-Artifact": item.Name}
	}
	return o, err
}

func (b *bucket) Place(ctx context.Context, item region.Item, told region.Told) (region.Placed, error) {
	key := path.Join(b.prefix, item.Image, item.Version, item.File)
	p := region.Placed{ID: region.ID(b.name, item), Location: b.location(key)}
	if b.broken != nil {
		return p, b.broken
	}
	size, got, err := b.Stat(ctx, p.Location)
	if err == nil && size == item.Bytes && got == item.Digest {
		told(region.Verifying, item.Bytes)
		return p, nil
	}
	if err != nil && !errors.Is(err, region.ErrAbsent) {
		return p, err
	}
	if err := b.upload(ctx, key, &item, told); err != nil {
		return p, fmt.Errorf("copy %s: %w", item.File, err)
	}
	p.Copied = true
	told(region.Verifying, 0)
	size, got, err = b.Stat(ctx, p.Location)
	if err == nil && (size != item.Bytes || got != item.Digest) { // an upload of something else under this name was ended
		err = errors.Join(region.Missing("%s holds something else than was sent", p.Location), b.core.RemoveObject(ctx, b.bucket, key,
			minio.RemoveObjectOptions{}))
	}
	return p, err
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

// upload sends a file in parts, and goes on with what an earlier try sent.
func (b *bucket) upload(ctx context.Context, key string, item *region.Item, told region.Told) error {
	source, err := item.Source(ctx)
	if err != nil {
		return err
	}
	file, err := os.Open(source)
	if err != nil {
		return err
	}
	defer file.Close()
	options, err := b.options(item)
	if err != nil {
		return err
	}
	id, sent, err := b.begun(ctx, key)
	if err == nil && id == "" {
		id, err = b.core.NewMultipartUpload(ctx, b.bucket, key, options)
	}
	if err != nil {
		return b.again(err)
	}
	size := part(item.Bytes)
	var parts []minio.CompletePart
	buf := make([]byte, min(size, max(item.Bytes, 1)))
	for n, at := 1, int64(0); at < item.Bytes || n == 1; n, at = n+1, at+size {
		text := buf[:min(size, item.Bytes-at)]
		if _, err := file.ReadAt(text, at); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		sum := md5.Sum(text) // what stores check parts with (S3 API, UploadPart)
		if had, ok := sent[n]; ok && had.Size == int64(len(text)) && strings.Trim(had.ETag, `"`) == hex.EncodeToString(sum[:]) {
			parts = append(parts, minio.CompletePart{PartNumber: n, ETag: had.ETag})
			told(region.Copying, int64(len(text)))
			continue
		}
		done, err := b.core.PutObjectPart(ctx, b.bucket, key, id, n, bytes.NewReader(text), int64(len(text)), minio.PutObjectPartOptions{
			Md5Base64: base64.StdEncoding.EncodeToString(sum[:])})
		if err != nil {
			return b.again(err)
		}
		parts = append(parts, minio.CompletePart{PartNumber: n, ETag: done.ETag})
		told(region.Copying, int64(len(text)))
	}
	_, err = b.core.CompleteMultipartUpload(ctx, b.bucket, key, id, parts, options)
	if minio.ToErrorResponse(err).Code == "NoSuchUpload" { // another process ended it
		return nil
	}
	return b.again(err)
}

// begun finds an upload that was begun, and its parts by number.
func (b *bucket) begun(ctx context.Context, key string) (id string, parts map[int]minio.ObjectPart, err error) {
	list, err := b.core.ListMultipartUploads(ctx, b.bucket, key, "", "", "", 1000)
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
	for marker := 0; ; {
		some, err := b.core.ListObjectParts(ctx, b.bucket, key, id, marker, 1000)
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

func (b *bucket) Stat(ctx context.Context, location string) (int64, digest.Digest, error) {
	key, err := b.key(location)
	if err != nil {
		return 0, digest.Digest{}, err
	}
	info, err := b.core.StatObject(ctx, b.bucket, key, minio.StatObjectOptions{})
	if missing(err) {
		return 0, digest.Digest{}, region.Missing("there is no %s", location)
	}
	got, _ := digest.Parse(info.UserMetadata[digestName]) // of what another program put there nothing is known
	return info.Size, got, b.again(err)
}

func (b *bucket) Fetch(ctx context.Context, location string, from int64) (io.ReadCloser, error) {
	key, err := b.key(location)
	if err != nil {
		return nil, err
	}
	var o minio.GetObjectOptions
	if from > 0 {
		if err := o.SetRange(from, 0); err != nil {
			return nil, err
		}
	}
	body, _, _, err := b.core.GetObject(ctx, b.bucket, key, o)
	if err != nil {
		return nil, b.again(err)
	}
	return region.Body(body, b.again), nil
}

func (b *bucket) Verify(ctx context.Context, location string, d digest.Digest) error {
	if _, _, err := b.Stat(ctx, location); err != nil {
		return err
	}
	return region.VerifyByReading(ctx, b, location, d)
}

// under lists the keys below a prefix.
func (b *bucket) under(ctx context.Context, prefix string) (keys []string, err error) {
	for token := ""; ; {
		list, err := b.core.ListObjectsV2(b.bucket, prefix, "", token, "", 1000)
		if err = errors.Join(ctx.Err(), err); err != nil {
			return nil, b.again(err)
		}
		for _, o := range list.Contents {
			keys = append(keys, o.Key)
		}
		if token = list.NextContinuationToken; !list.IsTruncated {
			return keys, nil
		}
	}
}

func (b *bucket) List(ctx context.Context) (list []string, err error) {
	if b.broken != nil {
		return nil, b.broken
	}
	keys, err := b.under(ctx, strings.TrimPrefix(b.prefix+"/", "/"))
	for _, key := range keys {
		if path.Ext(key) != ".json" {
			list = append(list, b.location(key))
		}
	}
	return list, err
}

// Remove also takes away the version's documents when no artifact is left beside them.
func (b *bucket) Remove(ctx context.Context, location string) error {
	key, err := b.key(location)
	if err != nil {
		return err
	}
	if err := b.core.RemoveObject(ctx, b.bucket, key, minio.RemoveObjectOptions{}); err != nil && !missing(err) {
		return b.again(err)
	}
	left, err := b.under(ctx, path.Dir(key)+"/")
	if err != nil || slices.ContainsFunc(left, func(key string) bool { return path.Ext(key) != ".json" }) {
		return err
	}
	for _, key := range left {
		if err := b.core.RemoveObject(ctx, b.bucket, key, minio.RemoveObjectOptions{}); err != nil {
			return b.again(err)
		}
	}
	return nil
}

func (b *bucket) Document(ctx context.Context, name string, text []byte) (string, error) {
	options, err := b.options(nil)
	if err = errors.Join(b.broken, err); err != nil {
		return "", err
	}
	key, sum := path.Join(b.prefix, name), md5.Sum(text)
	_, err = b.core.PutObject(ctx, b.bucket, key, bytes.NewReader(text), int64(len(text)),
		base64.StdEncoding.EncodeToString(sum[:]), "", options)
	return b.location(key), b.again(err)
}

func (b *bucket) Read(ctx context.Context, name string) ([]byte, time.Time, error) {
	if b.broken != nil {
		return nil, time.Time{}, b.broken
	}
	body, info, _, err := b.core.GetObject(ctx, b.bucket, path.Join(b.prefix, name), minio.GetObjectOptions{})
	if missing(err) {
		return nil, time.Time{}, fs.ErrNotExist
	}
	if err != nil {
		return nil, time.Time{}, b.again(err)
	}
	defer body.Close()
	const most = 256 << 20
	text, err := io.ReadAll(io.LimitReader(body, most))
	return text, info.LastModified, b.again(err)
}

// Sweep leaves uploads that were not ended: the next placement goes on with them, or a rule of the bucket ends them.
func (b *bucket) Sweep(context.Context) ([]string, error) { return nil, nil }

// missing says whether there is no such object.
func missing(err error) bool {
	answer := minio.ToErrorResponse(err)
	return answer.Code == minio.NoSuchKey || (err != nil && answer.StatusCode == http.StatusNotFound && answer.Code != minio.NoSuchBucket)
}

// again tells whether an error may go away by itself.
func (b *bucket) again(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, region.ErrAbsent) {
		return err
	}
	answer := minio.ToErrorResponse(err)
	if strings.HasPrefix(answer.Code, "ExpiredToken") || answer.Code == "TokenRefreshRequired" { // they are asked for again
		b.creds.Expire()
		return &region.AgainError{Err: err}
	}
	if answer.StatusCode >= 500 || answer.StatusCode == http.StatusTooManyRequests || answer.Code == "SlowDown" {
		return &region.AgainError{Err: err}
	}
	return cmp.Or(region.Unanswered(err), err)
}
