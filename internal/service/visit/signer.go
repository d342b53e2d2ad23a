package visit

import (
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
)

// pageSigner signs by asking a page. What it hands on to be signed is what the SSH client makes of a login (RFC 4252
// section 7), and what comes back is checked before it is sent.
type pageSigner struct {
	key ssh.PublicKey
	ask func(data []byte) ([]byte, error)
}

// newPageSigner returns a signer for the public key in the wire form. RSA keys sign with SHA-2 alone (RFC 8332).
func newPageSigner(blob []byte, ask func([]byte) ([]byte, error)) (ssh.Signer, error) {
	key, err := ssh.ParsePublicKey(blob)
	if err != nil {
		return nil, fmt.Errorf("read the public key: %w", err)
	}
	s := pageSigner{key, ask}
	if key.Type() == ssh.KeyAlgoRSA {
		return ssh.NewSignerWithAlgorithms(s, []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256})
	}
	return s, nil
}

func (s pageSigner) PublicKey() ssh.PublicKey { return s.key }

func (s pageSigner) Sign(r io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(r, data, s.key.Type())
}

func (s pageSigner) SignWithAlgorithm(_ io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	answer, err := s.ask(data)
	if err != nil {
		return nil, err
	}
	var sig ssh.Signature
	if err := ssh.Unmarshal(answer, &sig); err != nil || len(sig.Rest) > 0 || sig.Format != algorithm {
		return nil, errors.New("the page answered with something else than a signature")
	}
	if err := s.key.Verify(data, &sig); err != nil {
		return nil, errors.New("the page answered with a signature that does not fit")
	}
	return &sig, nil
}
