package sshdconfig_test

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/core/sshdconfig"
)

// asked is what is compared with what sshd says.
var asked = []string{
	"allowgroups", "allowusers", "authenticationmethods", "authorizedkeyscommand", "authorizedkeysfile",
	"authorizedprincipalscommand", "authorizedprincipalsfile", "chrootdirectory", "denygroups", "denyusers",
	"forcecommand", "gssapiauthentication", "hostbasedauthentication", "kbdinteractiveauthentication",
	"passwordauthentication", "permitemptypasswords", "permitrootlogin", "pubkeyauthentication", "revokedkeys",
	"strictmodes", "trustedusercakeys", "usepam",
}

// configs are configurations, each with what is included below DIR.
var configs = []struct {
	name, main string
	included   map[string]string
}{
	{name: "nothing", main: ""},
	{name: "a comment and blanks", main: "# PasswordAuthentication no\n\n   \t\n  # x\n"},
	{name: "the first counts", main: "PasswordAuthentication no\nPasswordAuthentication yes\n"},
	{name: "small and large letters", main: "pAsswordauthentication NO\n"},
	{name: "an equals sign", main: "PasswordAuthentication=no\nUsePAM = yes\nStrictModes\t=\tno\n"},
	{name: "carriage returns", main: "PasswordAuthentication no\r\nUsePAM yes\r\n"},
	{name: "no end of the last line", main: "PasswordAuthentication no"},
	{name: "a comment behind", main: "PasswordAuthentication no # for now\nAuthorizedKeysFile /k/%u # x\n"},
	{name: "the older name", main: "ChallengeResponseAuthentication no\n"},
	{name: "both names", main: "KbdInteractiveAuthentication yes\nChallengeResponseAuthentication no\n"},
	{name: "one keys file", main: "AuthorizedKeysFile /etc/ssh/keys/%u\n"},
	{name: "several keys files", main: "AuthorizedKeysFile .ssh/a .ssh/b /etc/ssh/keys/%u\n"},
	{name: "keys files of two lines", main: "AuthorizedKeysFile .ssh/a\nAuthorizedKeysFile .ssh/b\n"},
	{name: "a keys file in quotes", main: "AuthorizedKeysFile \"/etc/ssh keys/%u\" '.ssh/x'\n"},
	{name: "a backslash", main: `AuthorizedKeysFile /etc/a\ b/%u "/etc/\"q\""` + "\n"},
	{name: "no keys file", main: "AuthorizedKeysFile none\n"},
	{name: "tokens", main: "AuthorizedKeysFile %h/.ssh/k /k/%u /k/%U /k/%%\n"},
	{name: "a command for keys", main: "AuthorizedKeysCommand /usr/bin/keys %u %k\nAuthorizedKeysCommandUser nobody\n"},
	{name: "no command for keys", main: "AuthorizedKeysCommand none\n"},
	{name: "a certificate authority", main: "TrustedUserCAKeys /etc/ssh/ca.pub\n"},
	{name: "principals", main: "TrustedUserCAKeys /etc/ssh/ca.pub\nAuthorizedPrincipalsFile /etc/ssh/p/%u\n"},
	{
		name: "a command for principals",
		main: "AuthorizedPrincipalsCommand /usr/bin/p %i\nAuthorizedPrincipalsCommandUser nobody\n",
	},
	{name: "root with keys", main: "PermitRootLogin prohibit-password\n"},
	{name: "root with keys, the older word", main: "PermitRootLogin without-password\n"},
	{name: "root never", main: "PermitRootLogin no\nPermitRootLogin yes\n"},
	{name: "root with a command", main: "PermitRootLogin forced-commands-only\n"},
	{name: "methods", main: "AuthenticationMethods publickey,password publickey,keyboard-interactive\n"},
	{name: "host-based and GSSAPI", main: "HostbasedAuthentication yes\nGSSAPIAuthentication yes\n"},
	{name: "some users", main: "AllowUsers root daemon\nAllowUsers nobody\nDenyUsers games\n"},
	{name: "users from hosts", main: "AllowUsers root@10.0.0.0/8 *@host.example\n"},
	{name: "some groups", main: "AllowGroups root adm\nDenyGroups nogroup\n"},
	{name: "users in a block", main: "AllowUsers root\nMatch User daemon\n  AllowUsers daemon nobody\n"},
	{name: "users in two blocks", main: "Match User daemon\n AllowUsers a\nMatch Address 10.0.0.0/8\n AllowUsers b\n"},
	{name: "a block of one user", main: "Match User daemon\n  PasswordAuthentication no\n  AuthorizedKeysFile /d/%u\n"},
	{
		name: "a block goes before",
		main: "PasswordAuthentication yes\nMatch User root,daemon\n  PasswordAuthentication no\n",
	},
	{
		name: "the first block counts",
		main: "Match User d*\n PasswordAuthentication no\nMatch User daemon\n PasswordAuthentication yes\n",
	},
	{name: "all but one", main: "Match User *,!root\n  PasswordAuthentication no\n"},
	{name: "only exceptions", main: "Match User !root\n  PasswordAuthentication no\n"},
	{name: "a question mark", main: "Match User roo?\n  PasswordAuthentication no\n"},
	{name: "a group", main: "Match Group root\n  PasswordAuthentication no\n"},
	{name: "no group", main: "Match Group *,!nogroup\n  PasswordAuthentication no\n"},
	{name: "an address", main: "Match Address 10.1.2.3\n  PasswordAuthentication no\n"},
	{name: "a network", main: "Match Address 10.0.0.0/8,!10.1.2.3\n  PasswordAuthentication no\n"},
	{name: "a network of version 6", main: "Match Address fd00::/8\n  PasswordAuthentication no\n"},
	{name: "an address with a star", main: "Match Address 10.1.*\n  PasswordAuthentication no\n"},
	{name: "a host", main: "Match Host *.Example,!bad.example\n  PasswordAuthentication no\n"},
	{name: "a port", main: "Match LocalPort 2222\n  PasswordAuthentication no\n"},
	{name: "a local address", main: "Match LocalAddress 127.0.0.1\n  PasswordAuthentication no\n"},
	{name: "two conditions", main: "Match User root Address 10.0.0.0/8\n  PasswordAuthentication no\n"},
	{
		name: "two conditions with equals signs",
		main: "Match User=root Address=10.0.0.0/8\n  PasswordAuthentication no\n",
	},
	{name: "a condition in quotes", main: "Match User \"root\"\n  PasswordAuthentication no\n"},
	{name: "conditions and a comment", main: "Match User root # the owner\n  PasswordAuthentication no\n"},
	{
		name: "all",
		main: "Match User root\n  PasswordAuthentication no\nMatch all\n  PermitRootLogin no\n  PasswordAuthentication yes\n",
	},
	{name: "all goes before what is outside", main: "PermitRootLogin yes\nMatch all\n  PermitRootLogin no\n"},
	{
		name: "all at the start",
		main: "Match all\nPasswordAuthentication no\nAllowUsers root\nMatch User daemon\nAllowUsers daemon\n",
	},
	{
		name: "included first", main: "Include DIR/*.conf\nPasswordAuthentication yes\n",
		included: map[string]string{"50.conf": "PasswordAuthentication no\n"},
	},
	{
		name: "included last", main: "PasswordAuthentication yes\nInclude DIR/*.conf\n",
		included: map[string]string{"50.conf": "PasswordAuthentication no\n"},
	},
	{
		name: "in the order of their names", main: "Include DIR/*.conf\n",
		included: map[string]string{
			"b.conf": "PermitRootLogin no\n",
			"a.conf": "PermitRootLogin yes\n",
			"c.txt":  "UsePAM yes\n",
		},
	},
	{
		name: "two patterns", main: "Include DIR/b.conf DIR/a.conf\n",
		included: map[string]string{"b.conf": "PermitRootLogin no\n", "a.conf": "PermitRootLogin yes\nUsePAM yes\n"},
	},
	{name: "nothing to include", main: "Include DIR/*.none\nPasswordAuthentication no\n"},
	{
		name: "a block in what is included ends with it", main: "Include DIR/*.conf\nPasswordAuthentication no\n",
		included: map[string]string{"a.conf": "Match User daemon\n PermitRootLogin no\n", "b.conf": "UsePAM yes\n"},
	},
	{
		name:     "included from a block",
		main:     "Match User daemon\n  Include DIR/a.conf\nMatch User root\n  PasswordAuthentication no\n",
		included: map[string]string{"a.conf": "PermitRootLogin no\nPasswordAuthentication no\n"},
	},
	{
		name:     "a block in what a block includes",
		main:     "Match User daemon\n  Include DIR/a.conf\n  PermitEmptyPasswords yes\n",
		included: map[string]string{"a.conf": "PasswordAuthentication no\nMatch Address 10.0.0.0/8\n  PermitRootLogin no\n"},
	},
	{
		name: "included twice", main: "Include DIR/a.conf\nMatch User root\n  Include DIR/a.conf\n",
		included: map[string]string{"a.conf": "PasswordAuthentication no\n"},
	},
	{
		name: "included by what is included", main: "Include DIR/a.conf\n",
		included: map[string]string{
			"a.conf": "Include DIR/b.conf\nUsePAM no\n",
			"b.conf": "UsePAM yes\nMatch User root\nPermitRootLogin no\n",
		},
	},
	{
		name:     "between a block and its settings",
		main:     "Match User root\n  Include DIR/*.conf\n  PasswordAuthentication no\n",
		included: map[string]string{"a.conf": "Match User daemon\n  PermitRootLogin no\n"},
	},
	{
		name: "Debian's own",
		main: "Include DIR/*.conf\nKbdInteractiveAuthentication no\nUsePAM yes\nX11Forwarding yes\nPrintMotd no\n" +
			"AcceptEnv LANG LC_*\nSubsystem sftp /usr/lib/openssh/sftp-server\n",
		included: map[string]string{"50-cloud-init.conf": "PasswordAuthentication no\n"},
	},
	{
		name: "a chroot of some",
		main: "Match Group nogroup\n  ChrootDirectory /srv/%u\n  ForceCommand internal-sftp\n" +
			"  AuthorizedKeysFile /k/%u\n",
	},
}

