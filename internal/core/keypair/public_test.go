package keypair

import (
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestEveryPublicFormReadsBackToTheSameKey(t *testing.T) {
	for _, s := range []Spec{
		{Type: Ed25519},
		{Type: RSA, Bits: 2048},
		{Type: ECDSA, Bits: 256},
		{Type: ECDSA, Bits: 384},
		{Type: ECDSA, Bits: 521},
	} {
		pair := makePair(t, s, `hide 3, a comment long enough to need a second line in the armoured form, "quoted"`)
		for _, format := range []Format{OneLine, RFC4716, SPKI, JWK} {
			text, err := pair.Public.Write(format)
			if err != nil {
				t.Fatal(err)
			}
			read, err := ReadPublic(string(text))
			if err != nil || !bytes.Equal(read.Blob, pair.Blob) || read.Format != format || len(read.Notes) > 0 {
				t.Errorf("%s as %s: %v %v %s\n%s", s.Type, format, err, read.Notes, read.Format, text)
			}
			if (format == OneLine || format == RFC4716) && read.Comment != pair.Comment {
				t.Errorf("%s as %s: the comment came back as %q", s.Type, format, read.Comment)
			}
			crlf, err := ReadPublic("\ufeff" + strings.ReplaceAll(string(text), "\n", "\r\n"))
			if err != nil || !bytes.Equal(crlf.Blob, pair.Blob) || len(crlf.Notes) < 2 {
				t.Errorf("%s as %s with CRLF and a BOM: %v %v", s.Type, format, err, crlf.Notes)
			}
		}
	}
	key, err := ReadPublic(
		"-----BEGIN RSA PUBLIC " +
			"KEY-----\nMEgCQQCo9+BpMRYQ/dL3DS2CyJxRF+j6ctbT3/Qp84+KeFhnii7NT7fELilKUSnx\n" +
			"S30WAvQCCo2yU1orfgqr41mM70MBAgMBAAE=\n-----END RSA PUBLIC KEY-----\n",
	)
	var weak *Refusal
	if !errors.As(err, &weak) || weak.Code != CodeTooWeak {
		t.Errorf("PKCS#1 of 512 bits: %v %v", key.Bits, err)
	}
}

func TestWhatCanBeRepairedWithoutDoubtIsRepairedAndSaid(t *testing.T) {
	rsaLine := makePair(t, Spec{Type: RSA, Bits: 2048}, "ines@laptop")
	line, body := rsaLine.Line(), strings.Fields(rsaLine.Line())[1]
	armoured, err := rsaLine.Public.Write(RFC4716)
	if err != nil {
		t.Fatal(err)
	}
	wrap := func(s string, n int, sep string) string {
		var parts []string
		for len(s) > n {
			parts, s = append(parts, s[:n]), s[n:]
		}
		return strings.Join(append(parts, s), sep)
	}
	for name, c := range map[string]struct{ text, says string }{
		"wrapped over lines":  {"ssh-rsa " + wrap(body, 64, "\n") + " ines@laptop\n", "wrapped over"},
		"wrapped, indented":   {"ssh-rsa " + wrap(body, 64, "\r\n  ") + " ines@laptop", "wrapped over"},
		"wrapped by blanks":   {"ssh-rsa " + wrap(body, 76, " ") + " ines@laptop", "blanks within"},
		"quoted mail":         {"> " + line + "\n>\n", "quoting of a mail"},
		"quoted twice":        {"> > " + line, "quoting of a mail"},
		"HTML entities":       {strings.ReplaceAll(line, "/", "&#47;"), "HTML entities"},
		"zero-width blanks":   {line[:90] + "\u200b" + line[90:], "invisible"},
		"no-break blank":      {strings.Replace(line, " ", "\u00a0", 1), "typographic"},
		"smart dashes":        {strings.ReplaceAll(string(armoured), "----", "——"), "typographic"},
		"options before":      {`from="192.0.2.0/24, 198.51.100.7",no-pty ` + line, "options before the key"},
		"smart quoted option": {"from=“192.0.2.1” " + line, "typographic"},
		"leading blanks":      {"\n\n   " + line, ""},
		"no line end":         {strings.TrimSpace(string(armoured)), "no line end"},
	} {
		t.Run(name, func(t *testing.T) {
			read, err := ReadPublic(c.text)
			if err != nil || !bytes.Equal(read.Blob, rsaLine.Blob) || read.Comment != "ines@laptop" {
				t.Fatalf("%v %q", err, read.Comment)
			}
			said := false
			for _, n := range read.Notes {
				said = said || strings.Contains(n.Text, c.says)
			}
			if !said && c.says != "" {
				t.Errorf("the notes are %v", read.Notes)
			}
		})
	}
}

func TestWhatIsInDoubtIsRefusedWithItsPlace(t *testing.T) {
	ed := makePair(t, Spec{}, "c")
	line := ed.Line()
	armoured, err := ed.Public.Write(RFC4716)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		text, code string
		line       int
	}{
		"two keys":             {line + "\n" + line, CodeSeveral, 2},
		"a lost line":          {"ssh-rsa AAAAB3NzaC1yc2EAAAADAQABAAAA\nAAAA", CodeWrapped, 2},
		"END and more missing": {string(armoured)[:70], CodeBadBlob, 2},
		"armour, then more":    {string(armoured) + line, CodeSeveral, 5},
		"PEM cut":              {"-----BEGIN PUBLIC KEY-----\nMIIB\n", CodeBadBlob, 1},
		"X.509 certificate":    {"-----BEGIN CERTIFICATE-----\nMIIB\n", CodeOtherForm, 1},
		"JSON cut":             {`{"kty":"OKP"`, CodeBadBlob, 1},
		"JWK of a foreign set": {`{"kty":"oct","k":"AA"}`, CodeBadBlob, 1},
		"private JWK":          {`{"kty":"OKP","crv":"Ed25519","x":"AA","d":"AA"}`, CodePrivate, 0},
		"nothing":              {"\n# a comment\n", CodeEmpty, 0},
		"a word after it":      {line + "\nhello", CodeSeveral, 2},
	} {
		_, err := ReadPublic(c.text)
		var r *Refusal
		if !errors.As(err, &r) || r.Code != c.code || r.Line != c.line {
			t.Errorf("%s: %+v", name, err)
		}
	}
}

