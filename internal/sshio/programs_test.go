package sshio

import (
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/sshio/sshdtest"
)

// TestProgramsAreAskedAsTheServerAsksThem reads real servers whose settings name programs, as root and by sudo, and
// compares with the logins that they let in.
func TestProgramsAreAskedAsTheServerAsksThem(t *testing.T) {
	reader, ca, named := newSigner(t), newSigner(t), newIdentity(t)
	certified := certified(t, ca, "night-shift")
	script := func(lines string) string { return "#!/bin/sh\ntest \"$1\" = warden || exit 3\n" + lines }
	const byProgram = "PasswordAuthentication no\nAuthorizedKeysCommand /etc/ssh/program %u\n" +
		"AuthorizedKeysCommandUser nobody\n"
	const byPrincipals = "PasswordAuthentication no\nTrustedUserCAKeys /etc/ssh/ca.pub\n" +
		"AuthorizedPrincipalsCommand /etc/ssh/program %u\nAuthorizedPrincipalsCommandUser nobody\n"
	for name, c := range map[string]struct {
		config, program string
		sudo            string // of warden; "" to read as root
		keys, names     int
		unasked         string // a part of it
		enters          *identity
	}{
		"keys, as root": {
			config: byProgram, program: script("cat /etc/ssh/named\n"), keys: 2, enters: &named,
		},
		"keys, by sudo": {
			config: byProgram, program: script("cat /etc/ssh/named\n"), sudo: "warden ALL=(ALL) NOPASSWD: ALL\n", keys: 2,
			enters: &named,
		},
		"keys, by sudo for reading alone": {
			config: byProgram, program: script("cat /etc/ssh/named\n"),
			sudo: "warden ALL=(root) NOPASSWD: /usr/lib/openssh/sftp-server -R\n", unasked: "may not run it as nobody",
			enters: &named,
		},
		"a program without arguments": {
			config:  strings.Replace(byProgram, " %u", "", 1),
			program: script("cat /etc/ssh/named\n"), keys: 2, enters: &named,
		},
		"a program that depends on the key": {
			config:  strings.Replace(byProgram, "%u", "%u %f", 1),
			program: script("cat /etc/ssh/named\n"), unasked: "depend on the key", enters: &named,
		},
		"a program that fails": {config: byProgram, program: script("exit 4\n"), unasked: "asked, it failed"},
		"a program that hangs": {config: byProgram, program: "#!/bin/sh\nsleep 600\n", unasked: "did not answer"},
		"a program that writes without end": {
			config: byProgram, program: script("yes # nothing\n"), unasked: "asked, it failed",
		},
		"a program that others may change": {
			config: byProgram, program: script("cat /etc/ssh/named\n") + "# unsafe\n", unasked: "others than root",
		},
		"principals": {
			config: byPrincipals, program: script("echo night-shift; echo 'from=\"192.0.2.0/24\" ops'\n"), names: 2,
			enters: &certified,
		},
		"principals in a file": {
			config: "PasswordAuthentication no\nTrustedUserCAKeys /etc/ssh/ca.pub\n" +
				"AuthorizedPrincipalsFile /etc/ssh/principals/%u\n",
			program: script(""), names: 2, enters: &certified,
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			program := "/etc/ssh/program*"
			m := sshdtest.StartMachine(t, c.config+"Match User root\nAuthorizedKeysFile /etc/ssh/keys/%u\n", map[string]string{
				"/etc/ssh/keys/root":                line(reader, "reader"),
				"/home/warden/.ssh/authorized_keys": line(reader, "reader"),
				"/etc/ssh/ca.pub":                   line(ca, "authority"),
				"/etc/ssh/named":                    line(named, "named") + "command=\"/bin/true\" " + line(newSigner(t), "other"),
				"/etc/ssh/principals/warden":        "# who\nnight-shift\nops\n",
				program:                             c.program,
				"/etc/sudoers.d/warden":             c.sudo,
			})
			if strings.HasSuffix(c.program, "# unsafe\n") {
				m.Open(t, "/etc/ssh/program")
			}
			user := "root"
			if c.sudo != "" {
				user = sshdtest.MachineUser
			}
			target := Target{User: user, Address: "127.0.0.1", Port: m.Port, HostKeys: [][]byte{m.HostKey.Marshal()}}
			session, err := Login(t.Context(), target, reader)
			if err != nil {
				t.Fatal(err)
			}
			defer session.Close()
			read, err := session.Machine(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			server := read.Own
			if n := slices.IndexFunc(read.Others, func(o AccountFiles) bool { return o.Name == sshdtest.MachineUser }); n >= 0 {
				server = read.Others[n].Server
			}
			if len(server.NamedKeys) != c.keys || len(server.Names) != c.names {
				t.Errorf("named: %+v %v", server.NamedKeys, server.Names)
			}
			if why := server.KeysUnasked + server.PrincipalsUnasked; (why == "") != (c.unasked == "") ||
				!strings.Contains(why, c.unasked) {
				t.Errorf("not asked: %q, want %q", why, c.unasked)
			}
			if c.keys > 0 && (server.NamedKeys[0].Fingerprint != ssh.FingerprintSHA256(named.PublicKey()) ||
				server.NamedKeys[1].Limits == "") {
				t.Errorf("named: %+v", server.NamedKeys)
			}
			if ways := server.Ways(sshdtest.MachineUser); len(ways) == 0 {
				t.Error("no way in is told")
			} else if c.keys > 0 && !slices.ContainsFunc(ways, func(w reading.Way) bool {
				return w.Kind == reading.WayNamed && w.Name == server.NamedKeys[0].Fingerprint
			}) {
				t.Errorf("the named key is no way in: %+v", ways)
			}
			if strings.Contains(name, "hangs") || strings.Contains(name, "without end") {
				return // sshd waits for it as well
			}
			for what, id := range map[string]*identity{"the named key": &named, "the certificate": &certified} {
				if entered := letsIn(t, m.Port, sshdtest.MachineUser, id); entered != (c.enters == id) {
					t.Errorf("%s gets in: %v", what, entered)
				}
			}
		})
	}
}

