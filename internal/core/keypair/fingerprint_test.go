package keypair

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"strings"
	"testing"
)

func TestAFingerprintIsReadInEverySpelling(t *testing.T) {
	p := makePair(t, Spec{}, "")
	sha, md := p.SHA256(), p.MD5()
	sha1, err := p.PKCS8SHA1()
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]struct {
		kind string
		sum  []byte
	}{
		FormatSHA256(sha): {"sha256", sha},
		strings.TrimPrefix(FormatSHA256(sha), "SHA256:"):      {"sha256", sha},
		FormatSHA256(sha) + "=":                               {"sha256", sha},
		"sha256:" + base64.URLEncoding.EncodeToString(sha):    {"sha256", sha},
		hex.EncodeToString(sha):                               {"sha256", sha},
		"256 " + FormatSHA256(sha) + " ines@laptop (ED25519)": {"sha256", sha},
		p.SSHFP(): {"sha256", sha},
		"host.example. 3600 IN SSHFP " + p.SSHFP(): {"sha256", sha},
		FormatMD5(md): {"md5", md},
		"  " + strings.ToUpper(strings.TrimPrefix(FormatMD5(md), "MD5:")) + "\n": {"md5", md},
		hex.EncodeToString(md):                      {"md5", md},
		strings.ReplaceAll(FormatHex(md), ":", "-"): {"md5", md},
		FormatHex(sha1):                             {"sha1", sha1},
	} {
		if d, ok := ReadFingerprint(text); !ok || d.Kind != want.kind || !bytes.Equal(d.Sum, want.sum) {
			t.Errorf("%q is read as %s %x, %v", text, d.Kind, d.Sum, ok)
		}
	}
	for _, text := range []string{
		"",
		"hello",
		"SHA256:short",
		"MD5:" + hex.EncodeToString(sha),
		"12:34",
		"AAAA",
		"SHA512:" + hex.EncodeToString(sha) + "00",
	} {
		if d, ok := ReadFingerprint(text); ok {
			t.Errorf("%q is read as %s %x", text, d.Kind, d.Sum)
		}
	}
}

func FuzzReadFingerprint(f *testing.F) {
	for _, seed := range []string{
		"SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU", "MD5:d4:1d:8c:d9:8f:00:b2:04:e9:80:09:98:ec:f8:42:7e",
		"4 2 e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
		"h. 60 IN SSHFP 1 1 da39a3ee5e6b4b0d3255bfef95601890afd80709",
		"256 SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU oona (ED25519)", "", "::", "'\"",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, ok := ReadFingerprint(text)
		if !ok {
			return
		}
		if digestSizes[len(d.Sum)] != d.Kind {
			t.Fatalf("%q is read as %s of %d bytes", text, d.Kind, len(d.Sum))
		}
		again, ok := ReadFingerprint(FormatHex(d.Sum))
		if !ok || again.Kind != d.Kind || !bytes.Equal(again.Sum, d.Sum) {
			t.Fatalf("%q is read as %x, which is read as %x", text, d.Sum, again.Sum)
		}
	})
}
