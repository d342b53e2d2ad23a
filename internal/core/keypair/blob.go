package keypair

import (
	"crypto/ecdh"
	"errors"
	"fmt"
	"math/big"

	"plumlatch/internal/core/wire"
)

const (
	minRSABits = 1024
	maxRSABits = 16384
)

var errTrailing = errors.New("there is data after the end of the key")

type algorithm struct {
	typ   string
	curve string
	bits  int
}

var algorithms = map[string]algorithm{
	"ssh-ed25519":                        {typ: Ed25519, bits: 256},
	"ssh-rsa":                            {typ: RSA},
	"ecdsa-sha2-nistp256":                {typ: ECDSA, curve: "nistp256", bits: 256},
	"ecdsa-sha2-nistp384":                {typ: ECDSA, curve: "nistp384", bits: 384},
	"ecdsa-sha2-nistp521":                {typ: ECDSA, curve: "nistp521", bits: 521},
	"sk-ssh-ed25519@openssh.com":         {typ: SKEd25519, bits: 256},
	"sk-ecdsa-sha2-nistp256@openssh.com": {typ: SKECDSA, curve: "nistp256", bits: 256},
}

var curves = map[string]ecdh.Curve{
	"nistp256": ecdh.P256(),
	"nistp384": ecdh.P384(),
	"nistp521": ecdh.P521(),
}

// ReadBlob reads a public key's wire form. The errors wrap wire.ErrShort where the data
// is truncated; a *Refusal tells of a key too weak or too large to take.
func ReadBlob(blob []byte) (Public, error) {
	r := wire.Reader{Rest: blob}
	name := string(r.Str())
	if r.Err != nil {
		return Public{}, r.Err
	}
	alg, ok := algorithms[name]
	if !ok {
		return Public{}, fmt.Errorf("unknown key type %q", printable(name))
	}
	p := Public{Algorithm: name, Type: alg.typ, Bits: alg.bits, Blob: blob}
	switch alg.typ {
	case Ed25519, SKEd25519:
		if k := r.Str(); r.Err == nil && len(k) != 32 {
			return Public{}, fmt.Errorf("an Ed25519 public key has 32 bytes, this one %d", len(k))
		}
	case ECDSA, SKECDSA:
		curve, point := string(r.Str()), r.Str()
		if r.Err != nil {
			return Public{}, r.Err
		}
		if curve != alg.curve {
			return Public{}, fmt.Errorf("the key type names the curve %s, the key data %q", alg.curve, printable(curve))
		}
		if _, err := curves[curve].NewPublicKey(point); err != nil {
			return Public{}, fmt.Errorf("the point is not on the curve %s", curve)
		}
	case RSA:
		exponent, modulus := r.Mpint(), r.Mpint()
		if r.Err != nil {
			return Public{}, r.Err
		}
		p.Bits = modulus.BitLen()
		if err := checkRSA(exponent, modulus); err != nil {
			return Public{}, err
		}
	}
	if alg.typ == SKEd25519 || alg.typ == SKECDSA {
		r.Str()
	}
	if r.Err != nil {
		return Public{}, r.Err
	}
	if len(r.Rest) > 0 {
		return Public{}, errTrailing
	}
	return p, nil
}

func checkRSA(exponent, modulus *big.Int) error {
	bits := modulus.BitLen()
	switch {
	case bits < minRSABits:
		return &Refusal{
			Code:    CodeTooWeak,
			Problem: fmt.Sprintf("the RSA modulus has %d bits; fewer than %d can be factored", bits, minRSABits),
			Remedy:  "Make a new key: plumlatch key new NAME",
		}
	case bits > maxRSABits:
		return &Refusal{
			Code:    CodeTooLarge,
			Problem: fmt.Sprintf("the RSA modulus has %d bits; %d is the limit", bits, maxRSABits),
			Remedy:  "Use an ed25519 key, or RSA with 4096 bits",
		}
	case modulus.Bit(0) == 0:
		return errors.New("the RSA modulus is even, so the data is damaged")
	case exponent.Cmp(big.NewInt(3)) < 0 || exponent.Bit(0) == 0:
		return errors.New("the RSA exponent is not an odd number above 2, so the data is damaged")
	case exponent.Cmp(modulus) >= 0:
		return errors.New("the RSA exponent is not below the modulus, so the data is damaged")
	}
	return nil
}

// printable cuts s to something fit for an error message.
func printable(s string) string {
	const limit = 40
	out := make([]rune, 0, limit)
	for _, c := range s {
		if len(out) == limit {
			return string(out) + "…"
		}
		if c < ' ' || c > '~' {
			c = '?'
		}
		out = append(out, c)
	}
	return string(out)
}

// KnownAlgorithm reports whether ReadBlob knows the type of key of that name on
// the wire, such as "ssh-ed25519".
func KnownAlgorithm(name string) bool {
	_, ok := algorithms[name]
	return ok
}

// RSANumbers returns the exponent and the modulus of an RSA key; nil for the other types.
func (p Public) RSANumbers() (exponent, modulus *big.Int) {
	if p.Type != RSA {
		return nil, nil
	}
	r := wire.Reader{Rest: p.Blob}
	r.Str()
	return r.Mpint(), r.Mpint()
}
