package base

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/content"
	"oras.land/oras-go/v2/errdef"
	"oras.land/oras-go/v2/registry"
	oras "oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/retry"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/digest"
	"zygos/internal/remote"
	"zygos/internal/secret"
	"zygos/internal/store"
)

// inRegistry begins the address of an image in a registry: HTTPS, but on this host's loopback.
const inRegistry = "oci://"

// pull brings an image of a registry (OCI Distribution Specification 1.1) into the store: its manifest, which is what was pinned, and what
// that names. What is there already is not asked for.
func (im *Importer) pull(ctx context.Context, b *definition.Base, from string) error {
	done, err := im.alone(ctx, b)
	if err != nil {
		return err
	}
	defer done()
	said := containerSettings(b.Settings)
	repo, err := Repository(im.Root, b, from)
	if err != nil {
		return err
	}
	pinned := b.SHA256.String()
	tag, err := repo.Resolve(ctx, repo.Reference.Reference)
	if err == nil && tag.Digest.String() != pinned { // the tag has moved on, and what was pinned may still be there
		moved, e := digest.Parse(tag.Digest.String())
		if e != nil {
			return e
		}
		if tag, err = repo.Resolve(ctx, pinned); errors.Is(err, errdef.ErrNotFound) {
			return Mismatch(b, from, moved)
		}
	}
	if err != nil {
		return err
	}
	for at := tag; ; {
		text, err := im.bring(ctx, repo, at, b)
		if err != nil {
			return err
		}
		if isIndex(at.MediaType) {
			var index ocispec.Index
			if err := json.Unmarshal(text, &index); err != nil {
				return err
			}
			if at, err = choose(index.Manifests, said.wanted()); err != nil {
				return err
			}
			continue
		}
		var m ocispec.Manifest
		if err := json.Unmarshal(text, &m); err != nil {
			return err
		}
		bring := m.Layers
		if said.environment {
			bring = append(bring, m.Config)
		}
		for _, d := range bring {
			if _, err := im.bring(ctx, repo, d, b); err != nil {
				return err
			}
		}
		return nil
	}
}

// Repository is that of an address, with its tag or digest if it has one, asked with the base's credentials; root is the workspace.
func Repository(root string, b *definition.Base, from string) (*oras.Repository, error) {
	credentials := containerSettings(b.Settings).credentials
	repo, err := oras.NewRepository(strings.TrimPrefix(from, inRegistry))
	if err != nil {
		return nil, err
	}
	host, _, err := net.SplitHostPort(repo.Reference.Host())
	if err != nil {
		host = repo.Reference.Host()
	}
	repo.PlainHTTP = remote.Here(host)
	scheme := "https"
	if repo.PlainHTTP {
		scheme = "http"
	}
	transport, err := remote.Transport(remote.Options{Home: &url.URL{Scheme: scheme, Host: repo.Reference.Host()},
		Realm: containerSettings(b.Settings).realm, Setting: "[base." + b.Name + "]"})
	if err != nil {
		return nil, err
	}
	c := &auth.Client{Client: &http.Client{Transport: retry.NewTransport(transport)}, Cache: auth.NewCache(),
		Credential: func(ctx context.Context, at string) (auth.Credential, error) {
			if credentials == "" || at != repo.Reference.Host() {
				return auth.EmptyCredential, nil
			}
			l, err := secret.Credentials(ctx, "base "+b.Name, credentials, root)
			if err != nil || l.User == "" {
				return auth.Credential{AccessToken: l.Value.Value}, err
			}
			return auth.Credential{Username: l.User, Password: l.Value.Value}, nil
		}}
	c.SetUserAgent("zygos")
	repo.Client = c
	return repo, nil
}

// bring fetches a blob or a document into the store, verified, and returns the text of a document.
func (im *Importer) bring(ctx context.Context, repo registry.Repository, d ocispec.Descriptor, b *definition.Base) ([]byte, error) {
	document := isIndex(d.MediaType) || strings.Contains(d.MediaType, "manifest")
	if document && d.Size > mostDocument {
		return nil, fmt.Errorf("a document of %d bytes is too large", d.Size)
	}
	own, err := digest.Parse(d.Digest.String())
	if err != nil {
		return nil, err
	}
	to := im.Store.Path(own)
	if !exists(to) {
		if err := im.fits(b, d.Size, 0); err != nil {
			return nil, err
		}
		r, err := repo.Fetch(ctx, d)
		if err != nil {
			return nil, err
		}
		defer r.Close()
		counted := &meter{r: r, total: d.Size, stop: ctx, tell: func(done, total int64) { im.Progress("fetch base "+b.Name, done, total) }}
		checked := content.NewVerifyReader(counted, d)
		part := filepath.Join(im.Downloads, own.Hex()+".blob")
		out, err := os.Create(part)
		if err != nil {
			return nil, err
		}
		_, err = bounded.Copy(ctx, &roomy{out, im.Downloads, 0}, checked, d.Digest.String(), d.Size)
		if err = errors.Join(err, out.Sync(), out.Close()); err == nil {
			err = checked.Verify()
		}
		if err == nil {
			err = os.Rename(part, to)
		}
		if err == nil {
			err = store.SyncDir(filepath.Dir(to))
		}
		if err != nil {
			_ = os.Remove(part) // the first error counts
			return nil, err
		}
	}
	if !document {
		return nil, nil
	}
	return os.ReadFile(to)
}

func isIndex(mediaType string) bool {
	return strings.Contains(mediaType, "index") || strings.Contains(mediaType, "manifest.list")
}
