package keypair

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"errors"
	"testing"
)

func TestWhatIsEncryptedToAKeyOpensWithItAlone(t *testing.T) {
	pair, err := Make(rand.Reader, Spec{Type: RSA, Bits: 2048}, "")
	if err != nil {
		t.Fatal(err)
	}
	other, err := Make(rand.Reader, Spec{Type: RSA, Bits: 2048}, "")
	if err != nil {
		t.Fatal(err)
	}
	encrypted, err := rsa.EncryptOAEP(
		sha256.New(), rand.Reader, pair.private.Public().(*rsa.PublicKey), []byte("brent goose"), nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := pair.OpenEncrypted(encrypted); err != nil || string(text) != "brent goose" {
		t.Errorf("%v %q", err, text)
	}
	if _, err := other.OpenEncrypted(encrypted); err == nil {
		t.Error("another key opens it")
	}
	for n := range 3 {
		changed := bytes.Clone(encrypted)
		changed[n*80] ^= 1
		if text, err := pair.OpenEncrypted(changed); err == nil {
			t.Errorf("changed, it opens as %q", text)
		}
	}
	if _, err := pair.OpenEncrypted(nil); err == nil {
		t.Error("nothing opens")
	}
	curve, err := Make(rand.Reader, Spec{}, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := curve.OpenEncrypted(encrypted); !errors.Is(err, ErrNotRSA) {
		t.Errorf("%v", err)
	}
}
