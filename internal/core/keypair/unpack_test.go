package keypair

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"unicode/utf16"
)

// wrapAt wraps as mail does: at blanks, and within a word that is longer than a line.
func wrapAt(width int, text string) string {
	var out []string
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		current := ""
		for _, word := range strings.Fields(line) {
			if current != "" && len(current)+1+len(word) > width {
				out, current = append(out, current), ""
			}
			for len(word) > width {
				out, word = append(out, word[:width]), word[width:]
			}
			current = strings.TrimSpace(current + " " + word)
		}
		out = append(out, current)
	}
	return strings.Join(out, "\n") + "\n"
}

func utf16Of(text string, big, mark bool) string {
	var b strings.Builder
	units := utf16.Encode([]rune(text))
	if mark {
		units = append([]uint16{0xfeff}, units...)
	}
	for _, u := range units {
		if big {
			b.WriteString(string([]byte{byte(u >> 8), byte(u)}))
		} else {
			b.WriteString(string([]byte{byte(u), byte(u >> 8)}))
		}
	}
	return b.String()
}

// TestAKeyIsReadOutOfWhatItWasPutInto damages every public form in every way that is known to happen.
func TestAKeyIsReadOutOfWhatItWasPutInto(t *testing.T) {
	jsonOf := func(s string) string {
		text, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	ways := map[string]func(string) string{
		"UTF-16 LE with a mark":    func(s string) string { return utf16Of(s, false, true) },
		"UTF-16 BE with a mark":    func(s string) string { return utf16Of(s, true, true) },
		"UTF-16 LE without a mark": func(s string) string { return utf16Of(s, false, false) },
		"wrapped at 40 columns":    func(s string) string { return wrapAt(40, s) },
		"in quotes":                func(s string) string { return `"` + strings.TrimSpace(s) + `"` },
		"in single quotes":         func(s string) string { return "'" + strings.TrimSpace(s) + "'\n" },
		"in a code fence":          func(s string) string { return "```text\n" + s + "```\n" },
		"in a JSON string":         jsonOf,
		"percent-encoded":          func(s string) string { return url.PathEscape(s) },
		"control-Z at the end":     func(s string) string { return s + "\x1a" },
		"NULs at the end":          func(s string) string { return s + "\x00\x00" },
		"colours":                  func(s string) string { return "\x1b[32m" + strings.TrimSpace(s) + "\x1b[0m\n" },
		"tabs for blanks":          func(s string) string { return strings.ReplaceAll(s, " ", "\t") },
		"CRLF and UTF-16": func(s string) string {
			return utf16Of(strings.ReplaceAll(s, "\n", "\r\n"), false, true)
		},
	}
	for _, spec := range []Spec{{Type: Ed25519}, {Type: RSA, Bits: 2048}, {Type: ECDSA, Bits: 256}} {
		pair, err := Make(rand.Reader, spec, "ines at the atlas desk, second drawer")
		if err != nil {
			t.Fatal(err)
		}
		for _, form := range []Format{OneLine, RFC4716, SPKI} {
			text, err := pair.Public.Write(form)
			if err != nil {
				if spec.Type == Ed25519 && form == SPKI {
					continue
				}
				t.Fatal(form, err)
			}
			for name, way := range ways {
				what := fmt.Sprintf("%s in the form %s, %s", spec.Type, form, name)
				file, err := ReadPublic(way(string(text)))
				if err != nil {
					t.Errorf("%s: %v", what, err)
					continue
				}
				if string(file.Blob) != string(pair.Blob) {
					t.Errorf("%s: it is another key", what)
				}
				quiet := form == SPKI && name == "wrapped at 40 columns" // PEM has no width
				if len(file.Notes) == 0 && !quiet {
					t.Errorf("%s: nothing is said of the repair", what)
				}
				if form == OneLine && file.Comment != pair.Comment {
					t.Errorf("%s: the comment is %q", what, file.Comment)
				}
			}
		}
	}
}

// TestAPrivateKeyIsRefusedInAnyWrapping packs a private key as public ones come.
func TestAPrivateKeyIsRefusedInAnyWrapping(t *testing.T) {
	pair, err := Make(rand.Reader, Spec{}, "")
	if err != nil {
		t.Fatal(err)
	}
	private, err := pair.Write(rand.Reader, OpenSSHPrivate, nil)
	if err != nil {
		t.Fatal(err)
	}
	packed, err := json.Marshal(string(private))
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"UTF-16": utf16Of(string(private), false, true), "JSON": string(packed), "percent": url.PathEscape(string(private)),
		"fence": "```\n" + string(private) + "```\n",
	} {
		var r *Refusal
		if _, err := ReadPublic(text); !errors.As(err, &r) || r.Code != CodePrivate {
			t.Errorf("%s: %v", name, err)
		}
	}
}
