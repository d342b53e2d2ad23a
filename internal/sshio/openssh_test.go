package sshio

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/sshio/sshdtest"
)

// identity is a private key in a file, as OpenSSH's ssh takes it.
type identity struct {
	ssh.Signer
	file string
}

func newIdentity(t *testing.T) identity {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	i := identity{file: filepath.Join(t.TempDir(), "key")}
	if err := os.WriteFile(i.file, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	if i.Signer, err = ssh.NewSignerFromKey(private); err != nil {
		t.Fatal(err)
	}
	return i
}

// certified is an identity whose key an authority certifies for a principal.
func certified(t *testing.T, ca ssh.Signer, principal string) identity {
	t.Helper()
	i := newIdentity(t)
	c := &ssh.Certificate{
		Key: i.PublicKey(), CertType: ssh.UserCert, ValidPrincipals: []string{principal},
		ValidBefore: ssh.CertTimeInfinity,
	}
	if err := c.SignCert(rand.Reader, ca); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(i.file+"-cert.pub", ssh.MarshalAuthorizedKey(c), 0o600); err != nil {
		t.Fatal(err)
	}
	return i
}

// letsIn reports whether OpenSSH's ssh is let in as a user, by the identity, or by the password of a machine's users
// where that is nil. What becomes of the session afterwards does not matter.
func letsIn(t *testing.T, port int, user string, by *identity) bool {
	t.Helper()
	args := []string{
		"-v", "-T", "-F", "none", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
		"-o", "GlobalKnownHostsFile=/dev/null", "-o", "IdentityAgent=none", "-o", "IdentitiesOnly=yes",
		"-o", "NumberOfPasswordPrompts=1", "-o", "KexAlgorithms=curve25519-sha256", "-p", fmt.Sprint(port),
	}
	cmd := exec.CommandContext(t.Context(), "ssh")
	cmd.Env = os.Environ()
	if by != nil {
		args = append(args, "-o", "BatchMode=yes", "-o", "PreferredAuthentications=publickey", "-i", by.file)
	} else {
		ask := filepath.Join(t.TempDir(), "ask")
		script := "#!/bin/sh\necho '" + sshdtest.MachinePassword + "'\n"
		if err := os.WriteFile(ask, []byte(script), 0o700); err != nil {
			t.Fatal(err)
		}
		args = append(args, "-o", "PreferredAuthentications=password", "-o", "PubkeyAuthentication=no")
		cmd.Env = append(cmd.Env, "SSH_ASKPASS="+ask, "SSH_ASKPASS_REQUIRE=force")
	}
	cmd.Args = append(append([]string{"ssh"}, args...), user+"@127.0.0.1", "true")
	said, _ := cmd.CombinedOutput() // its status is that of the session
	switch text := string(said); {
	case strings.Contains(text, "Authenticated to 127.0.0.1"):
		return true
	case strings.Contains(text, "Permission denied"), strings.Contains(text, "Too many authentication failures"):
		return false
	default:
		t.Fatalf("ssh as %s says neither:\n%s", user, text)
		return false
	}
}
