// Package signature makes and checks challenges: texts that somebody signs to
// show that they hold a private key. The signatures are SSHSIG, described in
// OpenSSH's PROTOCOL.sshsig, so that ssh-keygen -Y sign and an ssh-agent make them too.
package signature

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Namespace is the one that challenges are signed in. A signature made for any
// other purpose has another and is refused.
const Namespace = "proof@plumlatch"

// MaxArmourBytes is the greatest signature that is read, in bytes.
const MaxArmourBytes = 16 << 10

const (
	magic   = "SSHSIG"
	version = 1
	armour  = "SSH SIGNATURE"
)

// The errors of Verify.
var (
	ErrArmour    = errors.New("this is no SSHSIG signature in its armour")
	ErrNamespace = errors.New("the signature was made for another purpose (another namespace)")
	ErrKey       = errors.New("the signature was made with another key")
	ErrSignature = errors.New("the signature does not fit the text")
	ErrAlgorithm = errors.New("the signature uses SHA-1, or an algorithm that is not known here")
)

// Challenge is what a signature proves.
type Challenge struct {
	Service, Person, Key string
	// SHA256 is the key's fingerprint.
	SHA256  string
	Nonce   []byte
	Expires time.Time
}

// Text is what is signed: it binds the signature to a service, a person, a key
// and a time, so that it is worth nothing for any other.
func (c Challenge) Text() string {
	return fmt.Sprintf(
		"I hold the private key of this key.\nservice: %s\nperson: %s\nkey: %s\nfingerprint: %s\n"+
			"valid until: %s\nnonce: %s\n",
		c.Service,
		c.Person,
		c.Key,
		c.SHA256,
		c.Expires.UTC().Format(time.RFC3339),
		base64.RawURLEncoding.EncodeToString(c.Nonce),
	)
}

type envelope struct {
	Version       uint32
	PublicKey     []byte
	Namespace     string
	Reserved      string
	HashAlgorithm string
	Signature     []byte
}

type signed struct {
	Namespace     string
	Reserved      string
	HashAlgorithm string
	Hash          []byte
}

func toBeSigned(namespace string, text []byte) []byte {
	sum := sha512.Sum512(text)
	return append([]byte(magic), ssh.Marshal(signed{namespace, "", "sha512", sum[:]})...)
}

// Sign signs a text in the namespace and returns the armoured signature. The
// signer is a private key or an ssh-agent's; RSA signs with SHA-512.
func Sign(signer ssh.Signer, namespace string, text []byte) (string, error) {
	data := toBeSigned(namespace, text)
	var sig *ssh.Signature
	var err error
	if algorithmic, ok := signer.(ssh.AlgorithmSigner); ok && signer.PublicKey().Type() == ssh.KeyAlgoRSA {
		sig, err = algorithmic.SignWithAlgorithm(rand.Reader, data, ssh.KeyAlgoRSASHA512)
	} else {
		sig, err = signer.Sign(rand.Reader, data)
	}
	if err != nil {
		return "", fmt.Errorf("sign the challenge: %w", err)
	}
	blob := append(
		[]byte(magic),
		ssh.Marshal(envelope{version, signer.PublicKey().Marshal(), namespace, "", "sha512", ssh.Marshal(*sig)})...)
	var b strings.Builder
	err = pem.Encode(&b, &pem.Block{Type: armour, Bytes: blob})
	return b.String(), err
}

// KeyOf returns the key that a signature says it was made with, in the wire form. Whether it was, Verify says.
func KeyOf(armoured string) ([]byte, error) {
	e, err := envelopeOf(armoured)
	return e.PublicKey, err
}

func envelopeOf(armoured string) (e envelope, err error) {
	if len(armoured) > MaxArmourBytes {
		return e, ErrArmour
	}
	block, _ := pem.Decode([]byte(armoured))
	if block == nil || block.Type != armour || !bytes.HasPrefix(block.Bytes, []byte(magic)) {
		return e, ErrArmour
	}
	if err := ssh.Unmarshal(block.Bytes[len(magic):], &e); err != nil || e.Version != version {
		return e, ErrArmour
	}
	return e, nil
}

// Verify returns nil if the armoured signature is one of the text, in the
// namespace, by the key in the wire form.
func Verify(armoured string, namespace string, text, key []byte) error {
	e, err := envelopeOf(armoured)
	if err != nil {
		return err
	}
	if e.Namespace != namespace || e.Reserved != "" {
		return ErrNamespace
	}
	if !bytes.Equal(e.PublicKey, key) {
		return ErrKey
	}
	public, err := ssh.ParsePublicKey(key)
	if err != nil {
		return ErrKey
	}
	var sig ssh.Signature
	if err := ssh.Unmarshal(e.Signature, &sig); err != nil {
		return ErrArmour
	}
	if sig.Format == ssh.KeyAlgoRSA { // SHA-1
		return ErrAlgorithm
	}
	hash := map[string]crypto.Hash{"sha256": crypto.SHA256, "sha512": crypto.SHA512}[e.HashAlgorithm]
	if hash == 0 {
		return ErrAlgorithm
	}
	h := hash.New()
	h.Write(text)
	data := append([]byte(magic), ssh.Marshal(signed{e.Namespace, "", e.HashAlgorithm, h.Sum(nil)})...)
	if public.Verify(data, &sig) != nil {
		return ErrSignature
	}
	return nil
}
