package keypair

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"errors"
	"testing"
)

func TestWhatIsSealedToAKeyOpensWithItAlone(t *testing.T) {
	pair, err := Make(rand.Reader, Spec{Type: RSA, Bits: 2048}, "")
	if err != nil {
		t.Fatal(err)
	}
	other, err := Make(rand.Reader, Spec{Type: RSA, Bits: 2048}, "")
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := rsa.EncryptOAEP(
		sha256.New(), rand.Reader, pair.private.Public().(*rsa.PublicKey), []byte("brent goose"), nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := pair.OpenSealed(sealed); err != nil || string(text) != "brent goose" {
		t.Errorf("%v %q", err, text)
	}
	if _, err := other.OpenSealed(sealed); err == nil {
		t.Error("another key opens it")
	}
	for n := range 3 {
		changed := bytes.Clone(sealed)
		changed[n*80] ^= 1
		if text, err := pair.OpenSealed(changed); err == nil {
			t.Errorf("changed, it opens as %q", text)
		}
	}
	if _, err := pair.OpenSealed(nil); err == nil {
		t.Error("nothing opens")
	}
	curve, err := Make(rand.Reader, Spec{}, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := curve.OpenSealed(sealed); !errors.Is(err, ErrNotRSA) {
		t.Errorf("%v", err)
	}
}
