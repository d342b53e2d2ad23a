package weakness

import (
	"crypto/rand"
	"math/big"
	"slices"
	"testing"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/wire"
)

func codes(findings []Finding) []string {
	var out []string
	for _, f := range findings {
		out = append(out, f.Code)
	}
	return out
}

func TestJudgeSaysWhatIsWeak(t *testing.T) {
	rsa1024 := keypair.Public{Type: keypair.RSA, Bits: 1024, Blob: rsaBlob(65537, 1024)}
	for name, c := range map[string]struct {
		key  keypair.Public
		want []string
	}{
		"short rsa": {rsa1024, []string{"rsa-short"}},
		"old rsa":   {keypair.Public{Type: keypair.RSA, Bits: 2048, Blob: rsaBlob(65537, 2048)}, []string{"rsa-old"}},
		"small exponent": {
			keypair.Public{Type: keypair.RSA, Bits: 3072, Blob: rsaBlob(3, 3072)}, []string{"rsa-exponent"},
		},
		"good rsa": {keypair.Public{Type: keypair.RSA, Bits: 3072, Blob: rsaBlob(65537, 3072)}, nil},
		"named": {
			keypair.Public{Type: keypair.Ed25519, Bits: 256, Comment: "ines@wrackline"}, []string{"comment-names"},
		},
		"good": {keypair.Public{Type: keypair.Ed25519, Bits: 256, Comment: "atlas deploy"}, nil},
	} {
		if got := codes(Judge(c.key)); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
	for _, f := range append(Judge(rsa1024), JudgePrivate(keypair.PrivateFile{})...) {
		if f.Text == "" || f.Remedy == "" {
			t.Errorf("%s has no text or no remedy", f.Code)
		}
	}
	for bits, want := range map[uint]string{1024: "2013-12-31", 2048: "2030-12-31"} {
		key := keypair.Public{Type: keypair.RSA, Bits: int(bits), Blob: rsaBlob(65537, bits)}
		if got := Judge(key); got[0].ActBy != want {
			t.Errorf("an RSA key of %d bits is to be replaced by %q, want %q", bits, got[0].ActBy, want)
		}
	}
}

func rsaBlob(e int64, bits uint) []byte {
	n := new(big.Int).Lsh(big.NewInt(1), bits-1)
	var w wire.Writer
	w.Str([]byte("ssh-rsa"))
	w.Mpint(big.NewInt(e))
	w.Mpint(n.Add(n, big.NewInt(1)))
	return w.Bytes
}

func TestSharedPrimesFindsExactlyThePairsThatShareOne(t *testing.T) {
	prime := func() *big.Int {
		p, err := rand.Prime(rand.Reader, 256)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	shared := prime()
	var moduli []*big.Int
	for n := range 41 {
		p, q := prime(), prime()
		if n == 7 || n == 23 || n == 40 {
			p = shared
		}
		moduli = append(moduli, new(big.Int).Mul(p, q))
	}
	moduli = append(moduli, moduli[3]) // the same key twice shares no prime with another key
	got := SharedPrimes(moduli)
	if want := []SharedPrime{{7, 23}, {7, 40}, {23, 40}}; !slices.Equal(got, want) {
		t.Errorf("found %v, want %v", got, want)
	}
	if got := SharedPrimesWith(moduli[20:24], moduli[:20]); !slices.Equal(got, []SharedPrime{{3, 7}}) {
		t.Errorf("with the known ones it found %v", got)
	}
	if got := SharedPrimesWith([]*big.Int{moduli[3], moduli[5]}, moduli[:6]); got != nil {
		t.Errorf("keys known already share a prime with themselves: %v", got)
	}
	if SharedPrimes(moduli[:1]) != nil || SharedPrimes(nil) != nil {
		t.Error("one key shares a prime with itself")
	}
}