func TestAProgramsWordsAreThoseOfTheServer(t *testing.T) {
	u := sshdconfig.User{Name: "warden", UID: 3001, Home: "/home/warden"}
	for config, want := range map[string]string{
		"AuthorizedKeysCommand /p\nAuthorizedKeysCommandUser nobody\n":                "/p warden as nobody",
		"AuthorizedKeysCommand /p %h %U %%\nAuthorizedKeysCommandUser keys\n":         "/p /home/warden 3001 % as keys",
		"AuthorizedPrincipalsCommand /p\nAuthorizedPrincipalsCommandUser nobody\n":    "/p as nobody",
		"AuthorizedPrincipalsCommand /p %i\nAuthorizedPrincipalsCommandUser nobody\n": sshdconfig.ErrOffered.Error(),
		"AuthorizedKeysCommand /p\n": sshdconfig.AuthorizedKeysCommandUser +
			" is not set, without which the server does not run it",
		"AuthorizedKeysCommand p\nAuthorizedKeysCommandUser nobody\n": "it has no absolute path",
		"AuthorizedKeysCommand none\n":                                " as ",
	} {
		parsed, _ := sshdconfig.Parse(sshdconfig.File{Path: ServerConfig, Content: []byte(config)}, nil)
		s, err := parsed.For(sshdconfig.Conn{User: u.Name})
		if err != nil {
			t.Fatal(err)
		}
		keyword := sshdconfig.AuthorizedKeysCommand
		if strings.Contains(config, "Principals") {
			keyword = sshdconfig.AuthorizedPrincipalsCommand
		}
		words, as, err := s.Program(keyword, u)
		got := strings.Join(words, " ") + " as " + as
		if err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%q: got %q, want %q", config, got, want)
		}
	}
}
