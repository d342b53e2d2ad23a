package keypair

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"errors"
	"fmt"
	"math/big"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Format is a file format of a key.
type Format string

// The formats of a private key.
const (
	OpenSSHPrivate Format = "openssh"
	ClassicPEM     Format = "pem" // PKCS#1 (RFC 8017) and SEC1 (RFC 5915)
	PKCS8          Format = "pkcs8"
	PPK2           Format = "ppk2"
	PPK3           Format = "ppk3"
)

// The formats of a public key.
const (
	OneLine Format = "line"
	RFC4716 Format = "rfc4716"
	SPKI    Format = "spki"
	JWK     Format = "jwk"
)

// ErrPassphraseNeeded is returned for an encrypted private key that is read
// without a passphrase, ErrPassphraseWrong where the passphrase does not open it.
var (
	ErrPassphraseNeeded = errors.New("the private key is encrypted: its passphrase is needed")
	ErrPassphraseWrong  = errors.New("the passphrase does not open the private key, or the file is damaged")
)

// Bounds on the work that a file can ask for. A file that asks for more is
// refused before any of the work is done.
const (
	maxBcryptRounds    = 64
	maxPBKDF2Rounds    = 1_000_000
	maxArgon2MemoryKiB = 32 << 10
	maxArgon2Work      = 512 << 10 // KiB times passes
	maxScryptMemory    = 32 << 20
)

// PrivateFile is what a private key's file holds.
type PrivateFile struct {
	Pair
	Format Format
	// Encrypted is whether the file needs a passphrase.
	Encrypted bool
	// Cipher names how it is encrypted, as the format calls it.
	Cipher string
	// Notes say what was repaired in the text.
	Notes []Note
}

// ReadPrivate reads a private key in any of the formats. passphrase is nil for
// none. The error is ErrPassphraseNeeded, ErrPassphraseWrong or a *Refusal; with
// the first of them, what the file tells without its passphrase is returned too.
func ReadPrivate(text, passphrase []byte) (PrivateFile, error) {
	if len(text) > MaxTextBytes {
		return PrivateFile{}, &Refusal{
			Code:    CodeTooLarge,
			Problem: fmt.Sprintf("the file has %d bytes; a private key's has at most %d", len(text), MaxTextBytes),
			Remedy:  "Give the file of one private key",
		}
	}
	file, err := readPrivate(text, passphrase)
	var refused *Refusal
	if !errors.As(err, &refused) {
		return file, err
	}
	repaired, notes := repairPrivate(text)
	if len(notes) == 0 {
		return file, err
	}
	again, second := readPrivate(repaired, passphrase)
	if errors.As(second, &refused) {
		return file, err // of the text as it was given
	}
	again.Notes = notes
	return again, second
}

func readPrivate(text, passphrase []byte) (PrivateFile, error) {
	if isPPK(text) {
		return readPPK(text, passphrase)
	}
	return readPEM(text, passphrase)
}

func damaged(format string, args ...any) error {
	return &Refusal{
		Code:    CodeBadBlob,
		Problem: fmt.Sprintf(format, args...),
		Remedy:  "Get the file again from where it was made, without an editor in between",
	}
}

func tooMuchWork(what string, asked, limit int64) error {
	return &Refusal{
		Code:    CodeTooLarge,
		Problem: fmt.Sprintf("the file asks for %s %d; %d is the limit", what, asked, limit),
		Remedy:  "Read it with the program that made it, and give it a passphrase again with ordinary settings",
	}
}

