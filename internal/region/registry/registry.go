// Package registry is the kind of region that is a server of the OCI Distribution Specification (1.1; servers of the
// Docker Registry API 2 too). An image is a repository below the region's url: container images lie there as such, other
// artifacts as manifests of our artifact type with one layer. A version is an index under its number, and the region's
// tags follow those of the catalog.
package registry

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	godigest "github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/errdef"
	oras "oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/errcode"
	"oras.land/oras-go/v2/registry/remote/retry"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/region"
	"zygos/internal/remote"
	"zygos/internal/secret"
)

// Kind is the line in the table of kinds.
var Kind = region.Kind{Name: "registry", Read: read, Open: open, Where: func(s any) string { return s.(settings).URL.String() },
	System: func(s any) string { return s.(settings).URL.Host }, Shares: true,
	// The repositories of documents, what will hold shared layers, and words of the paths below a repository.
	Taken: []string{strings.TrimSuffix(ours, "/"), "layers", "blobs", "manifests", "tags", "referrers"}}

// settings are what zygos.toml says of one.
type settings struct {
	region.Server
}

// validPath is a name of a repository (OCI Distribution Specification 1.1, Pull).
var validPath = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^/?([a-z0-9]+([._-]+[a-z0-9]+)*(/[a-z0-9]+([._-]+[a-z0-9]+)*)*)?/?$`)
})

func read(name string, v definition.Values) any {
	server, at := region.ReadServer(v, "https://registry.example/"+name)
	server.Realm = region.ReadRealm(v)
	s, u := settings{server}, server.URL
	switch {
	case u == nil:
		return nil
	case !validPath().MatchString(u.Path):
		v.Problem(at, fmt.Sprintf("%q is no path in a registry", u.Path), "use lower-case letters, digits, and . _ - between them")
		return nil
	}
	u.Path = strings.Trim(u.Path, "/")
	return s
}

// registry is an opened region.
type registry struct {
	name, host, prefix string
	plain              bool // HTTP
	access             region.Server
	client             *auth.Client
	broken             error // why it cannot be used
}

func open(r *definition.Region, path func(string) string) region.Region {
	s := r.Settings.(settings)
	g := &registry{access: s.Server, name: r.Name, host: s.URL.Host, prefix: s.URL.Path, plain: s.URL.Scheme == "http"}
	transport, err := remote.Transport(s.Options(r.Name, path))
	g.broken = err
	g.client = &auth.Client{Client: &http.Client{Transport: patient(transport)}, Cache: auth.NewCache(),
		Credential: func(ctx context.Context, host string) (auth.Credential, error) {
			if host != g.host {
				return auth.EmptyCredential, nil
			}
			l, err := secret.Credentials(ctx, "region "+g.name, s.Credentials, path("."))
			if err != nil || l.User == "" {
				return auth.Credential{AccessToken: l.Value.Value}, err
			}
			return auth.Credential{Username: l.User, Password: l.Value.Value}, nil
		}}
	g.client.SetUserAgent("zygos")
	return g
}

// patient asks a busy server again, after the time that it names.
func patient(base http.RoundTripper) http.RoundTripper {
	return &retry.Transport{Base: base, Policy: func() retry.Policy {
		return &retry.GenericPolicy{Retryable: retry.DefaultPredicate, MinWait: 200 * time.Millisecond, MaxWait: time.Minute, MaxRetry: 3,
			Backoff: func(attempt int, answer *http.Response) time.Duration {
				if answer != nil {
					if n, err := strconv.Atoi(answer.Header.Get("Retry-After")); err == nil && n > 0 {
						return time.Duration(n) * time.Second
					}
				}
				return retry.DefaultBackoff(attempt, answer)
			}}
	}}
}

// ours begins the repositories of documents: no image has such a name.
const ours = "zygos/"

// repository is that of an image, or of documents.
func (g *registry) repository(name string) (*oras.Repository, error) {
	if g.broken != nil {
		return nil, g.broken
	}
	repo, err := oras.NewRepository(g.host + "/" + strings.TrimPrefix(g.prefix+"/"+name, "/"))
	if err != nil {
		return nil, err
	}
	repo.PlainHTTP, repo.Client, repo.SkipReferrersGC = g.plain, g.client, true
	return repo, nil
}

// server is the registry as a whole.
func (g *registry) server() (*oras.Registry, error) {
	if g.broken != nil {
		return nil, g.broken
	}
	server, err := oras.NewRegistry(g.host)
	if err != nil {
		return nil, err
	}
	server.PlainHTTP, server.Client = g.plain, g.client
	return server, nil
}

// location is where a manifest of an image lies, in the form that tools for containers take.
func (g *registry) location(image string, d godigest.Digest) string {
	return g.host + "/" + strings.TrimPrefix(g.prefix+"/"+image, "/") + "@" + d.String()
}

// at finds what a location names.
func (g *registry) at(location string) (*oras.Repository, godigest.Digest, error) {
	name, digest, _ := strings.Cut(location, "@")
	d := godigest.Digest(digest)
	image, ok := strings.CutPrefix(name, strings.TrimSuffix(g.host+"/"+g.prefix, "/")+"/")
	if err := d.Validate(); err != nil || !ok {
		return nil, "", fmt.Errorf("%s does not lie in region %s, %s/%s", location, g.name, g.host, g.prefix)
	}
	repo, err := g.repository(image)
	return repo, d, err
}

// again tells whether an error may go away by itself.
func again(err error) error {
	var answer *errcode.ErrorResponse
	var known *region.AgainError
	switch {
	case err == nil || errors.Is(err, context.Canceled) || errors.As(err, &known) || errors.Is(err, region.ErrAbsent):
		return err
	case errors.As(err, &answer):
		if answer.StatusCode >= 500 || answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode == http.StatusRequestTimeout {
			return &region.AgainError{Err: err} // patient has heeded what it asks for
		}
		return err
	}
	return cmp.Or(region.Unanswered(err), err)
}

// unsupported says whether a server refuses to do something at all.
func unsupported(err error) bool {
	var answer *errcode.ErrorResponse
	return errors.Is(err, errdef.ErrUnsupported) || errors.As(err, &answer) && (answer.StatusCode == http.StatusMethodNotAllowed ||
		answer.StatusCode == http.StatusNotFound || answer.StatusCode == http.StatusBadRequest || answer.StatusCode == http.StatusNotImplemented)
}

// content reads a manifest.
func content(ctx context.Context, repo *oras.Repository, reference string) (d ocispec.Descriptor, text []byte, err error) {
	d, body, err := repo.Manifests().FetchReference(ctx, reference)
	if errors.Is(err, errdef.ErrNotFound) {
		return d, nil, region.Missing("%s has no %s", repo.Reference.Repository, reference)
	}
	if err != nil {
		return d, nil, again(err)
	}
	defer body.Close()
	text, err = bounded.All(ctx, body, "the manifest "+reference+" of "+repo.Reference.Repository, bounded.Document)
	if err == nil && godigest.FromBytes(text) != d.Digest {
		err = fmt.Errorf("%s gives other bytes for %s than their digest says", repo.Reference.Registry, reference)
	}
	return d, text, again(err)
}

// manifest reads the manifest of an artifact.
func (g *registry) manifest(ctx context.Context, location string) (*oras.Repository, []byte, *ocispec.Manifest, error) {
	repo, digest, err := g.at(location)
	if err != nil {
		return nil, nil, nil, err
	}
	_, text, err := content(ctx, repo, digest.String())
	if err != nil {
		return nil, nil, nil, err
	}
	var m ocispec.Manifest
	if err := json.Unmarshal(text, &m); err != nil || len(m.Layers) == 0 {
		return nil, nil, nil, region.Missing("%s is no manifest of an artifact", location)
	}
	return repo, text, &m, nil
}
