package sshio

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/sshio/sshdtest"
)

// credential is something that somebody tries to log in with.
type credential string

// The credentials: a key in the usual file, one in a file below /etc/ssh, one that a program names,
// certificates of an authority for the user and for another principal, and the password.
const (
	ofHome      credential = "key in ~/.ssh/authorized_keys"
	ofEtc       credential = "key in /etc/ssh/keys/%u"
	ofProgram   credential = "key that a program names"
	certificate credential = "certificate for the user"
	certOps     credential = "certificate for ops"
	password    credential = "password"
)

var credentials = []credential{ofHome, ofEtc, ofProgram, certificate, certOps, password}

// truths are settings of a real server and the files beside them.
var truths = []struct {
	name, config string
	files        []string // beside those that are always there
	// shut is whether nobody gets in, so that nothing can be read.
	shut bool
}{
	{name: "nothing set", config: "PasswordAuthentication no\n"},
	{name: "passwords", config: ""},
	{name: "keys elsewhere", config: "AuthorizedKeysFile /etc/ssh/keys/%u\nPasswordAuthentication no\n"},
	{name: "keys in both", config: "AuthorizedKeysFile .ssh/authorized_keys /etc/ssh/keys/%u\n"},
	{
		name:   "keys elsewhere, config for root alone",
		config: "AuthorizedKeysFile /etc/ssh/keys/%u\n",
		files:  []string{"secret"},
	},
	{name: "keys elsewhere by Include", config: "Include /etc/ssh/sshd_config.d/*.conf\n", files: []string{"include"}},
	{name: "keys elsewhere by a relative Include", config: "Include sshd_config.d/*.conf\n", files: []string{"include"}},
	{name: "an Include for root alone", config: "Include /etc/ssh/sshd_config.d/*.conf\n", files: []string{"include?"}},
	{name: "Match User", config: "Match User warden\nAuthorizedKeysFile /etc/ssh/keys/%u\nPasswordAuthentication no\n"},
	{name: "Match another User", config: "Match User other\nAuthorizedKeysFile /etc/ssh/keys/%u\n"},
	{name: "Match Group", config: "Match Group ops\nAuthorizedKeysFile /etc/ssh/keys/%u\nPasswordAuthentication no\n"},
	{
		name:   "Match Address of here",
		config: "PasswordAuthentication no\nMatch Address 127.0.0.0/8\nPasswordAuthentication yes\n",
	},
	{
		name:   "Match Address of elsewhere",
		config: "PasswordAuthentication no\nMatch Address 192.0.2.0/24\nPasswordAuthentication yes\n",
	},
	{name: "an authority", config: "TrustedUserCAKeys /etc/ssh/ca.pub\nPasswordAuthentication no\n"},
	{
		name: "an authority with principals",
		config: "TrustedUserCAKeys /etc/ssh/ca.pub\nAuthorizedPrincipalsFile /etc/ssh/principals\n" +
			"PasswordAuthentication no\n",
	},
	{
		name:   "an authority for root to read",
		config: "TrustedUserCAKeys /etc/ssh/ca-secret.pub\nPasswordAuthentication no\n",
		files:  []string{"ca?"},
	},
	{
		name:   "an authority by Match",
		config: "PasswordAuthentication no\nMatch User w*\nTrustedUserCAKeys /etc/ssh/ca.pub\n",
	},
	{
		name:   "a program",
		config: "AuthorizedKeysCommand /etc/ssh/program %u\nAuthorizedKeysCommandUser nobody\nPasswordAuthentication no\n",
	},
	{
		name:   "a program and no files",
		config: "AuthorizedKeysFile none\nAuthorizedKeysCommand /etc/ssh/program %u\nAuthorizedKeysCommandUser nobody\n",
	},
	{name: "a key and a password", config: "AuthenticationMethods publickey,password\n", shut: true},
	{name: "a revoked key", config: "RevokedKeys /etc/ssh/revoked\n", files: []string{"revoked"}},
	{name: "revoked keys for root to read", config: "RevokedKeys /etc/ssh/revoked\n", files: []string{"revoked?"}},
	{name: "some key types", config: "PubkeyAcceptedAlgorithms ssh-ed25519*,ecdsa-*\n"},
	{name: "keys alone by the methods", config: "AuthenticationMethods publickey\n"},
	{name: "no keys", config: "PubkeyAuthentication no\n", shut: true},
	{name: "AllowUsers of others", config: "AllowUsers other\n", shut: true},
	{name: "AllowUsers from here", config: "AllowUsers warden@127.0.0.1\nPasswordAuthentication no\n"},
	{name: "AllowGroups", config: "AllowGroups ops\nPasswordAuthentication no\n"},
	{name: "DenyUsers", config: "DenyUsers warden\n", shut: true},
	{name: "keyboard-interactive alone", config: "PasswordAuthentication no\nKbdInteractiveAuthentication yes\n"},
}

