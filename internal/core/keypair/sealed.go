package keypair

import (
	"crypto/rsa"
	"crypto/sha256"
	"errors"
	"fmt"
)

// ErrNotRSA is returned where something is encrypted to an RSA key and the pair is another.
var ErrNotRSA = errors.New("it is encrypted to an RSA key, and this is none")

// OpenEncrypted decrypts what was encrypted to the public key with RSAES-OAEP, SHA-256 and
// no label (RFC 8017 section 7.1), such as the first password of a Windows instance.
func (p Pair) OpenEncrypted(encrypted []byte) ([]byte, error) {
	key, ok := p.private.(*rsa.PrivateKey)
	if !ok {
		return nil, ErrNotRSA
	}
	text, err := rsa.DecryptOAEP(sha256.New(), nil, key, encrypted, nil)
	if err != nil {
		return nil, fmt.Errorf("it does not open with this private key: %w", err)
	}
	return text, nil
}
