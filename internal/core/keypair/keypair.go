// Package keypair makes SSH key pairs, reads and judges public keys, and
// writes fingerprints.
//
// It takes values and returns values: no files, no clock, no network. The wire
// form of a public key is that of RFC 4253 section 6.6, RFC 5656 section 3.1
// (ECDSA) and RFC 8709 section 4 (Ed25519); the one-line form is that of the
// sshd(8) manual page under AUTHORIZED_KEYS FILE FORMAT; the private form is
// OpenSSH's, described in its PROTOCOL.key.
package keypair

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"strings"
)

// The types of key, by their short names.
const (
	Ed25519   = "ed25519"
	RSA       = "rsa"
	ECDSA     = "ecdsa"
	SKEd25519 = "sk-ed25519"
	SKECDSA   = "sk-ecdsa"
)

// Public is the public key of a key pair.
type Public struct {
	// Algorithm is the name on the wire, such as "ssh-ed25519".
	Algorithm string
	// Type is the short name of the key's type: Ed25519, RSA, ECDSA, SKEd25519 or SKECDSA.
	Type string
	// Bits is the RSA modulus length or the size of the ECDSA curve, in bits;
	// 256 for Ed25519.
	Bits int
	// Blob is the wire form.
	Blob []byte
	// Comment is free text that often names a person and a machine.
	Comment string
}

// Line returns the key in the one-line OpenSSH form, without a line break.
func (p Public) Line() string {
	line := p.Algorithm + " " + base64.StdEncoding.EncodeToString(p.Blob)
	if p.Comment != "" {
		line += " " + p.Comment
	}
	return line
}

// SHA256 returns the SHA-256 digest of the wire form: 32 bytes.
func (p Public) SHA256() []byte {
	sum := sha256.Sum256(p.Blob)
	return sum[:]
}

// MD5 returns the MD5 digest of the wire form: 16 bytes.
func (p Public) MD5() []byte {
	sum := md5.Sum(p.Blob)
	return sum[:]
}

// FormatSHA256 writes a digest as OpenSSH prints it: "SHA256:" and base64
// without padding.
func FormatSHA256(digest []byte) string {
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(digest)
}

// FormatMD5 writes a digest as OpenSSH prints it with -E md5: "MD5:" and
// colon-separated hexadecimal.
func FormatMD5(digest []byte) string {
	pairs := make([]string, len(digest))
	for i, b := range digest {
		pairs[i] = hex.EncodeToString([]byte{b})
	}
	return "MD5:" + strings.Join(pairs, ":")
}