// pairOf makes a Pair of a private key of the standard library.
func pairOf(key any, comment string) (Pair, error) {
	if p, ok := key.(*ed25519.PrivateKey); ok {
		key = *p
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return Pair{}, damaged("the private key is of a type that is not known here")
	}
	switch k := signer.(type) {
	case *rsa.PrivateKey:
		if k.N.BitLen() > maxRSABits {
			return Pair{}, &Refusal{
				Code:    CodeTooLarge,
				Problem: fmt.Sprintf("the RSA modulus has %d bits; %d is the limit", k.N.BitLen(), maxRSABits),
			}
		}
		if len(k.Primes) != 2 {
			return Pair{}, damaged("the RSA key has %d primes; two are usual and all that SSH has room for", len(k.Primes))
		}
		if err := checkPrimes(k); err != nil {
			return Pair{}, err
		}
	case *ecdsa.PrivateKey, ed25519.PrivateKey:
	default:
		return Pair{}, damaged("the private key is of a type that is not known here")
	}
	wire, err := ssh.NewPublicKey(signer.Public())
	if err != nil {
		return Pair{}, damaged("the key cannot be used for SSH: %v", err)
	}
	public, err := ReadBlob(wire.Marshal())
	if err != nil {
		return Pair{}, err
	}
	public.Comment = strings.ToValidUTF8(comment, "?")
	return Pair{Public: public, private: signer}, nil
}

// checkPrimes sees that the parts of an RSA key belong together, without the
// long test that they are prime.
func checkPrimes(k *rsa.PrivateKey) error {
	product := new(big.Int).Mul(k.Primes[0], k.Primes[1])
	one := big.NewInt(1)
	if product.Cmp(k.N) != 0 || k.E < 3 || k.Primes[0].Cmp(one) <= 0 || k.Primes[1].Cmp(one) <= 0 {
		return damaged("the numbers of the RSA key do not belong together")
	}
	for _, p := range k.Primes {
		left := new(big.Int).Mul(k.D, big.NewInt(int64(k.E)))
		if left.Sub(left, one).Mod(left, new(big.Int).Sub(p, one)).Sign() != 0 {
			return damaged("the numbers of the RSA key do not belong together")
		}
	}
	return nil
}

// rsaKey puts an RSA private key together from its numbers.
func rsaKey(n, e, d, p, q *big.Int) (*rsa.PrivateKey, error) {
	for _, v := range []*big.Int{n, e, d, p, q} {
		if v.Sign() <= 0 || v.BitLen() > maxRSABits {
			return nil, damaged("the numbers of the RSA key are out of range")
		}
	}
	if !e.IsInt64() || e.Int64() > 1<<31-1 {
		return nil, damaged("the RSA exponent is over 31 bits, which no SSH program takes")
	}
	k := &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: n, E: int(e.Int64())}, D: d, Primes: []*big.Int{p, q}}
	if err := checkPrimes(k); err != nil {
		return nil, err
	}
	k.Precompute()
	return k, nil
}

var ellipticCurves = map[string]elliptic.Curve{
	"nistp256": elliptic.P256(),
	"nistp384": elliptic.P384(),
	"nistp521": elliptic.P521(),
}

// ecdsaKey puts an ECDSA private key together and checks that its two parts agree.
func ecdsaKey(curve string, point []byte, d *big.Int) (*ecdsa.PrivateKey, error) {
	c, ok := ellipticCurves[curve]
	if !ok {
		return nil, damaged("the curve %q is not known here", printable(curve))
	}
	size := (c.Params().BitSize + 7) / 8
	if d.Sign() <= 0 || d.Cmp(c.Params().N) >= 0 {
		return nil, damaged("the private number is out of the curve's range")
	}
	key, err := ecdsa.ParseRawPrivateKey(c, d.FillBytes(make([]byte, size)))
	if err != nil {
		return nil, damaged("the private number does not fit the curve")
	}
	have, err := key.PublicKey.ECDH()
	if err != nil {
		return nil, damaged("the key does not fit the curve")
	}
	if !bytes.Equal(have.Bytes(), point) {
		return nil, damaged("the private and the public key in the file do not belong together")
	}
	return key, nil
}

// ed25519Key puts an Ed25519 private key together and checks that its two parts agree.
func ed25519Key(seed, public []byte) (ed25519.PrivateKey, error) {
	if len(seed) != ed25519.SeedSize {
		return nil, damaged("an Ed25519 private key has 32 bytes, this one %d", len(seed))
	}
	key := ed25519.NewKeyFromSeed(seed)
	if string(key.Public().(ed25519.PublicKey)) != string(public) {
		return nil, damaged("the private and the public key in the file do not belong together")
	}
	return key, nil
}
