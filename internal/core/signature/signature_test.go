package signature

import (
	"crypto/rand"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/keypair"
)

func newSigner(t testing.TB, spec keypair.Spec) ssh.Signer {
	t.Helper()
	pair, err := keypair.Make(rand.Reader, spec, "")
	if err != nil {
		t.Fatal(err)
	}
	text, err := pair.OpenSSH(nil)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

func TestASignatureHoldsForItsTextNamespaceAndKeyAlone(t *testing.T) {
	c := Challenge{
		Service: "latch",
		Person:  "ines",
		Key:     "k",
		SHA256:  "SHA256:x",
		Nonce:   []byte("nonce"),
		Expires: time.Unix(1e9, 0),
	}
	other := newSigner(t, keypair.Spec{})
	for _, spec := range []keypair.Spec{{}, {Type: keypair.RSA, Bits: 2048}, {Type: keypair.ECDSA, Bits: 521}} {
		signer := newSigner(t, spec)
		key := signer.PublicKey().Marshal()
		sig, err := Sign(signer, Namespace, []byte(c.Text()))
		if err != nil {
			t.Fatal(err)
		}
		if err := Verify(sig, Namespace, []byte(c.Text()), key); err != nil {
			t.Errorf("%s: %v", signer.PublicKey().Type(), err)
		}
		changed := c
		changed.Person = "marek"
		for name, v := range map[string]struct {
			err  error
			want error
		}{
			"another person":    {Verify(sig, Namespace, []byte(changed.Text()), key), ErrSignature},
			"another namespace": {Verify(sig, "file", []byte(c.Text()), key), ErrNamespace},
			"another key":       {Verify(sig, Namespace, []byte(c.Text()), other.PublicKey().Marshal()), ErrKey},
			"half of it":        {Verify(sig[:len(sig)/2], Namespace, []byte(c.Text()), key), ErrArmour},
			"nothing":           {Verify("", Namespace, nil, key), ErrArmour},
			"far too long":      {Verify(sig+strings.Repeat("x", MaxArmourBytes), Namespace, []byte(c.Text()), key), ErrArmour},
		} {
			if !errors.Is(v.err, v.want) {
				t.Errorf("%s, %s: %v, want %v", signer.PublicKey().Type(), name, v.err, v.want)
			}
		}
	}
}

func TestSSHKeygenMakesAndTakesTheSameSignatures(t *testing.T) {
	dir := t.TempDir()
	for _, typ := range []string{"ed25519", "rsa", "ecdsa"} {
		file := filepath.Join(dir, typ)
		if out, err := exec.Command(
			"ssh-keygen", "-q", "-t", typ, "-N", "", "-C", "ines", "-f", file,
		).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		text := []byte("I hold it\n")
		cmd := exec.Command("ssh-keygen", "-q", "-Y", "sign", "-f", file, "-n", Namespace)
		cmd.Stdin = strings.NewReader(string(text))
		theirs, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		private, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		signer, err := ssh.ParsePrivateKey(private)
		if err != nil {
			t.Fatal(err)
		}
		if err := Verify(string(theirs), Namespace, text, signer.PublicKey().Marshal()); err != nil {
			t.Errorf("%s: ssh-keygen's signature: %v", typ, err)
		}
		ours, err := Sign(signer, Namespace, text)
		if err != nil {
			t.Fatal(err)
		}
		signed, allowed := filepath.Join(dir, typ+".sig"), filepath.Join(dir, typ+".allowed")
		line := "ines " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))) + "\n"
		if err := errors.Join(
			os.WriteFile(signed, []byte(ours), 0o600), os.WriteFile(allowed, []byte(line), 0o600),
		); err != nil {
			t.Fatal(err)
		}
		check := exec.Command("ssh-keygen", "-q", "-Y", "verify", "-f", allowed, "-I", "ines", "-n", Namespace, "-s", signed)
		check.Stdin = strings.NewReader(string(text))
		if out, err := check.CombinedOutput(); err != nil {
			t.Errorf("%s: ssh-keygen refuses ours: %v %s", typ, err, out)
		}
	}
}

func FuzzVerify(f *testing.F) {
	signer := newSigner(f, keypair.Spec{})
	sig, err := Sign(signer, Namespace, []byte("text"))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(sig)
	f.Add("-----BEGIN SSH SIGNATURE-----\nU1NIU0lH\n-----END SSH SIGNATURE-----\n")
	f.Fuzz(func(t *testing.T, armoured string) {
		if Verify(armoured, Namespace, []byte("another text"), signer.PublicKey().Marshal()) == nil {
			t.Error("a signature of another text was taken")
		}
	})
}
