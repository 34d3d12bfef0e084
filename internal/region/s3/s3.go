// Package s3 is the kind of region that is a bucket of an S3-compatible store: IMAGE/VERSION/FILE below a prefix. Large files
// are uploaded in parts; an upload that broke is gone on with, also by another process.
package s3

import (
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/encrypt"

	"zygos/internal/artifact"
	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/region"
	"zygos/internal/remote"
	"zygos/internal/secret"
)

// Kind is the line in the table of kinds.
var Kind = region.Kind{Name: "s3", Can: []string{"name", "encryption", "class"},
	Read: read, Open: open, Where: func(s any) string { return s.(settings).where() }}

// settings are what zygos.toml says of one.
type settings struct {
	region.Server
	bucket, prefix string
	area           string // what the store calls a region
}

func (s settings) where() string { return s.URL.String() + "/" + path.Join(s.bucket, s.prefix) }

func read(name string, v definition.Values) any {
	server, at := region.ReadServer(v, "https://store.example")
	bucket, _ := v.Must("bucket", name)
	s, u := settings{server, bucket, strings.Trim(v.Text("prefix"), "/"), v.Text("area")}, server.URL
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
	way    http.RoundTripper
	core   *minio.Core
	creds  *credentials.Credentials
	broken error // why it cannot be used
}

func open(r *definition.Region, place func(string) string) region.Region {
	b := &bucket{settings: r.Settings.(settings), name: r.Name, terms: r.Terms}
	b.creds = credentials.New(&keys{from: b.Credentials, region: b.name, root: place(".")})
	way, wrong := remote.Transport(b.Options(r.Name, place))
	b.way = answers{way}
	core, err := b.client(b.way)
	b.core, b.broken = core, errors.Join(wrong, err)
	return b
}

// client sends its requests one way. It tries none of them twice: whoever places or asks does that.
func (b *bucket) client(way http.RoundTripper) (*minio.Core, error) {
	return minio.NewCore(b.URL.Host, &minio.Options{Secure: b.URL.Scheme == "https", Transport: way, Region: b.area, MaxRetries: 1,
		BucketLookup: minio.BucketLookupPath, Creds: b.creds})
}

// answers bounds what a store answers, but for the contents of objects: the library reads it as a whole.
type answers struct{ http.RoundTripper }

// A page has so many keys, uploads or parts, and at most so many bytes: the library takes ten times as much memory.
const (
	perPage    = 250
	mostAnswer = 1 << 20
)

func (a answers) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := a.RoundTripper.RoundTrip(r)
	if err != nil {
		return answer, err
	}
	// The library reads to its end, and throws away, what comes without the headers of an object.
	if _, odd := http.ParseTime(answer.Header.Get("Last-Modified")); odd == nil && r.Method == http.MethodGet && r.URL.RawQuery == "" &&
		answer.StatusCode < 300 {
		return answer, nil
	}
	answer.Body = struct {
		io.Reader
		io.Closer
	}{bounded.NewReader(r.Context(), answer.Body, "the answer of "+r.URL.Host, mostAnswer), answer.Body}
	return answer, nil
}

// within sends requests that end with a context; the library's listing has none.
type within struct {
	ctx context.Context
	way http.RoundTripper
}

func (w within) RoundTrip(r *http.Request) (*http.Response, error) {
	return w.way.RoundTrip(r.WithContext(w.ctx))
}

// keys asks for the key and its secret when they are needed.
type keys struct {
	from, region, root string
	had                bool
}

func (k *keys) Retrieve() (credentials.Value, error) { return k.RetrieveWithCredContext(nil) }

func (k *keys) RetrieveWithCredContext(by *credentials.CredContext) (v credentials.Value, err error) {
	if v.SignerType = credentials.SignatureAnonymous; k.from == "" {
		return v, nil
	}
	ctx := context.Background()
	if by != nil && by.Context != nil {
		ctx = by.Context
	}
	l, err := secret.Credentials(ctx, "region "+k.region, k.from, k.root)
	if err != nil {
		return v, err
	}
	if l.User == "" {
		return v, fmt.Errorf("the credentials of region %s, %s, are no key and secret with a colon between them", k.region, k.from)
	}
	k.had = true
	return credentials.Value{AccessKeyID: l.User, SecretAccessKey: l.Value.Value, SignerType: credentials.SignatureV4}, nil
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
	body, _, head, err := b.core.GetObject(ctx, b.bucket, key, o)
	if err == nil && from > 0 && head.Get("Content-Range") == "" { // the store gives all, whatever is asked
		if _, err = bounded.Copy(ctx, io.Discard, io.LimitReader(body, from), location, from); err != nil {
			body.Close()
		}
	}
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
	pages := bounded.Pages{What: "the list of objects in " + b.where()}
	ctx, done := b.Patient(ctx, b.name)
	defer done()
	core, err := b.client(within{ctx, b.way})
	if err != nil {
		return nil, err
	}
	for token := ""; ; {
		list, err := core.ListObjectsV2(b.bucket, prefix, "", token, "", perPage)
		if err == nil && list.IsTruncated {
			err = pages.Next(len(list.Contents), list.NextContinuationToken)
		}
		if err != nil {
			return nil, cmp.Or(context.Cause(ctx), b.again(err))
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

func (b *bucket) Documents(ctx context.Context, below string) (names []string, err error) {
	if b.broken != nil {
		return nil, b.broken
	}
	prefix := strings.TrimPrefix(b.prefix+"/", "/")
	keys, err := b.under(ctx, prefix+strings.TrimPrefix(below+"/", "/"))
	for _, key := range keys {
		name := strings.TrimPrefix(key, prefix)
		if _, _, _, ok := region.DocumentOf(name); ok {
			names = append(names, name)
		}
	}
	return names, err
}

func (b *bucket) Withdraw(ctx context.Context, name string) error {
	if b.broken != nil {
		return b.broken
	}
	if err := b.core.RemoveObject(ctx, b.bucket, path.Join(b.prefix, name), minio.RemoveObjectOptions{}); err != nil && !missing(err) {
		return b.again(err)
	}
	return nil
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
	text, err := bounded.All(ctx, body, name+" in "+b.where(), region.Most(name))
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
