package safe

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestWhatIsEncryptedOpensOnlyForItsRecordUnderItsSafeKey(t *testing.T) {
	dir := t.TempDir()
	open := func(name string) *Safe {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := Make(path); err != nil {
			t.Fatal(err)
		}
		s, err := Open(path)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s, other := open("a"), open("b")
	encrypted, err := s.Seal(s.Mark(), []byte("the private key"), "record-1")
	if err != nil || bytes.Contains(encrypted, []byte("private")) {
		t.Fatalf("%q %v", encrypted, err)
	}
	again, err := s.Seal(s.Mark(), []byte("the private key"), "record-1")
	if err != nil || bytes.Equal(encrypted, again) {
		t.Error("encrypted twice it is the same, so equal secrets show")
	}
	if got, err := open("a").Open(encrypted, "record-1"); err != nil || string(got) != "the private key" {
		t.Errorf("%q %v", got, err)
	}
	if _, err := s.Open(encrypted, "record-2"); !errors.Is(err, ErrEncrypted) {
		t.Errorf("for another record: %v", err)
	}
	if _, err := other.Open(encrypted, "record-1"); !errors.Is(err, ErrEncrypted) {
		t.Errorf("under another safe key: %v", err)
	}
	for i := range encrypted {
		changed := bytes.Clone(encrypted)
		changed[i] ^= 1
		if _, err := s.Open(changed, "record-1"); !errors.Is(err, ErrEncrypted) {
			t.Errorf("byte %d changed: %v", i, err)
		}
	}
}

func TestASafeKeyThatOthersCanReadOrThatIsNoneIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := Open(path); err == nil {
		t.Error("a file that is not there was taken")
	}
	if err := Make(path); err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := Make(path); err != nil {
		t.Fatal(err)
	}
	if after, err := os.ReadFile(path); err != nil || !bytes.Equal(before, after) {
		t.Error("Make wrote over the safe key, so that everything encrypted is lost")
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a key that others can read: %v", err)
	}
	if err := os.WriteFile(path, []byte("short\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(path); err == nil {
		t.Error("a short key was taken")
	}
}
