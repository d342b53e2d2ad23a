package safe

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestWhatIsSealedOpensOnlyForItsRecordUnderItsMasterKey(t *testing.T) {
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
	sealed, err := s.Seal(s.Mark(), []byte("the private key"), "record-1")
	if err != nil || bytes.Contains(sealed, []byte("private")) {
		t.Fatalf("%q %v", sealed, err)
	}
	again, err := s.Seal(s.Mark(), []byte("the private key"), "record-1")
	if err != nil || bytes.Equal(sealed, again) {
		t.Error("sealed twice it is the same, so equal secrets show")
	}
	if got, err := open("a").Open(sealed, "record-1"); err != nil || string(got) != "the private key" {
		t.Errorf("%q %v", got, err)
	}
	if _, err := s.Open(sealed, "record-2"); !errors.Is(err, ErrSealed) {
		t.Errorf("for another record: %v", err)
	}
	if _, err := other.Open(sealed, "record-1"); !errors.Is(err, ErrSealed) {
		t.Errorf("under another master key: %v", err)
	}
	for i := range sealed {
		changed := bytes.Clone(sealed)
		changed[i] ^= 1
		if _, err := s.Open(changed, "record-1"); !errors.Is(err, ErrSealed) {
			t.Errorf("byte %d changed: %v", i, err)
		}
	}
}

func TestAMasterKeyThatOthersCanReadOrThatIsNoneIsRefused(t *testing.T) {
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
		t.Error("Make wrote over the master key, so that everything sealed is lost")
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
