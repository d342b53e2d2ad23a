package hostcert

import (
	"crypto/ed25519"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// signerOf is a key made of one byte, the same each time.
func signerOf(t testing.TB, b byte) ssh.Signer {
	t.Helper()
	s, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed([]byte(strings.Repeat(string(rune('a'+b)), 32))))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestAnAuthorityVouchesForWhatItSignedAndForNothingElse(t *testing.T) {
	ca, other, host := signerOf(t, 0), signerOf(t, 1), signerOf(t, 2)
	at := time.Date(2026, 11, 29, 6, 41, 0, 0, time.UTC)
	gauge := []string{"gauge.wrackline.example"}
	for name, c := range map[string]struct {
		change func(*ssh.Certificate)
		by     ssh.Signer
		hosts  string
		names  []string
		ok     bool
	}{
		"as it should be":             {nil, ca, "*.wrackline.example", append([]string{"192.0.2.7"}, gauge...), true},
		"another signed it":           {nil, other, "*", gauge, false},
		"another host":                {nil, ca, "*", []string{"mast.wrackline.example"}, false},
		"the authority is not for it": {nil, ca, "*.sea.example", gauge, false},
		"it is excluded":              {nil, ca, "*,!gauge.*", gauge, false},
		"no name of a host":           {nil, ca, "*", []string{""}, false},
		"of a person":                 {func(c *ssh.Certificate) { c.CertType = ssh.UserCert }, ca, "*", gauge, false},
		"for anybody":                 {func(c *ssh.Certificate) { c.ValidPrincipals = nil }, ca, "*", gauge, false},
		"over": {
			func(c *ssh.Certificate) { c.ValidBefore = uint64(at.Unix()) - 1 }, ca, "*", gauge, false,
		},
		"not yet": {
			func(c *ssh.Certificate) { c.ValidAfter = uint64(at.Unix()) + 60 }, ca, "*", gauge, false,
		},
		"with a condition that nobody knows": {
			func(c *ssh.Certificate) { c.CriticalOptions = map[string]string{"tide": "low"} }, ca, "*",
			gauge, false,
		},
	} {
		cert := &ssh.Certificate{
			Key: host.PublicKey(), CertType: ssh.HostCert, ValidPrincipals: gauge,
			ValidAfter: uint64(at.Add(-time.Hour).Unix()), ValidBefore: uint64(at.Add(time.Hour).Unix()),
		}
		if c.change != nil {
			c.change(cert)
		}
		if err := cert.SignCert(strings.NewReader(strings.Repeat("r", 256)), c.by); err != nil {
			t.Fatal(err)
		}
		err := Vouches(cert, Authority{ca.PublicKey(), c.hosts}, c.names, at)
		if (err == nil) != c.ok {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestAnAuthorityIsReadOfALineOrOfKnownHosts(t *testing.T) {
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signerOf(t, 0).PublicKey())))
	for text, hosts := range map[string]string{
		line + " ca":                       "*",
		"@cert-authority *.a,!b.a " + line: "*.a,!b.a",
		"@revoked *.a " + line:             "",
		"@cert-authority |1|x|y " + line:   "",
		"principals=\"a\" " + line:         "",
		line + "\n" + line:                 "",
		"no key":                           "",
		"":                                 "",
	} {
		a, _, err := Read(text)
		if (err == nil) != (hosts != "") || err == nil && a.Hosts != hosts {
			t.Errorf("%q: %q %v", text, a.Hosts, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("@cert-authority * ssh-ed25519 AAAA")
	f.Fuzz(func(t *testing.T, text string) {
		if a, _, err := Read(text); err == nil && (a.Key == nil || a.Hosts == "") {
			t.Errorf("%q is %+v", text, a)
		}
	})
}
