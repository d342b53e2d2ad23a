package keypair

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"encoding/pem"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
)

// Spec says what pair to make. A zero Spec is an Ed25519 pair.
type Spec struct {
	// Type is Ed25519, RSA or ECDSA; "" means Ed25519.
	Type string
	// Bits is 2048, 3072 or 4096 for RSA and 256, 384 or 521 for ECDSA; 0 means
	// 3072 and 256. Ed25519 takes none.
	Bits int
}

// Pair is a key pair with both halves.
type Pair struct {
	Public
	private crypto.Signer
}

// Normal returns s with its defaults filled in, or an error that names what
// can be made.
func (s Spec) Normal() (Spec, error) {
	if s.Type == "" {
		s.Type = Ed25519
	}
	switch s.Type {
	case Ed25519:
		if s.Bits != 0 && s.Bits != 256 {
			return s, fmt.Errorf("an ed25519 key always has 256 bits: leave the bits out")
		}
		s.Bits = 256
	case RSA:
		if s.Bits == 0 {
			s.Bits = 3072
		}
		if s.Bits != 2048 && s.Bits != 3072 && s.Bits != 4096 {
			return s, fmt.Errorf("an rsa key is made with 2048, 3072 or 4096 bits, not %d", s.Bits)
		}
	case ECDSA:
		if s.Bits == 0 {
			s.Bits = 256
		}
		if s.Bits != 256 && s.Bits != 384 && s.Bits != 521 {
			return s, fmt.Errorf("an ecdsa key is made with 256, 384 or 521 bits, not %d", s.Bits)
		}
	default:
		return s, fmt.Errorf("keys are made as ed25519, rsa or ecdsa, not %q", printable(s.Type))
	}
	return s, nil
}

// Make makes a pair; random is crypto/random outside tests. The error is
// that of Spec.Normal or CheckComment, or tells of randomness failing.
func Make(random io.Reader, s Spec, comment string) (Pair, error) {
	s, err := s.Normal()
	if err != nil {
		return Pair{}, err
	}
	if err := CheckComment(comment); err != nil {
		return Pair{}, err
	}
	var signer crypto.Signer
	switch s.Type {
	case Ed25519:
		_, signer, err = ed25519.GenerateKey(random)
	case RSA:
		signer, err = rsa.GenerateKey(random, s.Bits)
	case ECDSA:
		curve := map[int]elliptic.Curve{256: elliptic.P256(), 384: elliptic.P384(), 521: elliptic.P521()}[s.Bits]
		signer, err = ecdsa.GenerateKey(curve, random)
	}
	if err != nil {
		return Pair{}, fmt.Errorf("make a %s key: %w", s.Type, err)
	}
	wire, err := ssh.NewPublicKey(signer.Public())
	if err != nil {
		return Pair{}, fmt.Errorf("make a %s key: %w", s.Type, err)
	}
	public, err := ReadBlob(wire.Marshal())
	if err != nil {
		return Pair{}, fmt.Errorf("make a %s key: %w", s.Type, err)
	}
	public.Comment = comment
	return Pair{Public: public, private: signer}, nil
}

// OpenSSH returns the private key in OpenSSH's own format, as PEM. With a
// passphrase it is encrypted (aes256-ctr under bcrypt_pbkdf, 16 rounds).
func (p Pair) OpenSSH(passphrase []byte) ([]byte, error) {
	var block *pem.Block
	var err error
	if len(passphrase) > 0 {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(p.private, p.Comment, passphrase)
	} else {
		block, err = ssh.MarshalPrivateKey(p.private, p.Comment)
	}
	if err != nil {
		return nil, fmt.Errorf("write the private key: %w", err)
	}
	return pem.EncodeToMemory(block), nil
}