func TestAListIsReadLineByLine(t *testing.T) {
	a, b := makePair(t, Spec{}, "a"), makePair(t, Spec{Type: ECDSA}, "b")
	list, _, err := ReadList(
		"# team\n" + a.Line() + "\n\nssh-frob AAAA x\n" +
			"restrict,command=\"/bin/date now\" " + b.Line() + "\n" + a.Line()[:40] + "\n",
	)
	if err != nil || len(list) != 4 {
		t.Fatalf("%v %v", list, err)
	}
	if list[0].Refused != nil || list[0].Comment != "a" || list[0].Line != 2 {
		t.Errorf("%+v", list[0])
	}
	if list[1].Refused == nil || list[1].Refused.Code != CodeUnknownType || list[1].Line != 4 {
		t.Errorf("%+v", list[1])
	}
	if list[2].Refused != nil || list[2].Comment != "b" || list[2].Options != `restrict,command="/bin/date now"` {
		t.Errorf("%+v", list[2])
	}
	if list[3].Refused == nil || list[3].Refused.Code != CodeCutShort {
		t.Errorf("%+v", list[3])
	}
	if _, _, err := ReadList(strings.Repeat("#\n", MaxListBytes)); err == nil {
		t.Error("a list over the limit was read")
	}
}

func TestTheOtherFingerprintsAgreeWithTheirDefinitions(t *testing.T) {
	pair := makePair(t, Spec{Type: RSA, Bits: 2048}, "")
	file := filepath.Join(t.TempDir(), "k.pub")
	if err := os.WriteFile(file, []byte(pair.Line()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("ssh-keygen", "-e", "-m", "PKCS8", "-f", file).Output()
	if err != nil {
		t.Fatal(err)
	}
	der, err := pair.SPKIDER()
	if err != nil {
		t.Fatal(err)
	}
	text, err := pair.Public.Write(SPKI)
	if err != nil || string(text) != string(out) {
		t.Errorf("SPKI differs from what ssh-keygen writes: %v", err)
	}
	sum := md5.Sum(der)
	if !bytes.Equal(pair.SPKIMD5(), sum[:]) {
		t.Errorf("%x", pair.SPKIMD5())
	}
	records, err := exec.Command("ssh-keygen", "-r", "host", "-f", file).Output()
	if err != nil || !strings.Contains(string(records), "SSHFP "+pair.SSHFP()) {
		t.Errorf("ssh-keygen says %s, we %s", records, pair.SSHFP())
	}
	sha1, err := pair.PKCS8SHA1()
	if err != nil || len(hex.EncodeToString(sha1)) != 40 {
		t.Errorf("%x %v", sha1, err)
	}
}

func FuzzReadPublic(f *testing.F) {
	f.Add("---- BEGIN SSH2 PUBLIC KEY ----\nComment: \"x\"\nAAAA\n---- END SSH2 PUBLIC KEY ----\n")
	f.Add("> ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH1xmF0uVwv8mFqnV2v9oS2cX3JvQd0bD1Yb2l0K4h7C x")
	f.Add(`{"kty":"OKP","crv":"Ed25519","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}`)
	f.Add(
		"-----BEGIN PUBLIC KEY-----\nMCowBQYDK2VwAyEA11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\n-----END PUBLIC " +
			"KEY-----\n",
	)
	f.Add("from=\"a b\",no-pty ssh-ed25519 AAAA")
	f.Fuzz(func(t *testing.T, text string) {
		list, _, err := ReadList(text)
		if err == nil && len(list) > len(text) {
			t.Errorf("%d lines in %d bytes", len(list), len(text))
		}
		read, err := ReadPublic(text)
		if err != nil {
			var r *Refusal
			if !errors.As(err, &r) {
				t.Errorf("error %v", err)
			}
			return
		}
		again, err := ReadPublic(read.Line())
		if err != nil || again.Line() != read.Line() || len(again.Notes) > 0 {
			t.Errorf("%q reads as %q, then %v %v", text, read.Line(), err, again.Notes)
		}
	})
}