// conns are who connects, as options of sshd -C and as they are asked about.
var conns = []struct {
	asked string
	conn  sshdconfig.Conn
}{
	{
		"user=root,host=a.example,addr=10.1.2.3,laddr=127.0.0.1,lport=22",
		sshdconfig.Conn{
			User: "root", Groups: []string{"root"}, GroupsKnown: true, Host: "a.example",
			Address: netip.MustParseAddr("10.1.2.3"), LocalAddress: netip.MustParseAddr("127.0.0.1"), LocalPort: 22,
		},
	},
	{
		"user=daemon,host=bad.example,addr=10.9.9.9,laddr=127.0.0.2,lport=2222",
		sshdconfig.Conn{
			User: "daemon", Groups: []string{"daemon"}, GroupsKnown: true, Host: "bad.example",
			Address: netip.MustParseAddr("10.9.9.9"), LocalAddress: netip.MustParseAddr("127.0.0.2"), LocalPort: 2222,
		},
	},
	{
		"user=nobody,host=c.test,addr=fd00::7,laddr=::1,lport=22",
		sshdconfig.Conn{
			User: "nobody", Groups: []string{"nogroup"}, GroupsKnown: true, Host: "c.test",
			Address: netip.MustParseAddr("fd00::7"), LocalAddress: netip.MustParseAddr("::1"), LocalPort: 22,
		},
	},
}

