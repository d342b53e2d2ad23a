package authorizedkeys

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
)

// privateText is a new private key in OpenSSH's format, perhaps encrypted, with its
// public key.
func privateText(t testing.TB, passphrase string) (private string, public keypair.Public) {
	t.Helper()
	pub, priv, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(priv, "warden")
	if passphrase != "" {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(priv, "warden", []byte(passphrase))
	}
	if err != nil {
		t.Fatal(err)
	}
	wire, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	if public, err = keypair.ReadBlob(wire.Marshal()); err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(block)), public
}

func TestKeepHoldsNoPartOfAPrivateKeyHoweverItGotIn(t *testing.T) {
	key := makeKey(t, "ines").Line()
	for name, passphrase := range map[string]string{"in plain": "", "encrypted": "tide"} {
		private, public := privateText(t, passphrase)
		body := strings.Split(strings.TrimSpace(private), "\n")
		body = body[1 : len(body)-1]
		for how, test := range map[string]struct {
			file  string
			tells bool // the public key
		}{
			"appended":               {key + "\n" + private, true},
			"behind no line end":     {key + private, false},
			"with CRLF":              {key + "\r\n" + strings.ReplaceAll(private, "\n", "\r\n"), true},
			"without its first line": {key + "\n" + strings.Join(body, "\n") + "\n", false},
			"only its middle":        {key + "\n" + strings.Join(body[1:], "\n") + "\n", false},
			"in one line":            {key + "\n" + strings.Join(body, "") + "\n", false},
			"as comments": {
				key + "\n# " + strings.ReplaceAll(strings.TrimSpace(private), "\n", "\n# ") + "\n",
				false,
			},
			"above the key":            {private + key + "\n", true},
			"in the comment of a line": {key + " " + strings.Join(body, "") + "\n", false},
		} {
			kept, exposed := Parse([]byte(test.file)).Keep()
			for _, part := range body {
				if len(part) >= 24 && bytes.Contains(kept, []byte(part[:24])) {
					t.Errorf("%s, %s: kept are\n%s", name, how, kept)
					break
				}
			}
			if len(exposed) == 0 {
				t.Errorf("%s, %s: nothing was found", name, how)
				continue
			}
			if how != "behind no line end" && len(Parse(kept).Find(makeBlob(t, key))) != 1 {
				t.Errorf("%s, %s: the public key is gone:\n%s", name, how, kept)
			}
			if want := keypair.FormatSHA256(public.SHA256()); test.tells && exposed[0].Public != want {
				t.Errorf("%s, %s: the public key is told as %q, want %q", name, how, exposed[0].Public, want)
			}
		}
	}
}

func makeBlob(t *testing.T, line string) []byte {
	t.Helper()
	p, err := keypair.ReadLine(line)
	if err != nil {
		t.Fatal(err)
	}
	return p.Blob
}

func TestKeepLeavesAnOrdinaryFileByteForByte(t *testing.T) {
	file := "# by hand\t \r\n\n" + `from="10.0.0.0/8" ` + makeKey(
		t, "a b",
	).Line() +
		"\nssh-puffin AAAA odd\nssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAdamagedDamagedDamaged x\n"
	if kept, exposed := Parse([]byte(file)).Keep(); string(kept) != file || exposed != nil {
		t.Errorf("kept are\n%q and exposed %v, want\n%q and nothing", kept, exposed, file)
	}
}

func TestKeepCutsALongFileAfterAWholeLine(t *testing.T) {
	line := "# " + strings.Repeat("x", 97) + "\n"
	kept, _ := Parse([]byte(strings.Repeat(line, 4000))).Keep()
	if len(kept) > MaxKept+100 || !strings.HasSuffix(string(kept), " more bytes are not kept\n") ||
		strings.Count(string(kept), line) != MaxKept/100 {
		t.Errorf("%d bytes are kept, ending in %q", len(kept), kept[len(kept)-60:])
	}
}

func TestToldIsShortAndWithoutWhatIsNoKey(t *testing.T) {
	private, _ := privateText(t, "")
	for _, l := range Parse([]byte(private + makeKey(t, strings.Repeat("long ", 200)).Line() + "\n# \x1b[2J\n")) {
		got := l.Told()
		if len(got) > text.MaxLine || strings.Contains(got, "\x1b") ||
			l.Kind == Unreadable && strings.Contains(got, strings.TrimSpace(l.Raw)) {
			t.Errorf("%q is told as %q", l.Raw, got)
		}
	}
}

func FuzzKeep(f *testing.F) {
	private, _ := privateText(f, "")
	f.Add([]byte(private))
	f.Add([]byte("# x\nssh-ed25519 AAAA\n\xff"))
	f.Fuzz(func(t *testing.T, data []byte) {
		kept, exposed := Parse(data).Keep()
		if keypair.HoldsPrivate(string(kept)) {
			t.Errorf("of %q a private key is kept: %q (%v)", data, kept, exposed)
		}
	})
}
