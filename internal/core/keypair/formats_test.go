package keypair

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/core/bcryptpbkdf"
)

var privateFormats = []Format{OpenSSHPrivate, ClassicPEM, PKCS8, PPK2, PPK3}

// keepsComment are the formats that have room for a comment.
var keepsComment = map[Format]bool{OpenSSHPrivate: true, PPK2: true, PPK3: true}

// TestEveryFormatRoundTripsToTheSameKey goes through type × format × passphrase,
// and converts each result to every other format again.
func TestEveryFormatRoundTripsToTheSameKey(t *testing.T) {
	dir := t.TempDir()
	for _, s := range []Spec{
		{Type: Ed25519},
		{Type: RSA, Bits: 2048},
		{Type: ECDSA, Bits: 256},
		{Type: ECDSA, Bits: 384},
		{Type: ECDSA, Bits: 521},
	} {
		pair := makePair(t, s, "hide 3, ines")
		for _, format := range privateFormats {
			for _, passphrase := range []string{"", "storm petrel"} {
				name := fmt.Sprintf("%s%d-%s-%v", s.Type, s.Bits, format, passphrase != "")
				text, err := pair.Write(rand.Reader, format, []byte(passphrase))
				var none *FormatError
				if format == ClassicPEM && s.Type == Ed25519 {
					if !errors.As(err, &none) {
						t.Errorf("%s: %v", name, err)
					}
					continue
				}
				if err != nil {
					t.Fatalf("%s: %v", name, err)
				}
				read := readBack(t, name, text, passphrase, format, pair)
				if keepsComment[format] && read.Comment != pair.Comment {
					t.Errorf("%s: the comment came back as %q", name, read.Comment)
				}
				if passphrase == "" {
					for _, next := range privateFormats {
						again, err := read.Write(rand.Reader, next, nil)
						if errors.As(err, &none) {
							continue
						}
						if err != nil {
							t.Fatalf("%s to %s: %v", name, next, err)
						}
						readBack(t, name+" to "+string(next), again, "", next, pair)
					}
				}
				// OpenSSH 9.2 does not read Ed25519 in PKCS#8, and no .ppk files.
				if format == OpenSSHPrivate || format == ClassicPEM || format == PKCS8 && s.Type != Ed25519 {
					askSSHKeygen(t, filepath.Join(dir, name), text, passphrase, pair)
				}
			}
		}
	}
}

func readBack(t *testing.T, name string, text []byte, passphrase string, format Format, want Pair) PrivateFile {
	t.Helper()
	read, err := ReadPrivate(text, []byte(passphrase))
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	if !bytes.Equal(read.Blob, want.Blob) || read.Format != format || read.Encrypted != (passphrase != "") {
		t.Errorf("%s: read as %s, encrypted %v, %s", name, read.Format, read.Encrypted, read.Line())
	}
	if passphrase == "" {
		return read
	}
	if _, err := ReadPrivate(text, nil); !errors.Is(err, ErrPassphraseNeeded) {
		t.Errorf("%s: without a passphrase: %v", name, err)
	}
	if _, err := ReadPrivate(text, []byte("storm petral")); !errors.Is(err, ErrPassphraseWrong) {
		t.Errorf("%s: with a wrong passphrase: %v", name, err)
	}
	return read
}

func askSSHKeygen(t *testing.T, file string, text []byte, passphrase string, want Pair) {
	t.Helper()
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("ssh-keygen", "-y", "-P", passphrase, "-f", file).CombinedOutput()
	if err != nil || !strings.HasPrefix(string(out), want.Algorithm+" "+strings.Fields(want.Line())[1]) {
		t.Errorf("%s: ssh-keygen says %s %v", filepath.Base(file), out, err)
	}
}