// TestSettingsAreThoseOfARealServer asks sshd -T of every configuration for every one who connects.
func TestSettingsAreThoseOfARealServer(t *testing.T) {
	const sshd = "/usr/sbin/sshd"
	if _, err := os.Stat(sshd); err != nil {
		t.Fatalf("%v: install openssh-server", err)
	}
	if len(configs) < 60 {
		t.Fatalf("%d configurations", len(configs))
	}
	if os.Getuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd asks for it also where it only tests
			t.Fatal(err)
		}
	}
	key := filepath.Join(t.TempDir(), "host")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for _, c := range configs {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			for name, text := range c.included {
				write(t, filepath.Join(dir, name), strings.ReplaceAll(text, "DIR", dir))
			}
			main := filepath.Join(dir, "sshd_config")
			write(t, main, strings.ReplaceAll(c.main, "DIR", dir))
			config := load(t, main)
			for _, who := range conns {
				cmd := exec.Command(sshd, "-T", "-f", main, "-h", key, "-C", who.asked)
				out, err := cmd.CombinedOutput()
				if err != nil {
					t.Fatalf("sshd: %v %s", err, out)
				}
				settings, err := config.For(who.conn)
				if err != nil {
					t.Fatal(err)
				}
				if len(settings.Conditional) > 0 {
					t.Errorf("%s: all is known, and yet this is conditional: %v", who.asked, settings.Conditional)
				}
				if differs := settings.Against(sshdconfig.ReadSaid(string(out)), asked...); differs != "" {
					t.Errorf("%s: %s", who.asked, differs)
				}
			}
		})
	}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// load reads a configuration with all that it includes.
func load(t *testing.T, path string) *sshdconfig.Config {
	t.Helper()
	content, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	included := map[string][]sshdconfig.File{}
	for {
		c, missing := sshdconfig.Parse(sshdconfig.File{Path: path, Content: content}, included)
		if len(missing) == 0 {
			return c
		}
		for _, pattern := range missing {
			found, err := filepath.Glob(pattern)
			if err != nil {
				t.Fatal(err)
			}
			slices.Sort(found)
			included[pattern] = []sshdconfig.File{}
			for _, f := range found {
				content, err := os.ReadFile(f)
				if err != nil {
					t.Fatal(err)
				}
				included[pattern] = append(included[pattern], sshdconfig.File{Path: f, Content: content})
			}
		}
	}
}

func ExampleConfig_For() {
	c, _ := sshdconfig.Parse(sshdconfig.File{Path: "/etc/ssh/sshd_config", Content: []byte(`
PasswordAuthentication no
Match User backup Address 10.0.0.0/8
	PasswordAuthentication yes
`)}, nil)
	s, _ := c.For(sshdconfig.Conn{User: "backup"})
	fmt.Println(s.On(sshdconfig.PasswordAuthentication))
	for _, d := range s.DependsOn(sshdconfig.PasswordAuthentication) {
		fmt.Println(d.Args[0], "if", d.Match)
	}
	// Output:
	// false
	// yes if User backup Address 10.0.0.0/8
}