// TestNothingFalseIsSaidOfARealServer has every credential tried at a real server with each of the
// settings, and compares with what is read of it.
func TestNothingFalseIsSaidOfARealServer(t *testing.T) {
	if len(truths) < 25 {
		t.Fatal(len(truths))
	}
	reader, ca := newSigner(t), newSigner(t)
	home, etc, program := newIdentity(t), newIdentity(t), newIdentity(t)
	certForUser, certForOps := certified(t, ca, sshdtest.MachineUser), certified(t, ca, "ops")
	both := line(reader, "reader")
	tries := map[credential]*identity{
		ofHome: &home, ofEtc: &etc, ofProgram: &program, certificate: &certForUser, certOps: &certForOps, password: nil,
	}
	for _, c := range truths {
		t.Run(c.name, func(t *testing.T) {
			files := map[string]string{
				"/home/warden/.ssh/authorized_keys": both + line(home, "home"),
				"/etc/ssh/keys/warden":              both + line(etc, "etc"),
				"/etc/ssh/ca.pub":                   line(ca, "tide authority"),
				"/etc/ssh/principals":               "ops\n",
				"/etc/ssh/program*":                 "#!/bin/sh\ncat <<'E'\n" + both + line(program, "program") + "E\n",
			}
			for _, f := range c.files {
				switch f {
				case "include":
					files["/etc/ssh/sshd_config.d/50-keys.conf"] = "AuthorizedKeysFile /etc/ssh/keys/%u\nPasswordAuthentication no\n"
				case "include?":
					files["/etc/ssh/sshd_config.d/50-keys.conf?"] = "AuthorizedKeysFile /etc/ssh/keys/%u\n"
				case "revoked", "revoked?":
					files["/etc/ssh/"+f] = line(home, "home")
				case "ca?":
					files["/etc/ssh/ca-secret.pub?"] = line(ca, "secret authority")
				}
			}
			m := sshdtest.StartMachine(t, c.config, files)
			if slices.Contains(c.files, "secret") {
				m.Secret(t, "/etc/ssh/sshd_config")
			}
			target := Target{
				User: sshdtest.MachineUser, Address: "127.0.0.1", Port: m.Port, HostKeys: [][]byte{m.HostKey.Marshal()},
			}
			really := map[credential]bool{}
			for name, by := range tries {
				really[name] = letsIn(t, m.Port, sshdtest.MachineUser, by)
			}
			s, err := Login(t.Context(), target, reader)
			if c.shut {
				if err == nil {
					s.Close()
					t.Fatal("the reader gets in")
				}
				return // who cannot log in reads nothing, and so says nothing
			}
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			server, err := s.Server()
			if err != nil {
				t.Fatal(err)
			}
			read, err := s.ReadAll()
			if err != nil {
				t.Fatal(err)
			}
			said := saidOf(server, read, map[credential]ssh.PublicKey{ofHome: home.PublicKey(), ofEtc: etc.PublicKey()}, ca)
			for _, name := range credentials {
				switch {
				case really[name] && said[name] == sshdconfig.No:
					t.Errorf("the %s lets in, and nothing is said of it: %+v", name, server)
				case !really[name] && said[name] == sshdconfig.Yes:
					t.Errorf("the %s does not let in, and is said to: %+v", name, server)
				}
			}
			noteTruth(row{"settings: " + c.name, "as " + sshdtest.MachineUser, really, said, server.Unread})
		})
	}
}

// saidOf is which credentials let in by what was read: Maybe where that is said not to be known.
func saidOf(
	server reading.Server, files []RemoteFile, keys map[credential]ssh.PublicKey, ca ssh.Signer,
) map[credential]sshdconfig.Truth {
	said := map[credential]sshdconfig.Truth{}
	var read []reading.File
	for _, f := range files {
		read = append(read, reading.File{There: true, Content: f.Content})
	}
	lines := reading.Read(read, time.Now())
	server.Judge(lines)
	for name, key := range keys {
		for _, l := range lines.Keys {
			switch {
			case !bytes.Equal(l.Blob, key.Marshal()) || !l.Opens || server.KeysOff:
			case server.Doubt != "":
				said[name] = sshdconfig.Maybe
			default:
				said[name] = sshdconfig.Yes
			}
		}
	}
	if slices.Contains(server.Methods, sshdconfig.Password) {
		said[password] = sshdconfig.Yes
	}
	for _, a := range server.Authorities {
		if a.Fingerprint != ssh.FingerprintSHA256(ca.PublicKey()) {
			continue
		}
		said[certificate], said[certOps] = sshdconfig.Maybe, sshdconfig.Maybe
		if len(server.Principals) == 0 && server.PrincipalsCommand == "" {
			said[certificate], said[certOps] = sshdconfig.Yes, sshdconfig.No
		}
	}
	if server.AuthoritiesUnread != "" {
		said[certificate], said[certOps] = sshdconfig.Maybe, sshdconfig.Maybe
	}
	if server.KeysCommand != "" {
		said[ofProgram] = sshdconfig.Maybe
	}
	if len(server.Conditional) > 0 {
		for _, name := range credentials {
			if said[name] == sshdconfig.No && strings.Contains(fmt.Sprint(server.Conditional), "passwordauthentication") ==
				(name == password) {
				said[name] = sshdconfig.Maybe
			}
		}
	}
	if server.Unread != "" {
		for _, name := range credentials {
			said[name] = sshdconfig.Maybe
		}
	}
	return said
}