// TestFilesOfSSHKeygenAreRead covers what OpenSSH writes: every cipher of its
// own format, the classic PEM forms and PKCS#8.
func TestFilesOfSSHKeygenAreRead(t *testing.T) {
	dir := t.TempDir()
	for n, c := range []struct {
		args      []string
		format    Format
		encrypted bool
	}{
		{[]string{"-t", "ed25519", "-N", ""}, OpenSSHPrivate, false},
		{[]string{"-t", "ed25519", "-N", "petrel", "-Z", "aes256-ctr"}, OpenSSHPrivate, true},
		{[]string{"-t", "ecdsa", "-N", "petrel", "-Z", "aes256-gcm@openssh.com"}, OpenSSHPrivate, true},
		{[]string{"-t", "ed25519", "-N", "petrel", "-Z", "chacha20-poly1305@openssh.com"}, OpenSSHPrivate, true},
		{[]string{"-t", "ecdsa", "-b", "521", "-N", "petrel", "-Z", "aes128-cbc"}, OpenSSHPrivate, true},
		{[]string{"-t", "rsa", "-b", "2048", "-N", "petrel", "-Z", "aes192-ctr", "-a", "4"}, OpenSSHPrivate, true},
		{[]string{"-t", "rsa", "-b", "1024", "-N", "", "-m", "PEM"}, ClassicPEM, false},
		{[]string{"-t", "rsa", "-b", "2048", "-N", "petrel", "-m", "PEM"}, ClassicPEM, true},
		{[]string{"-t", "ecdsa", "-b", "384", "-N", "petrel", "-m", "PEM"}, ClassicPEM, true},
		{[]string{"-t", "rsa", "-b", "2048", "-N", "", "-m", "PKCS8"}, PKCS8, false},
		{[]string{"-t", "ecdsa", "-N", "petrel", "-m", "PKCS8"}, PKCS8, true},
	} {
		file := filepath.Join(dir, fmt.Sprint(n))
		args := append([]string{"-q", "-C", "ines@laptop", "-f", file}, c.args...)
		if out, err := exec.Command("ssh-keygen", args...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		public, err := os.ReadFile(file + ".pub")
		if err != nil {
			t.Fatal(err)
		}
		read, err := ReadPrivate(text, []byte("petrel"))
		if err != nil {
			t.Errorf("%v: %v", c.args, err)
			continue
		}
		if strings.Fields(read.Line())[1] != strings.Fields(string(public))[1] || read.Format != c.format ||
			read.Encrypted != c.encrypted {
			t.Errorf("%v: read as %s %v %s", c.args, read.Format, read.Encrypted, read.Line())
		}
	}
}

func TestAbsurdWorkIsRefusedWithTheLimit(t *testing.T) {
	pair := makePair(t, Spec{}, "")
	v3, err := pair.Write(rand.Reader, PPK3, []byte("p"))
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"memory": strings.Replace(string(v3), "Argon2-Memory: 8192", "Argon2-Memory: 4194304", 1),
		"passes": strings.Replace(string(v3), "Argon2-Passes: 13", "Argon2-Passes: 1000000", 1),
		"lanes":  strings.Replace(string(v3), "Argon2-Parallelism: 1", "Argon2-Parallelism: 200", 1),
	} {
		var r *Refusal
		if _, err := ReadPrivate([]byte(text), []byte("p")); !errors.As(err, &r) || r.Code != CodeTooLarge ||
			!strings.Contains(r.Problem, "is the limit") {
			t.Errorf("%s: %v", name, err)
		}
	}
	file := filepath.Join(t.TempDir(), "k")
	if out, err := exec.Command(
		"ssh-keygen", "-q", "-t", "ed25519", "-N", "petrel", "-a", "100", "-f", file,
	).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var r *Refusal
	if _, err := ReadPrivate(text, []byte("petrel")); !errors.As(err, &r) || r.Code != CodeTooLarge {
		t.Errorf("100 bcrypt rounds: %v", err)
	}
}

// TestDamagedFilesAreRefused changes every byte of small files, one at a time.
func TestDamagedFilesAreRefused(t *testing.T) {
	pair := makePair(t, Spec{}, "c")
	for _, format := range []Format{OpenSSHPrivate, PPK2, PPK3} {
		text, err := pair.Write(rand.Reader, format, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := range text {
			changed := bytes.Clone(text)
			changed[i] ^= 1
			read, err := ReadPrivate(changed, nil)
			if err == nil && !bytes.Equal(read.Blob, pair.Blob) {
				t.Errorf("%s: byte %d changed gives another key", format, i)
			}
			if err == nil && format != OpenSSHPrivate && read.Comment != pair.Comment {
				t.Errorf("%s: byte %d changed passes the MAC", format, i)
			}
			cut, err := ReadPrivate(text[:i], nil)
			if err == nil && i < len(text)-2 && (len(cut.Notes) == 0 || !bytes.Equal(cut.Blob, pair.Blob)) {
				t.Errorf("%s: cut at byte %d is accepted", format, i)
			}
		}
	}
}

func TestPublicFormsAgreeWithSSHKeygen(t *testing.T) {
	dir := t.TempDir()
	for _, s := range []Spec{{Type: Ed25519}, {Type: RSA, Bits: 2048}, {Type: ECDSA, Bits: 384}} {
		pair := makePair(t, s, "hide 3, a comment that is long enough to continue over the end of a line of the armour")
		for format, name := range map[Format]string{RFC4716: "RFC4716", SPKI: "PKCS8"} {
			text, err := pair.Public.Write(format)
			if err != nil {
				t.Fatal(err)
			}
			file := filepath.Join(dir, name)
			if err := os.WriteFile(file, text, 0o600); err != nil {
				t.Fatal(err)
			}
			out, err := exec.Command("ssh-keygen", "-i", "-m", name, "-f", file).CombinedOutput()
			if s.Type == Ed25519 && format == SPKI {
				continue // OpenSSH does not read Ed25519 in this form
			}
			if err != nil || strings.Fields(string(out))[1] != strings.Fields(pair.Line())[1] {
				t.Errorf("%s as %s: ssh-keygen says %s %v", s.Type, name, out, err)
			}
		}
	}
}

func FuzzReadPrivate(f *testing.F) {
	pair, err := Make(rand.Reader, Spec{}, "c")
	if err != nil {
		f.Fatal(err)
	}
	curve, err := Make(rand.Reader, Spec{Type: ECDSA}, "c")
	if err != nil {
		f.Fatal(err)
	}
	for _, p := range []Pair{pair, curve} {
		for _, format := range privateFormats {
			for _, passphrase := range []string{"", "p"} {
				if text, err := p.Write(rand.Reader, format, []byte(passphrase)); err == nil {
					f.Add(text)
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		read, err := ReadPrivate(text, []byte("p"))
		if err != nil {
			return
		}
		again, err := read.Write(rand.Reader, PKCS8, nil)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := ReadPrivate(again, nil); err != nil || !bytes.Equal(back.Blob, read.Blob) {
			t.Errorf("%v: %s and %s", err, back.Line(), read.Line())
		}
	})
}

func BenchmarkMostBcryptRounds(b *testing.B) {
	for b.Loop() {
		if _, err := bcryptpbkdf.Key([]byte("p"), []byte("salt"), maxBcryptRounds, 64); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkMostPBKDF2Rounds(b *testing.B) {
	text, err := makePair(b, Spec{}, "").Write(rand.Reader, PKCS8, []byte("p"))
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := ReadPrivate(text, []byte("p")); err != nil {
			b.Fatal(err)
		}
	}
}
