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
	for _, text := range []string{"", "hello", "SHA256:short", "MD5:" + hex.EncodeToString(sha), "12:34", "AAAA", "SHA512:" + hex.EncodeToString(sha) + "00"} {
		if d, ok := ReadFingerprint(text); ok {
			t.Errorf("%q is read as %s %x", text, d.Kind, d.Sum)
		}
	}
}
