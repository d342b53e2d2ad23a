package sshio

import (
	"errors"
	"os"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/sshio/sshdtest"
)

func TestARealSSHDIsAskedWhetherItTakesPasswordsWithoutOne(t *testing.T) {
	for _, c := range []struct {
		server *sshdtest.Server
		takes  bool
	}{{sshdtest.Start(t), false}, {sshdtest.StartTakingPasswords(t), true}} {
		target := Target{
			User:     c.server.User,
			Address:  "127.0.0.1",
			Port:     c.server.Port,
			HostKeys: [][]byte{c.server.HostKey.Marshal()},
		}
		if takes, err := TakesPasswords(t.Context(), target); err != nil || takes != c.takes {
			t.Errorf("it takes passwords: %v, and is said to: %v %v", c.takes, takes, err)
		}
		if _, err := LoginWithPassword(t.Context(), target, "not the password"); !errors.Is(err, ErrRefused) {
			t.Errorf("with a wrong password: %v", err)
		}
		other, err := ssh.NewPublicKey(newSigner(t).PublicKey().(ssh.CryptoPublicKey).CryptoPublicKey())
		if err != nil {
			t.Fatal(err)
		}
		target.HostKeys = [][]byte{other.Marshal()}
		if _, err := LoginWithPassword(t.Context(), target, "a secret"); !errors.Is(err, ErrHostKey) {
			t.Errorf("the password was given to another host: %v", err)
		}
	}
}

func TestACommandIsRunAsItIsSaid(t *testing.T) {
	_, _, _, s := atSSHD(t, "")
	words := []string{"a b", "it's", "$HOME", "*", "`id`", "", "-n", "ü\t;"}
	out, err := s.Run(nil, append([]string{"printf", "%s\\n"}, words...)...)
	if err != nil || string(out) != strings.Join(words, "\n")+"\n" {
		t.Errorf("%v %q", err, out)
	}
	if out, err := s.Run([]byte("in\x00put\n"), "cat"); err != nil || string(out) != "in\x00put\n" {
		t.Errorf("%v %q", err, out)
	}
	if _, err := s.Run(nil, "ls", "/no such folder"); err == nil || !strings.Contains(err.Error(), "/no such folder") {
		t.Errorf("a command that fails: %v", err)
	}
	if _, err := os.Stat(ServerConfig); err == nil {
		if out, err := s.Run(nil, "cat", ServerConfig); err != nil || len(out) == 0 {
			t.Errorf("%v", err)
		}
	}
}
