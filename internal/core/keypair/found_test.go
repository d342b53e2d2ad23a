package keypair

import (
	"bytes"
	"errors"
	"reflect"
	"strings"
	"testing"
)

// armoured are one public key in each armour.
func armoured(t testing.TB) []string {
	t.Helper()
	pair, err := Make(zeros{}, Spec{Type: RSA, Bits: 2048}, "hide 7")
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, format := range []Format{RFC4716, SPKI} {
		text, err := pair.Public.Write(format)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, string(text))
	}
	return out
}

// TestAReadingEitherFindsAKeyOrIsRefused spoils armour as mail and shells do. An error that is nil and not
// nil at once made the client panic.
func TestAReadingEitherFindsAKeyOrIsRefused(t *testing.T) {
	for _, text := range armoured(t) {
		for name, spoilt := range map[string]string{
			"as it is":       text,
			"tabs":           strings.ReplaceAll(text, " ", "\t"),
			"one line":       strings.ReplaceAll(text, "\n", " "),
			"joined":         strings.ReplaceAll(text, "\n", ""),
			"half":           text[:len(text)/2],
			"the head alone": text[:min(len(text), 30)],
			"other words":    strings.ReplaceAll(text, "PUBLIC", "SIGNED"),
		} {
			eitherOr(t, name, spoilt)
		}
		if _, err := ReadPublic(strings.ReplaceAll(text, " ", "\t")); err != nil && strings.Contains(text, "BEGIN P") {
			t.Errorf("tabs: %v\n%s", err, text)
		}
	}
}

func eitherOr(t *testing.T, name, text string) {
	t.Helper()
	for reader, read := range map[string]func() (int, error){
		"ReadPublic": func() (int, error) { f, err := ReadPublic(text); return len(f.Public.Blob), err },
		"ReadLine":   func() (int, error) { p, err := ReadLine(text); return len(p.Blob), err },
		"ReadPrivate": func() (int, error) {
			f, err := ReadPrivate([]byte(text), nil)
			if errors.Is(err, ErrPassphraseNeeded) {
				return 0, err
			}
			return len(f.Public.Blob), err
		},
		"ReadList": func() (int, error) { l, _, err := ReadList(text); return len(l), err },
	} {
		n, err := read()
		if v := reflect.ValueOf(err); err == nil && n == 0 && reader != "ReadList" ||
			err != nil && v.Kind() == reflect.Pointer && v.IsNil() {
			t.Errorf("%s of %s: %d bytes of a key and the error %#v", reader, name, n, err)
		}
	}
}

func FuzzReaders(f *testing.F) {
	for _, text := range armoured(f) {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) { eitherOr(t, "the text", text) })
}

// zeros is randomness that makes the same key each time.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return copy(p, bytes.Repeat([]byte{7}, len(p))), nil }
