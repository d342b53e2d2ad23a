package keypair

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestFilesOfEveryFormatAreReadAsTheirMakerSays reads files that OpenSSH and
// OpenSSL wrote (and .ppk files of our own), and compares with the fingerprints
// that ssh-keygen printed.
func TestFilesOfEveryFormatAreReadAsTheirMakerSays(t *testing.T) {
	list, err := os.ReadFile("testdata/private/fingerprints")
	if err != nil {
		t.Fatal(err)
	}
	ciphers := map[string]string{"openssh-ed25519-gcm": "aes256-gcm@openssh.com", "openssh-rsa-ctr": "aes256-ctr", "openssh-ecdsa521-chacha": "chacha20-poly1305@openssh.com"}
	formats := map[string]Format{"openssh": OpenSSHPrivate, "pkcs1": ClassicPEM, "sec1": ClassicPEM, "pkcs8": PKCS8, "ppk2": PPK2, "ppk3": PPK3}
	for line := range strings.Lines(string(list)) {
		fields := strings.Fields(line)
		file, sha256 := fields[0], fields[2]
		text, err := os.ReadFile(filepath.Join("testdata/private", file))
		if err != nil {
			t.Fatal(err)
		}
		plain, err := ReadPrivate(text, nil)
		read := plain
		if errors.Is(err, ErrPassphraseNeeded) {
			if _, err := ReadPrivate(text, []byte("leach's petrel")); !errors.Is(err, ErrPassphraseWrong) {
				t.Errorf("%s with a wrong passphrase: %v", file, err)
			}
			read, err = ReadPrivate(text, []byte("storm petrel"))
		}
		if err != nil {
			t.Errorf("%s: %v", file, err)
			continue
		}
		family, _, _ := strings.Cut(file, "-")
		if FormatSHA256(read.SHA256()) != sha256 || read.Format != formats[family] || plain.Encrypted != read.Encrypted {
			t.Errorf("%s is read as %s %s, encrypted %v", file, read.Format, FormatSHA256(read.SHA256()), read.Encrypted)
		}
		if want := ciphers[file]; want != "" && read.Cipher != want {
			t.Errorf("%s is encrypted with %s, read as %s", file, want, read.Cipher)
		}
		for n := range text { // every cut leaves a clear error, and never a key
			if n%37 != 0 {
				continue
			}
			if got, err := ReadPrivate(text[:n], []byte("storm petrel")); err == nil && FormatSHA256(got.SHA256()) != sha256 {
				t.Errorf("%s cut after %d bytes is read as another key", file, n)
			}
		}
	}
}

func TestDamagedPublicKeysAreRepairedAndSaidOrRefusedWithThePlace(t *testing.T) {
	want, err := os.ReadFile("testdata/public/fingerprint")
	if err != nil {
		t.Fatal(err)
	}
	for file, c := range map[string]struct {
		note         string // part of a note, for what is repaired
		code         string // of the refusal
		line, column int
	}{
		"plain":                {},
		"rfc4716":              {},
		"spki":                 {},
		"pkcs1":                {},
		"jwk":                  {},
		"no-last-newline":      {},
		"crlf":                 {note: "CRLF"},
		"bom":                  {note: "byte order mark"},
		"mail-quoted":          {note: "quoting of a mail"},
		"wrapped":              {note: "wrapped over 6 lines"},
		"blanks-inside":        {note: "blanks within the key data"},
		"html-entities":        {note: "HTML entities"},
		"smart-options":        {note: "typographic quotes"},
		"rfc4716-smart-dashes": {note: "typographic"},
		"cut-short":            {code: CodeCutShort, line: 1, column: 309},
		"foreign-character":    {code: CodeBadBlob, line: 1, column: 49},
		"type-missing":         {code: CodeNoType, line: 1, column: 1},
		"type-other":           {code: CodeMismatch, line: 1, column: 13},
		"two-keys":             {code: CodeSeveral, line: 2, column: 1},
		"rfc4716-no-end":       {code: CodeCutShort, line: 9, column: 1},
		"private-instead":      {code: CodePrivate},
		"certificate":          {code: CodeUnknownType, line: 1, column: 1},
		"dsa":                  {code: CodeUnknownType, line: 1, column: 1},
		"unknown-type":         {code: CodeUnknownType, line: 1, column: 1},
		"empty":                {code: CodeEmpty},
	} {
		text, err := os.ReadFile(filepath.Join("testdata/public", file))
		if err != nil {
			t.Fatal(err)
		}
		read, err := ReadPublic(string(text))
		if c.code == "" {
			if err != nil || FormatSHA256(read.SHA256()) != strings.TrimSpace(string(want)) {
				t.Errorf("%s: %v, read as %s", file, err, FormatSHA256(read.SHA256()))
				continue
			}
			var notes []string
			for _, n := range read.Notes {
				notes = append(notes, n.Text)
			}
			if said := strings.Join(notes, "; "); c.note != "" && !strings.Contains(said, c.note) || c.note == "" && said != "" {
				t.Errorf("%s: it says %q, want %q", file, said, c.note)
			}
			continue
		}
		var r *Refusal
		if !errors.As(err, &r) || r.Code != c.code || r.Line != c.line || r.Column != c.column || r.Problem == "" || r.Remedy == "" {
			t.Errorf("%s: %+v, want %s at line %d, column %d", file, err, c.code, c.line, c.column)
			if r != nil {
				t.Logf("%+v", *r)
			}
		}
	}
}
