package keypair

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"

	"github.com/youmark/pkcs8"
	"golang.org/x/crypto/ssh"
)

// FormatError says that a format has no room for a key or a passphrase.
type FormatError struct{ Problem string }

func (e *FormatError) Error() string { return e.Problem }

// FileName returns what a file with the private key of the named key is
// usually called in the format.
func (f Format) FileName(name string) string {
	switch f {
	case ClassicPEM, PKCS8:
		return name + ".pem"
	case PPK2, PPK3:
		return name + ".ppk"
	}
	return name
}

// Write returns the private key in the format, encrypted if a passphrase is
// given. The error is a *FormatError where the format has no such form.
func (p Pair) Write(random io.Reader, f Format, passphrase []byte) ([]byte, error) {
	switch f {
	case OpenSSHPrivate:
		return p.OpenSSH(passphrase)
	case ClassicPEM:
		return p.classicPEM(random, passphrase)
	case PKCS8:
		return p.pkcs8(passphrase)
	case PPK2:
		return p.ppk(random, 2, passphrase)
	case PPK3:
		return p.ppk(random, 3, passphrase)
	}
	return nil, &FormatError{
		fmt.Sprintf("there is no private format %q: openssh, pem, pkcs8, ppk2 and ppk3 are written", printable(string(f))),
	}
}

func (p Pair) classicPEM(random io.Reader, passphrase []byte) ([]byte, error) {
	var typ string
	var der []byte
	switch k := p.private.(type) {
	case *rsa.PrivateKey:
		typ, der = "RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(k)
	case *ecdsa.PrivateKey:
		var err error
		if der, err = x509.MarshalECPrivateKey(k); err != nil {
			return nil, err
		}
		typ = "EC PRIVATE KEY"
	default:
		return nil, &FormatError{
			"the classic PEM forms (PKCS#1, SEC1) have no room for " + p.Type + " keys: use pkcs8 or openssh",
		}
	}
	block := &pem.Block{Type: typ, Bytes: der}
	if len(passphrase) > 0 {
		var err error
		if block, err = sealDEK(random, typ, der, passphrase); err != nil {
			return nil, err
		}
	}
	return pem.EncodeToMemory(block), nil
}

func (p Pair) pkcs8(passphrase []byte) ([]byte, error) {
	typ := "PRIVATE KEY"
	if len(passphrase) > 0 {
		typ = "ENCRYPTED PRIVATE KEY"
	}
	opts := &pkcs8.Opts{
		Cipher:  pkcs8.AES256CBC,
		KDFOpts: pkcs8.PBKDF2Opts{SaltSize: 16, IterationCount: 600_000, HMACHash: crypto.SHA256},
	}
	der, err := pkcs8.MarshalPrivateKey(p.private, passphrase, opts)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: typ, Bytes: der}), nil
}

// PKCS8SHA1 returns the SHA-1 digest of the private key's PKCS#8 DER: 20
// bytes. Some clouds show it for key pairs that they made.
func (p Pair) PKCS8SHA1() ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(p.private)
	if err != nil {
		return nil, err
	}
	sum := sha1.Sum(der)
	return sum[:], nil
}

// Write returns the public key in the format, with a line break at the end.
func (p Public) Write(f Format) ([]byte, error) {
	switch f {
	case OneLine:
		return []byte(p.Line() + "\n"), nil
	case RFC4716:
		return p.rfc4716(), nil
	case SPKI:
		der, err := p.SPKIDER()
		if err != nil {
			return nil, err
		}
		return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
	case JWK:
		return p.jwk()
	}
	return nil, &FormatError{
		fmt.Sprintf("there is no public format %q: line, rfc4716, spki and jwk are written", printable(string(f))),
	}
}

// standard returns the key as the standard library knows it.
func (p Public) standard() (crypto.PublicKey, error) {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return nil, &FormatError{"the key cannot be written in this format: " + err.Error()}
	}
	c, ok := key.(ssh.CryptoPublicKey)
	if !ok || p.Type == SKEd25519 || p.Type == SKECDSA {
		return nil, &FormatError{"only the SSH forms (line, rfc4716) have room for hardware-backed keys"}
	}
	return c.CryptoPublicKey(), nil
}

const (
	ed25519BlobSize = 4 + len("ssh-ed25519") + 4 + ed25519.PublicKeySize
	// ed25519SPKI comes before the key's bytes in its SubjectPublicKeyInfo (RFC 8410 section 4).
	ed25519SPKI = "\x30\x2a\x30\x05\x06\x03\x2b\x65\x70\x03\x21\x00"
)

// SPKIDER returns the SubjectPublicKeyInfo of the key (RFC 5280, RFC 8410) in DER.
func (p Public) SPKIDER() ([]byte, error) {
	if p.Type == Ed25519 && len(p.Blob) == ed25519BlobSize {
		return append([]byte(ed25519SPKI), p.Blob[ed25519BlobSize-ed25519.PublicKeySize:]...), nil
	}
	key, err := p.standard()
	if err != nil {
		return nil, err
	}
	return x509.MarshalPKIXPublicKey(key)
}

// rfc4716 writes the armoured form with lines of at most 72 bytes.
func (p Public) rfc4716() []byte {
	const width = 70
	var b strings.Builder
	b.WriteString("---- BEGIN SSH2 PUBLIC KEY ----\n")
	if p.Comment != "" {
		header := `Comment: "` + p.Comment + `"`
		for len(header) > width { // a long header continues after a backslash
			b.WriteString(header[:width] + "\\\n")
			header = header[width:]
		}
		b.WriteString(header + "\n")
	}
	for l := range slices.Chunk([]byte(base64.StdEncoding.EncodeToString(p.Blob)), width) {
		b.Write(l)
		b.WriteByte('\n')
	}
	b.WriteString("---- END SSH2 PUBLIC KEY ----\n")
	return []byte(b.String())
}

// jwkKey is a public JSON Web Key (RFC 7517, RFC 7518 section 6, RFC 8037).
type jwkKey struct {
	Type  string `json:"kty"`
	Curve string `json:"crv,omitempty"`
	X     string `json:"x,omitempty"`
	Y     string `json:"y,omitempty"`
	N     string `json:"n,omitempty"`
	E     string `json:"e,omitempty"`
}

var jwkCurves = map[string]string{"P-256": "nistp256", "P-384": "nistp384", "P-521": "nistp521"}

func (p Public) jwk() ([]byte, error) {
	key, err := p.standard()
	if err != nil {
		return nil, err
	}
	enc := base64.RawURLEncoding.EncodeToString
	var j jwkKey
	switch k := key.(type) {
	case *rsa.PublicKey:
		j = jwkKey{Type: "RSA", N: enc(k.N.Bytes()), E: enc(big.NewInt(int64(k.E)).Bytes())}
	case *ecdsa.PublicKey:
		point, err := k.Bytes()
		if err != nil {
			return nil, &FormatError{"the key cannot be written as JWK"}
		}
		half := (len(point) - 1) / 2
		j = jwkKey{Type: "EC", Curve: k.Curve.Params().Name, X: enc(point[1 : 1+half]), Y: enc(point[1+half:])}
	case ed25519.PublicKey:
		j = jwkKey{Type: "OKP", Curve: "Ed25519", X: enc(k)}
	default:
		return nil, &FormatError{"the key cannot be written as JWK"}
	}
	out, err := json.MarshalIndent(j, "", "  ")
	return append(out, '\n'), err
}
