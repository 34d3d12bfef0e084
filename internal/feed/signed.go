package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"

	"aead.dev/minisign"
	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	pgperrors "github.com/ProtonMail/go-crypto/openpgp/errors"

	"zygos/internal/bounded"
	"zygos/internal/definition"
	"zygos/internal/plan"
	"zygos/internal/region"
	"zygos/internal/session"
)

// signer is the key that has to have signed a listing: of OpenPGP (RFC 9580), or an ed25519 key as minisign writes it.
type signer struct {
	file   string // "" if nothing has to be signed
	digest string // of the file
	pgp    openpgp.EntityList
	ed     *minisign.PublicKey
}

// Ends of the names of signatures beside a file.
var pgpEnds, edEnds = []string{".asc", ".gpg", ".sign", ".sig"}, []string{".minisig"}

const (
	mostKey       = bounded.Small
	mostSignature = bounded.Small
)

func newSigner(ctx context.Context, s *session.Session, b *definition.Base) (*signer, error) {
	by := &signer{file: b.Feed.SignedBy}
	if by.file == "" {
		return by, nil
	}
	in, err := os.Open(s.Path(by.file))
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := bounded.All(ctx, in, by.file, mostKey)
	if err != nil {
		return nil, err
	}
	by.digest = plan.Digest(text)
	var ed minisign.PublicKey
	if err := ed.UnmarshalText(text); err == nil {
		by.ed = &ed
		return by, nil
	}
	if by.pgp, err = openpgp.ReadArmoredKeyRing(bytes.NewReader(text)); err != nil {
		by.pgp, err = openpgp.ReadKeyRing(bytes.NewReader(text))
	}
	if err != nil || len(by.pgp) == 0 {
		return nil, fmt.Errorf("%s is no public key of OpenPGP, and none of minisign; put the one there that the publisher gives out", by.file)
	}
	return by, nil
}

// open returns what of a document is signed, which is all of it unless the signature is in it.
func (by *signer) open(ctx context.Context, s *session.Session, at string, text []byte) ([]byte, error) {
	if by.file == "" {
		return inside(text), nil
	}
	if block, _ := clearsign.Decode(text); block != nil && by.ed == nil {
		if _, err := openpgp.CheckDetachedSignature(by.pgp, bytes.NewReader(block.Bytes), block.ArmoredSignature.Body, nil); err != nil {
			return nil, by.doubt(at, "the signature in it", err)
		}
		return block.Plaintext, nil
	}
	ends := pgpEnds
	if by.ed != nil {
		ends = edEnds
	}
	for _, end := range ends {
		signature, err := read(ctx, s, at+end, mostSignature)
		if errors.Is(err, os.ErrNotExist) || errors.Is(err, region.ErrAbsent) {
			continue
		}
		if err != nil {
			return nil, err
		}
		return text, by.check(at, at+end, text, signature)
	}
	return nil, fmt.Errorf("%s carries no signature: there is no %s%s beside it, so that nothing of it is believed. If the publisher "+
		"does not sign, take signed_by out", at, at, ends[0])
}

// check checks a signature that lies beside a document.
func (by *signer) check(at, file string, text, signature []byte) (err error) {
	if by.ed != nil {
		if !minisign.Verify(*by.ed, text, signature) {
			err = errors.New("it was made with another key, or of another text")
		}
	} else if bytes.HasPrefix(bytes.TrimSpace(signature), []byte("-----BEGIN")) {
		_, err = openpgp.CheckArmoredDetachedSignature(by.pgp, bytes.NewReader(text), bytes.NewReader(signature), nil)
	} else {
		_, err = openpgp.CheckDetachedSignature(by.pgp, bytes.NewReader(text), bytes.NewReader(signature), nil)
	}
	if err != nil {
		return by.doubt(at, file, err)
	}
	return nil
}

// doubt says why a signature is not believed.
func (by *signer) doubt(at, signature string, err error) error {
	var bad pgperrors.SignatureError
	switch {
	case errors.Is(err, pgperrors.ErrUnknownIssuer):
		err = errors.New("it was made with another key")
	case errors.Is(err, pgperrors.ErrKeyExpired), errors.Is(err, pgperrors.ErrSignatureExpired), errors.Is(err, pgperrors.ErrKeyRevoked):
		err = fmt.Errorf("%w; the publisher may have a newer key", err)
	case errors.As(err, &bad):
		err = errors.New("the text was changed after it was signed")
	}
	return fmt.Errorf("%s is not believed: %s does not hold by %s: %w", at, signature, by.file, err)
}

// inside is the text of a document that holds its own signature, which nobody asked for.
func inside(text []byte) []byte {
	if block, _ := clearsign.Decode(text); block != nil {
		return block.Plaintext
	}
	return text
}
